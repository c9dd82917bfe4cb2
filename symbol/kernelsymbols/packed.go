package kernelsymbols

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"os"
	"runtime/debug"

	"entelon/symbol/cache"
	"entelon/symbol/elfimage"
)

// kernelKey changes with everything that moves the kernel's functions: a new
// start of the machine and other modules. It is "" where that cannot be told.
func kernelKey() string {
	boot, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	modules, err := os.ReadFile("/proc/modules")
	if err != nil && !os.IsNotExist(err) {
		return "" // a kernel without modules has no such file
	}
	return fmt.Sprintf("kallsyms-%x", sha256.Sum256(append(boot, modules...)))
}

// The packed form: how many functions, a checksum of the rest, the addresses, the
// places of the names, and the names, each ended by a line feed. It is little-endian,
// and is never read on another machine. It is used as it is, mapped from the cache's
// file: of a hundred thousand functions a take needs a few hundred.
type packedKernel []byte

const packedKernelHead = 8

func (k packedKernel) count() int { return int(binary.LittleEndian.Uint32(k)) }

// address returns where a function begins.
func (k packedKernel) address(i int) uint64 {
	return binary.LittleEndian.Uint64(k[packedKernelHead+8*i:])
}

// line returns a function's name and what follows it.
func (k packedKernel) line(i int) string {
	n := k.count()
	text := k[packedKernelHead+12*n:]
	at := binary.LittleEndian.Uint32(k[packedKernelHead+8*n+4*i:])
	if uint64(at) >= uint64(len(text)) {
		return ""
	}
	text = text[at:min(len(text), int(at)+512)]
	if end := bytes.IndexByte(text, '\n'); end >= 0 {
		text = text[:end]
	}
	return string(text)
}

// whole reports that nothing of it is damaged.
func (k packedKernel) whole() bool {
	if len(k) < packedKernelHead {
		return false
	}
	n, rest := k.count(), k[packedKernelHead:]
	return n > 0 && n <= len(rest)/12 && crc32.ChecksumIEEE(rest) == binary.LittleEndian.Uint32(k[4:])
}

// pack makes it of a list's functions, without what surrounds them.
func pack(text []byte, lines []kernelLine) packedKernel {
	le := binary.LittleEndian
	var names []byte
	b := make([]byte, packedKernelHead, packedKernelHead+len(lines)*40)
	for _, l := range lines {
		b = le.AppendUint64(b, l.addr)
	}
	for _, l := range lines {
		b = le.AppendUint32(b, uint32(len(names)))
		line := text[l.name:]
		if end := bytes.IndexByte(line, '\n'); end >= 0 {
			line = line[:end]
		}
		names = append(append(names, line...), '\n')
	}
	b = append(b, names...)
	le.PutUint32(b, uint32(len(lines)))
	le.PutUint32(b[4:], crc32.ChecksumIEEE(b[packedKernelHead:]))
	return b
}

// kept maps an entry that is a packed kernel; nil where there is none that can be used.
func kept(c *cache.Cache, key string) packedKernel {
	path := c.Find(key)
	if path == "" {
		return nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	b, err := elfimage.MapFile(f)
	if err != nil {
		return nil
	}
	// Should the file be cut short while it is read, that is a fault.
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	whole := func() (whole bool) {
		defer func() { whole = recover() == nil && whole }()
		return packedKernel(b).whole()
	}()
	if !whole {
		_ = elfimage.UnmapFile(b) // nothing refers to it
		return nil
	}
	return b
}
