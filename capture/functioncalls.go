package capture

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"entelon/capture/pairing"
	"entelon/capture/rings"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/linux/perf"
	"entelon/linux/procfs"
	"entelon/runtimes"
	"entelon/symbol"
	"entelon/symbol/elfimage"
	"entelon/symbol/libraries"
	"entelon/unwind"
)

// The registers of the first six arguments, as C passes them and as Go does.
var (
	cArguments  = []int{unwind.RDI, unwind.RSI, unwind.RDX, unwind.RCX, unwind.R8, unwind.R9}
	goArguments = []int{unwind.RAX, unwind.RBX, unwind.RCX, unwind.RDI, unwind.RSI, unwind.R8}
)

// probe is a place to count calls at.
type probe struct {
	path   string // of the file, as this process can open it
	name   string
	offset uint64
	golang bool
	// The kernel does the instruction there itself, so that a probe costs less.
	emulated bool
}

// calls are the events of a measure that counts calls.
func (s *session) calls(m measure.Choice, c perf.Clock, column int) ([]*rings.Event, error) {
	var out []*rings.Event
	add := func(p probe, size []int) error {
		point, err := s.tracing.probe(p)
		if err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		a := c.Traced(point.ID, true)
		a.Sample_type &^= unix.PERF_SAMPLE_RAW
		x := &rings.Event{Attr: a, Role: rings.RoleCall, Column: column, Copied: c.StackBytes > 0}
		registers := cArguments
		if p.golang {
			registers = goArguments
		}
		for _, n := range size {
			x.Size = append(x.Size, registers[n-1])
		}
		out = append(out, x)
		return nil
	}
	if m.Kind == measure.Allocations && m.Of == "" {
		library, err := s.files(func(path string) bool { return strings.HasPrefix(filepath.Base(path), "libc.so") })
		if err != nil {
			return nil, err
		}
		if len(library) == 0 {
			return nil, fmt.Errorf("the program does not use a C library of its own file; name its allocator as allocations:FUNCTION: %w", ErrNoFunction)
		}
		for _, a := range pairing.Allocators {
			probes, err := findProbes(library[:1], a.Name)
			if err != nil {
				continue // older libraries lack some of them
			}
			for _, p := range probes {
				if p.name == a.Name {
					if err := add(p, a.Size); err != nil {
						return nil, err
					}
					out[len(out)-1].Allocator = true
				}
			}
		}
		return out, nil
	}
	files, err := s.files(nil)
	if err != nil {
		return nil, err
	}
	probes, warning, err := probesOf(files, m.Of)
	if err != nil {
		return nil, err
	}
	if warning != nil {
		s.facts.Warn(warning.Code, warning.Text, warning.Remedy)
	}
	for _, p := range probes {
		var size []int
		if m.Kind == measure.Allocations {
			size = []int{m.Argument}
		}
		if err := add(p, size); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// files are the program's own file and the libraries that it uses: those that
// a running process has mapped, or those that the loader will find for a
// command. keep may be nil.
func (s *subject) files(keep func(path string) bool) ([]string, error) {
	var all []string
	if s.command == nil {
		for _, pid := range s.pids {
			for _, path := range procfs.MappedFiles(pid) {
				all = append(all, fmt.Sprintf("/proc/%d/root%s", pid, path))
			}
		}
	} else {
		all = libraries.NeededFiles(runtimes.InterpreterOf(s.exe))
	}
	var out []string
	seen := map[string]bool{}
	for _, path := range all {
		real, err := os.Stat(path)
		if err != nil {
			continue // gone meanwhile
		}
		key := fmt.Sprint(real.Sys())
		if seen[key] || keep != nil && !keep(path) {
			continue
		}
		seen[key] = true
		out = append(out, path)
	}
	return out, nil
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

// findProbes looks a function up in files; the first file that has it counts.
func findProbes(files []string, name string) ([]probe, error) {
	chooses := false
	for _, path := range files {
		f, err := elfimage.OpenRegular(path)
		if err != nil {
			continue
		}
		o, err := symbol.OpenObject(f, path, profile.KindOwn, nil)
		if err != nil {
			continue // not a file of code
		}
		defined, err := symbol.FunctionsByName(o, name)
		golang := o.HasGoSection()
		if err != nil {
			return nil, errors.Join(err, o.Close())
		}
		var out []probe
		for _, d := range defined {
			if d.Chooses {
				chooses = true
				continue
			}
			shown := d.Name
			if d.Linkage == name {
				shown = d.Linkage
			}
			out = append(out, probe{path: path, name: shown, offset: d.Offset, golang: golang, emulated: emulates(o.Code(d.Offset))})
		}
		if err := o.Close(); err != nil {
			return nil, err
		}
		const most = 256
		if len(out) > most {
			return nil, fmt.Errorf("%q means %d functions of %s; at most %d can be counted: %w", name, len(out), filepath.Base(path), most, ErrProbe)
		}
		if len(out) > 0 {
			return out, nil
		}
	}
	if chooses {
		return nil, fmt.Errorf("%q is chosen among several versions when the program begins; name one of those: %w", name, ErrProbe)
	}
	return nil, fmt.Errorf("%q: %w", name, ErrNoFunction)
}
