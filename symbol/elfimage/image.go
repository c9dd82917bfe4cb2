// Package elfimage holds ELF files as they lie in memory: mapped, with their sections
// unpacked when they are asked for. What a file says of itself is not believed: sizes are
// bounded, and reading one that is cut short meanwhile is a fault that the caller recovers
// from.
//
// An Image is not changed after it was opened and may be read by many goroutines.
package elfimage

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
)

// Image is an ELF file that is mapped into memory, or is there anyway. Nothing
// of it is read before it is asked for.
type Image struct {
	ELF      *elf.File
	Bytes    []byte
	mapped   bool
	unpacked map[string][]byte // sections that were compressed
	File     string            // names the file as it is now, "" for one that is in memory only
}

// compressionHeader is the size of Elf64_Chdr: type, reserved, size, alignment.
const compressionHeader = 24

// maxUnpacked bounds a compressed section, and maxRatio how much it may grow;
// the densest that zlib can make is 1032 to 1.
const (
	MaxUnpacked = 4 << 30
	maxRatio    = 1100
)

// OpenImage maps a file. The file may be closed afterwards.
func OpenImage(f *os.File, path string) (*Image, error) {
	b, err := MapFile(f)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, err)
	}
	im, err := NewImage(b, path)
	if err != nil {
		return nil, errors.Join(err, UnmapFile(b))
	}
	im.mapped = true
	im.File = fileState(f)
	return im, nil
}

func NewImage(b []byte, path string) (im *Image, err error) {
	defer func() {
		// The standard reader of ELF is not meant for hostile files.
		if p := recover(); p != nil {
			im, err = nil, fmt.Errorf("reading %s: the file is damaged: %v", path, p)
		}
	}()
	f, err := elf.NewFile(bytes.NewReader(b))
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, err)
	}
	return &Image{ELF: f, Bytes: b, unpacked: map[string][]byte{}}, nil
}

func (im *Image) Close() error {
	if !im.mapped {
		return nil
	}
	im.mapped = false
	b := im.Bytes
	im.Bytes = nil
	return UnmapFile(b)
}

// Section returns the bytes of a section, in place where it is not
// compressed; nil where the file has none of that name, or has left it to
// another file.
func (im *Image) Section(name string) ([]byte, error) {
	s := im.ELF.Section(name)
	if s == nil || s.Type == elf.SHT_NOBITS {
		return nil, nil
	}
	return im.Content(s)
}

func (im *Image) Content(s *elf.Section) ([]byte, error) {
	if b, ok := im.unpacked[s.Name]; ok {
		return b, nil
	}
	if s.Offset > uint64(len(im.Bytes)) || s.FileSize > uint64(len(im.Bytes))-s.Offset {
		return nil, fmt.Errorf("section %s goes beyond the file", s.Name)
	}
	raw := im.Bytes[s.Offset : s.Offset+s.FileSize]
	if s.Flags&elf.SHF_COMPRESSED == 0 {
		return raw, nil
	}
	if len(raw) < compressionHeader {
		return nil, fmt.Errorf("section %s has no compression header", s.Name)
	}
	order := im.ELF.ByteOrder
	b, err := Unpack(elf.CompressionType(order.Uint32(raw)), raw[compressionHeader:], order.Uint64(raw[8:]))
	if err != nil {
		return nil, fmt.Errorf("section %s: %w", s.Name, err)
	}
	im.unpacked[s.Name] = b
	return b, nil
}

// Unpack unpacks a compressed section that says to have the given size then.
func Unpack(typ elf.CompressionType, b []byte, size uint64) ([]byte, error) {
	if size > MaxUnpacked || size/maxRatio > uint64(len(b)) {
		return nil, fmt.Errorf("it says that its %d bytes unpack to %d", len(b), size)
	}
	var r io.Reader
	switch typ {
	case elf.COMPRESS_ZLIB:
		z, err := zlib.NewReader(bytes.NewReader(b))
		if err != nil {
			return nil, err
		}
		defer z.Close()
		r = z
	case elf.COMPRESS_ZSTD:
		z, err := zstd.NewReader(bytes.NewReader(b), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(MaxUnpacked))
		if err != nil {
			return nil, err
		}
		defer z.Close()
		r = z
	default:
		return nil, fmt.Errorf("it is compressed in the unknown way %d", typ)
	}
	out := make([]byte, size)
	if _, err := io.ReadFull(r, out); err != nil {
		return nil, fmt.Errorf("unpacking: %w", err)
	}
	return out, nil
}

// DebugSection returns the section of DWARF of that name, compressed in
// either of the two ways or not at all.
func (im *Image) DebugSection(name string) ([]byte, error) {
	if b, err := im.Section(".debug_" + name); b != nil || err != nil {
		return b, err
	}
	b, err := im.Section(".zdebug_" + name)
	if b == nil || err != nil {
		return nil, err
	}
	if len(b) < 12 || string(b[:4]) != "ZLIB" {
		return nil, fmt.Errorf("section .zdebug_%s has no length", name)
	}
	out, err := Unpack(elf.COMPRESS_ZLIB, b[12:], binary.BigEndian.Uint64(b[4:]))
	if err != nil {
		return nil, fmt.Errorf("section .zdebug_%s: %w", name, err)
	}
	return out, nil
}
