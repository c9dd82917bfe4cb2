// Package python reads the frames of CPython as they lay in memory at the
// moment of a sample: which functions were active, in which file, at which
// line, and which frames of the interpreter's own machine code they belong to.
//
// The way of one sample: a program in the kernel follows the interpreter's
// chain of frames by a Layout, and hands over one Entry a frame (record.go).
// The entries are cut into Runs, one for each time that C code entered the
// interpreter; a run carries an address on the C stack, and so replaces the
// one machine frame whose part of the stack holds that address. Code objects
// are read once each, when they are first met (code.go), and tell file and
// line from their location table (lines.go).
//
// Structures are those of the public source of CPython. From version 3.13 on
// the interpreter publishes the places of their fields (_Py_DebugOffsets at
// the beginning of _PyRuntime); 3.11 and 3.12 have them in this package.
//
// It holds nothing: what is decoded belongs to who asked.
package python

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Version is the interpreter's version, as PY_VERSION_HEX has it.
type Version uint32

// String returns major and minor version.
func (v Version) String() string { return fmt.Sprintf("%d.%d", v>>24, v>>16&0xff) }

// Minor returns the version without what does not change layouts.
func (v Version) minor() Version { return v &^ 0xffff }

// The versions whose frames are understood.
const (
	v311 Version = 0x030b << 16
	v312 Version = 0x030c << 16
	v313 Version = 0x030d << 16
	v314 Version = 0x030e << 16
	v315 Version = 0x030f << 16
)

// Layout says where the interpreter keeps what. All are offsets in bytes.
type Layout struct {
	Version      Version
	Interpreters uint64 // in _PyRuntime: the first interpreter
	NextInterp   uint64
	Threads      uint64 // in an interpreter: its first thread
	NextThread   uint64
	ThreadID     uint64 // in a thread: what the C library calls it, which is its thread pointer
	// Current is where a thread has its innermost frame; up to 3.12, where it
	// has the record on the C stack that has it (_PyCFrame).
	Current              uint64
	CFrame               bool   // a _PyCFrame is between
	InCFrame             uint64 // in it: the innermost frame; the next outer record is behind that
	Frame                FrameLayout
	Code                 CodeLayout
	Unicode              UnicodeLayout
	BytesSize, BytesData uint64 // of a bytes object
}

// FrameLayout is that of _PyInterpreterFrame.
type FrameLayout struct {
	Size     uint64 // without the local variables
	Code     uint64
	CodeMask uint64 // pointers have marks in their lowest bits since 3.14
	Previous uint64
	Instr    uint64
	Flags    uint64 // the eight bytes that hold owner and, in 3.11, is_entry
	Owner    uint64 // in those
	Entry    uint64 // in those
	Marked   bool   // frames are marked as entries (3.11); later versions put one between that the C stack owns
}

// CodeLayout is that of PyCodeObject.
type CodeLayout struct {
	Filename, Qualname, LineTable, FirstLine, Bytecode uint64
}

// UnicodeLayout is that of str objects.
type UnicodeLayout struct {
	Length, State, ASCII, Compact uint64 // the latter two: where the text begins
}

// layout311 is that of every 3.11, by the offsets of its own headers.
var layout311 = Layout{
	Version: v311, Interpreters: 40, NextInterp: 0, Threads: 16, NextThread: 8, ThreadID: 152,
	Current: 56, CFrame: true, InCFrame: 8,
	Frame:     FrameLayout{Size: 72, Code: 32, CodeMask: ^uint64(0), Previous: 48, Instr: 56, Flags: 64, Entry: 4, Owner: 5, Marked: true},
	Code:      CodeLayout{Filename: 112, Qualname: 128, LineTable: 136, FirstLine: 72, Bytecode: 184},
	Unicode:   UnicodeLayout{Length: 16, State: 32, ASCII: 48, Compact: 72},
	BytesSize: 16, BytesData: 32,
}

// layout312 is that of every 3.12, likewise.
var layout312 = Layout{
	Version: v312, Interpreters: 40, NextInterp: 0, Threads: 72, NextThread: 8, ThreadID: 136,
	Current: 56, CFrame: true, InCFrame: 0,
	Frame:     FrameLayout{Size: 72, Code: 0, CodeMask: ^uint64(0), Previous: 8, Instr: 56, Flags: 64, Owner: 6},
	Code:      CodeLayout{Filename: 112, Qualname: 128, LineTable: 136, FirstLine: 68, Bytecode: 192},
	Unicode:   UnicodeLayout{Length: 16, State: 32, ASCII: 40, Compact: 56},
	BytesSize: 16, BytesData: 32,
}

// ErrVersion is the error for a version whose layout is not known.
var ErrVersion = errors.New("its frames cannot be read")

