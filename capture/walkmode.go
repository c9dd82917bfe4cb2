package capture

import (
	"errors"
	"fmt"
	"runtime"

	"github.com/cilium/ebpf/btf"

	"entelon/capture/programs"
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/runtimes"
	"entelon/symbol"
	"entelon/symbol/elfimage"
)

// How much of the stack is copied. A record of the kernel has at most 64 KiB,
// and the call chain needs some of it. Where deeper stacks can be told from
// others at the moment of the sample, only those cost more.
const (
	DefaultStackBytes = 4 << 10  // where more is copied of a deeper stack
	LoneStackBytes    = 24 << 10 // where it is not
	MaxStackBytes     = 62 << 10
	minStackBytes     = 512
)

// chooseUnwind settles how stacks are walked.
func (s *terms) chooseUnwind() error {
	set := &s.o.Settings
	if set.Unwind == "" {
		set.Unwind = UnwindTables
	}
	switch {
	case set.Unwind == UnwindFramePointers || runtime.GOARCH != "amd64":
		set.Unwind, set.StackBytes = UnwindFramePointers, 0
	case set.Unwind != UnwindTables:
		return fmt.Errorf("%q: %w", set.Unwind, ErrUnwind)
	case set.StackBytes == 0:
	case set.StackBytes < minStackBytes || set.StackBytes > MaxStackBytes:
		return fmt.Errorf("%d bytes: %w", set.StackBytes, ErrStackBytes)
	}
	set.StackBytes &^= 7 // the kernel copies whole words
	return nil
}

// openOther prepares to read stacks that a thread left behind. Where that is
// not allowed, everything else works, and cut-off stacks say so.
func (s *session) openOther() {
	set := &s.o.Settings
	if set.Unwind != UnwindTables {
		return
	}
	auto := set.StackBytes == 0
	if auto {
		set.StackBytes = DefaultStackBytes
	}
	cpus, err := perf.Processors()
	if err == nil {
		var types *btf.Spec
		if types, err = kernelTypes(s.o.Finder); err == nil {
			s.other, err = bpf.NewStackReader(cpus, types, bpf.StackOptions{StackBytes: set.StackBytes, Everyone: s.wide(), Only: s.suitsProcessors()})
		}
	}
	if err != nil {
		s.other, s.otherErr = nil, err
		if auto {
			set.StackBytes = LoneStackBytes
		}
		return
	}
	s.lone = auto
	tell := programs.Teller{Reader: s.other}
	s.resolver.Processes.Tell = tell.Golang
	s.resolver.Processes.TellPython = tell.Python
	for _, pid := range s.pids {
		exe := s.exe
		if s.command == nil {
			exe = fmt.Sprintf("/proc/%d/exe", pid)
		}
		if f, err := elfimage.OpenRegular(runtimes.InterpreterOf(exe)); err == nil {
			s.resolver.Processes.TellErr = tell.Begins(uint32(pid), f, s.command != nil)
		}
	}
}

// withoutOther gives that program up, if the kernel refused it, and what was opened for it; the
// events are to be opened once more then.
func (s *session) withoutOther() bool {
	if s.other == nil {
		return false
	}
	refused := s.other.Loaded()
	if refused == nil {
		return false
	}
	if s.target != nil {
		refused = errors.Join(refused, s.target.Close())
		s.target = nil
	}
	refused = errors.Join(refused, s.closeOther())
	s.other, s.otherErr = nil, refused
	s.resolver.Processes.Tell, s.resolver.Processes.TellPython = nil, nil
	if s.lone {
		s.o.Settings.StackBytes = LoneStackBytes
	}
	return true
}

// kernelTypes returns what the kernel's programs need to know of its structures.
func kernelTypes(f *symbol.Finder) (*btf.Spec, error) {
	if f == nil || f.Cache == nil {
		return bpf.KernelTypes(nil)
	}
	return bpf.KernelTypes(f.Cache)
}
