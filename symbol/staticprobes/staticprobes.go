// Package staticprobes reads the notes in which a file describes its static probes: places that it passes
// for whoever wants to know.
package staticprobes

import (
	"bytes"
	"debug/elf"
	"errors"
	"fmt"
	"slices"

	"entelon/symbol/elfimage"
)

// Probe is a place of a file that its program names.
type Probe struct {
	Provider, Name string
	Offset         uint64 // of its instruction, which does nothing, in the file
	Wanted         uint64 // of a count of who wants it, in the file; 0: there is none
}

// Bounds of what a file says of its probes.
const (
	maxProbes      = 100_000
	longestProbe   = 200      // bytes of a name
	maxNotes       = 32 << 20 // bytes of a section
	probeNote      = 3        // the notes' type
	probeAddresses = 3        // that a note begins with: the place, where a base was, the count's
	noteHeader     = 12
)

// ErrDamaged is the error about a file whose notes are damaged.
var ErrDamaged = errors.New("what the file says of its probes is damaged")

// Of reads the notes in which a file describes its probes: three addresses and the texts of the
// provider, the name and the arguments, each of which ends with a zero byte. A note that names no place at
// which a probe can stand is left out, and wrong says how many those are.
func Of(im *elfimage.Image) (out []Probe, wrong int, err error) {
	for _, s := range im.ELF.Sections {
		// The other notes of this type, of a build's identity, are loaded with the program.
		if s.Type != elf.SHT_NOTE || s.Flags&elf.SHF_ALLOC != 0 || s.FileSize > maxNotes {
			continue
		}
		b, err := im.Content(s)
		if err != nil {
			return nil, 0, fmt.Errorf("%w: %w", ErrDamaged, err)
		}
		for len(b) >= noteHeader {
			name, desc, kind := im.ELF.ByteOrder.Uint32(b), im.ELF.ByteOrder.Uint32(b[4:]), im.ELF.ByteOrder.Uint32(b[8:])
			b = b[noteHeader:]
			from, to := padded(name), padded(name)+padded(desc)
			if to > uint64(len(b)) {
				return out, wrong, ErrDamaged
			}
			text := b[from : from+uint64(desc)]
			b = b[to:]
			if kind != probeNote {
				continue
			}
			p, ok := read(im, text)
			switch {
			case !ok:
				wrong++
			case len(out) >= maxProbes:
				return out, wrong, fmt.Errorf("%w: there are more than %d", ErrDamaged, maxProbes)
			default:
				out = append(out, p)
			}
		}
	}
	return out, wrong, nil
}

// padded is the room of so many bytes in a note.
func padded(n uint32) uint64 { return (uint64(n) + 3) &^ 3 }

// read reads one description.
func read(im *elfimage.Image, b []byte) (p Probe, ok bool) {
	if im.ELF.Class != elf.ELFCLASS64 || len(b) < 8*probeAddresses {
		return p, false
	}
	at, wanted := im.ELF.ByteOrder.Uint64(b), im.ELF.ByteOrder.Uint64(b[16:])
	texts := bytes.SplitN(b[8*probeAddresses:], []byte{0}, 3)
	if len(texts) < 3 || !named(texts[0]) || !named(texts[1]) {
		return p, false
	}
	p.Provider, p.Name = string(texts[0]), string(texts[1])
	var there bool
	if p.Offset, there = offsetIn(im, at, elf.PF_X); !there || !doesNothing(im.ELF.Machine, im.Bytes[min(p.Offset, uint64(len(im.Bytes))):]) {
		return p, false
	}
	if wanted != 0 {
		if p.Wanted, there = offsetIn(im, wanted, elf.PF_W); !there {
			return p, false
		}
	}
	return p, true
}

// offsetIn is where an address is in the file, if what is loaded there has a flag.
func offsetIn(im *elfimage.Image, addr uint64, flag elf.ProgFlag) (uint64, bool) {
	for _, p := range im.ELF.Progs {
		if p.Type == elf.PT_LOAD && p.Flags&flag != 0 && addr >= p.Vaddr && addr-p.Vaddr < p.Filesz {
			return addr - p.Vaddr + p.Off, true
		}
	}
	return 0, false
}

// named reports whether a text can be the name of a probe.
func named(b []byte) bool {
	return len(b) > 0 && len(b) <= longestProbe && !slices.ContainsFunc(b, func(c byte) bool { return c <= ' ' || c >= 0x7f })
}

// doesNothing reports whether an instruction is the one that stands at probes.
func doesNothing(m elf.Machine, code []byte) bool {
	switch m {
	case elf.EM_X86_64:
		return len(code) > 0 && code[0] == 0x90
	case elf.EM_AARCH64:
		return bytes.HasPrefix(code, []byte{0x1f, 0x20, 0x03, 0xd5})
	}
	return false
}