// debugCookie is what the published offsets begin with.
const debugCookie = "xdebugpy"

// OffsetsSize is how much of _PyRuntime LayoutOf wants to see.
const OffsetsSize = 1024

// LayoutOf returns the layout of an interpreter. runtime are the first
// OffsetsSize bytes of its _PyRuntime, as they are in the file.
func LayoutOf(v Version, runtime []byte) (Layout, error) {
	switch v.minor() {
	case v311:
		return layout311, nil
	case v312:
		return layout312, nil
	}
	if len(runtime) < OffsetsSize || string(runtime[:8]) != debugCookie {
		return Layout{}, fmt.Errorf("CPython %s: %w: this version is not known, and it does not publish where its fields are", v, ErrVersion)
	}
	if published := Version(binary.LittleEndian.Uint64(runtime[8:])); published.minor() != v.minor() || v.minor() < v313 {
		return Layout{}, fmt.Errorf("CPython %s: %w: what it publishes is for %s", v, ErrVersion, published)
	}
	return published(v, runtime)
}

// places are where the published offsets have what is of use, as numbers of
// eight-byte words. Fields were added between them from version to version.
type places struct {
	thread, frame, code, bytes, unicode int
}

var publishedPlaces = map[Version]places{
	v313: {thread: 21, frame: 29, code: 35, bytes: 65, unicode: 68},
	v314: {thread: 24, frame: 32, code: 40, bytes: 75, unicode: 78},
	v315: {thread: 24, frame: 40, code: 48, bytes: 87, unicode: 90},
}

// published reads _Py_DebugOffsets.
func published(v Version, runtime []byte) (Layout, error) {
	at, ok := publishedPlaces[v.minor()]
	if !ok {
		return Layout{}, fmt.Errorf("CPython %s: %w: the order of what it publishes is not known", v, ErrVersion)
	}
	word := func(i int) uint64 { return binary.LittleEndian.Uint64(runtime[8*i:]) }
	l := Layout{
		Version: v, Interpreters: word(5), NextInterp: word(8), Threads: word(9),
		NextThread: word(at.thread), Current: word(at.thread + 2), ThreadID: word(at.thread + 3),
		Frame: FrameLayout{
			Previous: word(at.frame), Code: word(at.frame + 1), Instr: word(at.frame + 2), Size: word(at.frame + 3),
			Flags: word(at.frame+4) &^ 7, Owner: word(at.frame+4) & 7, CodeMask: ^uint64(0),
		},
		Code: CodeLayout{
			Filename: word(at.code), Qualname: word(at.code + 2), LineTable: word(at.code + 3),
			FirstLine: word(at.code + 4), Bytecode: word(at.code + 8),
		},
		BytesSize: word(at.bytes), BytesData: word(at.bytes + 1),
		Unicode: UnicodeLayout{State: word(at.unicode), Length: word(at.unicode + 1), ASCII: word(at.unicode + 2)},
	}
	if v.minor() >= v315 { // a field on the way
		l.ThreadID = word(at.thread + 6)
	}
	if v.minor() >= v314 {
		l.Frame.CodeMask = ^uint64(7)
	}
	l.Unicode.Compact = l.Unicode.ASCII + 16 // the text's UTF-8 form and its length are between
	return l, l.check()
}

// check refuses places that no structure of this kind can have, so that
// damaged ones are an error of the file and not nonsense in every stack.
func (l *Layout) check() error {
	f, c := &l.Frame, &l.Code
	ok := f.Size >= 32 && f.Size <= MaxFrame && f.Flags+8 <= MaxFrame && f.Previous+8 <= f.Size && f.Code+8 <= f.Size && f.Instr+8 <= f.Size
	for _, at := range []uint64{l.Interpreters, l.NextInterp, l.Threads, l.NextThread, l.ThreadID, l.Current, c.Filename, c.Qualname, c.LineTable, c.FirstLine, c.Bytecode} {
		ok = ok && at < 1<<20
	}
	ok = ok && l.Unicode.Length < 64 && l.Unicode.State < 64 && l.Unicode.ASCII < 128 && l.BytesSize < 64 && l.BytesData < 128
	if !ok {
		return fmt.Errorf("CPython %s: %w: what it publishes cannot be right", l.Version, ErrVersion)
	}
	return nil
}

// MaxFrame is the most that is read of one frame.
const MaxFrame = 96

// Published returns the version that an interpreter's _PyRuntime tells, 0
// where it tells none.
func Published(runtime []byte) Version {
	if len(runtime) < 16 || string(runtime[:8]) != debugCookie {
		return 0
	}
	return Version(binary.LittleEndian.Uint64(runtime[8:]))
}
