package programs

import (
	"errors"
	"os"
	"unsafe"

	"entelon/core/profile"
	"entelon/linux/bpf"
	"entelon/runtimes/python"
	"entelon/symbol"
)

// What the programs in the kernel copy is read by the packages of the runtimes, which
// know nothing of the kernel: sizes have to be the same on both sides.
var (
	_ [python.EntryBytes]byte = [unsafe.Sizeof(bpf.PythonEntry{})]byte{}
	_ [python.MaxFrame]byte   = [bpf.PythonFrameBytes]byte{}
	_ [python.NameBytes]byte  = [bpf.PythonNameBytes]byte{}
	_ [python.FileBytes]byte  = [bpf.PythonFileBytes]byte{}
	_ [python.TableBytes]byte = [bpf.PythonTableBytes]byte{}
)

// Teller tells the programs in the kernel what they need to know of a process.
type Teller struct{ Reader *bpf.StackReader }

// Golang has them read the stacks of a process of the Go runtime.
func (t Teller) Golang(pid uint32, g symbol.GoRuntime) error {
	return t.Reader.Tell(pid, bpf.GoPlaces{
		Tls: int64(g.TLS), M: uint64(g.M), Current: uint64(g.Current), Sched: uint64(g.Sched), Cgo: asNumber(g.Cgo),
		Labels: uint64(g.Labels), ClockPc: uint64(g.ClockPC), ClockSp: uint64(g.ClockSP),
	})
}

// Python has them read the frames of a process of CPython, see
// resolve.Processes.TellPython.
func (t Teller) Python(pid uint32, l *python.Layout, first uint64, relative bool) error {
	return t.Reader.Python.Tell(pid, bpf.PythonPlaces{
		First: first, Relative: asNumber(relative),
		NextInterpreter: l.NextInterp, Threads: l.Threads, NextThread: l.NextThread, ThreadId: l.ThreadID,
		Current: l.Current, HasCframe: asNumber(l.CFrame), InCframe: l.InCFrame, Marked: asNumber(l.Frame.Marked),
		FrameSize: min(l.Frame.Size, python.MaxFrame), Code: l.Frame.Code, CodeMask: l.Frame.CodeMask,
		Previous: l.Frame.Previous, Instruction: l.Frame.Instr, Flags: l.Frame.Flags, EntryShift: 8 * l.Frame.Entry,
		Filename: l.Code.Filename, FirstLine: l.Code.FirstLine, LineTable: l.Code.LineTable, TableLength: l.BytesSize, Qualname: l.Code.Qualname,
	})
}

// asNumber is how the programs are told of what is so or not.
func asNumber(is bool) uint64 {
	if is {
		return 1
	}
	return 0
}

// Begins lets them know of a process before it begins: all others are known from when
// they map their code. f is its executable; launched says that it did not begin yet.
func (t Teller) Begins(pid uint32, f *os.File, launched bool) error {
	o, err := symbol.OpenObject(f, f.Name(), profile.KindOwn, nil)
	if err != nil {
		return nil // a script; its interpreter is looked at when it is mapped
	}
	if g, ok := symbol.GoRuntimeOf(o); ok {
		err = t.Golang(pid, g)
	}
	if c := python.Find(o); c != nil && c.Err == nil && launched {
		err = errors.Join(err, t.Python(pid, &c.Layout, c.First-c.Start, true))
	}
	return errors.Join(err, o.Close())
}
