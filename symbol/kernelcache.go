package symbol

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"os"
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

// The packed form: how many functions, a checksum of the rest, the addresses,
// the places of the names, and the names, each ended by a line feed. It is
// little-endian, and is never read on another machine.
const packedKernel = 8

// pack returns the list's functions without what surrounds them.
func (k *Kernel) pack() []byte {
	le := binary.LittleEndian
	var text []byte
	b := make([]byte, packedKernel, packedKernel+len(k.lines)*40)
	for _, l := range k.lines {
		b = le.AppendUint64(b, l.addr)
	}
	for _, l := range k.lines {
		b = le.AppendUint32(b, uint32(len(text)))
		line := k.text[l.name:]
		if end := bytes.IndexByte(line, '\n'); end >= 0 {
			line = line[:end]
		}
		text = append(append(text, line...), '\n')
	}
	b = append(b, text...)
	le.PutUint32(b, uint32(len(k.lines)))
	le.PutUint32(b[4:], crc32.ChecksumIEEE(b[packedKernel:]))
	return b
}

// unpackKernel reads the packed form; ok is false where it is damaged.
func unpackKernel(b []byte) (k *Kernel, ok bool) {
	le := binary.LittleEndian
	if len(b) < packedKernel {
		return nil, false
	}
	n := int(le.Uint32(b))
	rest := b[packedKernel:]
	if n == 0 || n > len(rest)/12 || crc32.ChecksumIEEE(rest) != le.Uint32(b[4:]) {
		return nil, false
	}
	k = &Kernel{lines: make([]kernelLine, n), text: rest[12*n:]}
	for i := range k.lines {
		k.lines[i] = kernelLine{le.Uint64(rest[8*i:]), le.Uint32(rest[8*n+4*i:])}
		if int(k.lines[i].name) >= len(k.text) {
			return nil, false
		}
	}
	return k, true
}
