package take

import (
	"bufio"
	"errors"
	"hash/crc32"
	"io"
)

// allowance is what may still come of a file. A few bytes unpack to many entries, so
// what counts is the memory of the entries, before they are made.
type allowance struct {
	left    int64 // bytes of memory
	deepest int32 // frames of a stack
	depth   []int32
}

var (
	errNoRoom = errors.New("it needs more memory than is allowed")
	errDeep   = errors.New("it has a stack that is deeper than is allowed")
)

// take takes some bytes, or reports that so many are not left.
func (r *allowance) take(bytes int64) bool {
	if bytes < 0 || bytes > r.left {
		return false
	}
	r.left -= bytes
	return true
}

// deeper notes stack i, whose parent is so many before it, and reports whether
// it is not too deep. The first stack of all is the empty one.
func (r *allowance) deeper(i, back uint64) bool {
	var d int32
	if back > 0 && i > 0 {
		d = r.depth[i-back] + 1
	}
	r.depth = append(r.depth, d)
	return d <= r.deepest
}

// Memory estimates, from how many bytes a file's blocks unpack to, the bytes of
// memory that reading it takes at most: a sample of one measure is four bytes at
// least and 28 in memory, and columns that grow have twice their length for a
// moment.
func Memory(unpacked int64) int64 { return 14*unpacked + 8<<20 }

// Unpacked adds up, from the heads of a file's blocks alone, how many bytes they
// unpack to, and leaves r at the file's beginning. What is wrong with a file is
// left to Read to tell.
func Unpacked(r io.ReadSeeker) (n int64, err error) {
	if _, err := r.Seek(fileHeaderSize, io.SeekStart); err != nil {
		return 0, err
	}
	for {
		var b [blockHeaderSize]byte
		if _, err := io.ReadFull(r, b[:]); err != nil {
			break
		}
		h, ok := decodeBlockHeader(&b)
		if !ok {
			break
		}
		n += int64(h.raw)
		if _, err := r.Seek(int64(h.stored), io.SeekCurrent); err != nil {
			return 0, err
		}
	}
	_, err = r.Seek(0, io.SeekStart)
	return n, err
}

// WholeBlocks returns how many bytes at a file's beginning are its header and whole
// blocks, whose checksums fit.
func WholeBlocks(r io.Reader) (n int64, err error) {
	in := bufio.NewReaderSize(r, 1<<20)
	var head [fileHeaderSize]byte
	if _, err := io.ReadFull(in, head[:]); err != nil {
		return 0, ended(err)
	}
	n = fileHeaderSize
	for {
		var b [blockHeaderSize]byte
		if _, err := io.ReadFull(in, b[:]); err != nil {
			return n, ended(err)
		}
		h, ok := decodeBlockHeader(&b)
		if !ok {
			return n, nil
		}
		sum := crc32.New(castagnoli)
		if _, err := io.CopyN(sum, in, int64(h.stored)); err != nil {
			return n, ended(err)
		}
		if sum.Sum32() != h.sum {
			return n, nil
		}
		n += blockHeaderSize + int64(h.stored)
	}
}

// ended is an error but for the end of a file.
func ended(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil
	}
	return err
}
