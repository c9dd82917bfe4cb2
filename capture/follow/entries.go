package follow

import (
	"errors"
	"fmt"
	"path/filepath"

	"entelon/linux"
	"entelon/symbol"
)

// Entry is where a function begins, at which its calls are counted.
type Entry struct {
	Path   string // of the file, as this process can open it
	Name   string
	Offset uint64
	Go     bool
	// The kernel does the instruction there itself, so that a probe costs less.
	Emulated bool
}

// Entries looks a function up in files; the first file that has it counts. Errors are ErrNoFunction and
// linux.ErrProbe.
func Entries(files []string, name string) (out []Entry, err error) {
	chooses := false
	for _, path := range files {
		err := within(path, func(o *symbol.Object) error {
			defined, err := symbol.FunctionsByName(o, name)
			for _, d := range defined {
				if d.Chooses {
					chooses = true
					continue
				}
				out = append(out, Entry{Path: path, Name: shownAs(d, name), Offset: d.Offset, Go: o.HasGoSection(), Emulated: emulates(o.Code(d.Offset))})
			}
			return err
		})
		switch {
		case errors.Is(err, errNotCode):
			continue
		case err != nil:
			return nil, err
		case len(out) > maxSpans:
			return nil, fmt.Errorf("%q means %d functions of %s; at most %d can be counted: %w", name, len(out), filepath.Base(path), maxSpans, linux.ErrProbe)
		case len(out) > 0:
			return out, nil
		}
	}
	if chooses {
		return nil, fmt.Errorf("%q is chosen among several versions when the program begins; name one of those: %w", name, linux.ErrProbe)
	}
	return nil, fmt.Errorf("%q: %w", name, ErrNoFunction)
}

// shownAs is a function's name for people, or the linker's where it was asked for by that.
func shownAs(d symbol.Defined, name string) string {
	if d.Linkage == name {
		return d.Linkage
	}
	return d.Name
}

// emulates reports whether the kernel does an instruction itself when a probe
// stands on it: pushing a register, doing nothing, jumping, calling.
func emulates(code []byte) bool {
	if len(code) < 2 {
		return false
	}
	b := code[0]
	if b >= 0x40 && b <= 0x4f && b&8 == 0 { // a prefix that changes only the register
		b = code[1]
	}
	return b >= 0x50 && b <= 0x57 || b == 0x90 || b == 0xe8 || b == 0xe9 || b == 0xeb || b >= 0x70 && b <= 0x7f
}
