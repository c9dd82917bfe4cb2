package capture

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"entelon/capture/follow"
	"entelon/capture/pairing"
	"entelon/capture/rings"
	"entelon/core/measure"
	"entelon/linux/perf"
	"entelon/linux/procfs"
	"entelon/runtimes"
	"entelon/symbol/libraries"
	"entelon/unwind"
)

// The registers of the first six arguments, as C passes them and as Go does.
var (
	cArguments  = []int{unwind.RDI, unwind.RSI, unwind.RDX, unwind.RCX, unwind.R8, unwind.R9}
	goArguments = []int{unwind.RAX, unwind.RBX, unwind.RCX, unwind.RDI, unwind.RSI, unwind.R8}
)

// calls are the events of a measure that counts calls.
func (s *session) calls(m measure.Choice, c perf.Clock, column int) ([]*rings.Event, error) {
	var out []*rings.Event
	add := func(p follow.Entry, size []int) error {
		point, err := s.tracing.probe(p)
		if err != nil {
			return fmt.Errorf("%s: %w", p.Name, err)
		}
		a := c.Traced(point.ID, true)
		a.Sample_type &^= unix.PERF_SAMPLE_RAW
		x := &rings.Event{Attr: a, Role: rings.RoleCall, Column: column, Copied: c.StackBytes > 0}
		registers := cArguments
		if p.Go {
			registers = goArguments
		}
		for _, n := range size {
			x.Size = append(x.Size, registers[n-1])
		}
		for _, a := range m.Arguments() {
			x.Arguments = append(x.Arguments, rings.Argument{Name: a.Name, Register: registers[a.Number-1]})
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
			probes, err := follow.Entries(library[:1], a.Name)
			if err != nil {
				continue // older libraries lack some of them
			}
			for _, p := range probes {
				if p.Name == a.Name {
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
