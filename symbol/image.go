package symbol

import (
	"bytes"
	"debug/elf"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
)

// image is an ELF file that is mapped into memory, or is there anyway. Nothing
// of it is read before it is asked for.
type image struct {
	elf      *elf.File
	bytes    []byte
	mapped   bool
	unpacked map[string][]byte // sections that were compressed
	file     string            // names the file as it is now, "" for one that is in memory only
}

// compressionHeader is the size of Elf64_Chdr: type, reserved, size, alignment.
const compressionHeader = 24

// maxUnpacked bounds a compressed section, and maxRatio how much it may grow;
// the densest that zlib can make is 1032 to 1.
const (
	maxUnpacked = 4 << 30
	maxRatio    = 1100
)

// openImage maps a file. The file may be closed afterwards.
func openImage(f *os.File, path string) (*image, error) {
	b, err := mapFile(f)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, err)
	}
	im, err := newImage(b, path)
	if err != nil {
		return nil, errors.Join(err, unmapFile(b))
	}
	im.mapped = true
	im.file = fileState(f)
	return im, nil
}

func newImage(b []byte, path string) (im *image, err error) {
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
	return &image{elf: f, bytes: b, unpacked: map[string][]byte{}}, nil
}

func (im *image) close() error {
	if !im.mapped {
		return nil
	}
	im.mapped = false
	b := im.bytes
	im.bytes = nil
	return unmapFile(b)
}

// section returns the bytes of a section, in place where it is not
// compressed; nil where the file has none of that name, or has left it to
// another file.
func (im *image) section(name string) ([]byte, error) {
	s := im.elf.Section(name)
	if s == nil || s.Type == elf.SHT_NOBITS {
		return nil, nil
	}
	return im.content(s)
}

func (im *image) content(s *elf.Section) ([]byte, error) {
	if b, ok := im.unpacked[s.Name]; ok {
		return b, nil
	}
	if s.Offset > uint64(len(im.bytes)) || s.FileSize > uint64(len(im.bytes))-s.Offset {
		return nil, fmt.Errorf("section %s goes beyond the file", s.Name)
	}
	raw := im.bytes[s.Offset : s.Offset+s.FileSize]
	if s.Flags&elf.SHF_COMPRESSED == 0 {
		return raw, nil
	}
	if len(raw) < compressionHeader {
		return nil, fmt.Errorf("section %s has no compression header", s.Name)
	}
	order := im.elf.ByteOrder
	b, err := unpack(elf.CompressionType(order.Uint32(raw)), raw[compressionHeader:], order.Uint64(raw[8:]))
	if err != nil {
		return nil, fmt.Errorf("section %s: %w", s.Name, err)
	}
	im.unpacked[s.Name] = b
	return b, nil
}

// unpack unpacks a compressed section that says to have the given size then.
func unpack(typ elf.CompressionType, b []byte, size uint64) ([]byte, error) {
	if size > maxUnpacked || size/maxRatio > uint64(len(b)) {
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
		z, err := zstd.NewReader(bytes.NewReader(b), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxUnpacked))
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
