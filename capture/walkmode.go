package capture

import (
	"errors"
	"fmt"
	"os"
	"runtime"

	"github.com/cilium/ebpf/btf"

	"entelon/core/profile"
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/runtimes"
	"entelon/runtimes/python"
	"entelon/symbol"
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
func (s *session) chooseUnwind() error {
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
		if types, err = s.kernelTypes(); err == nil {
			s.other, err = bpf.NewStackReader(cpus, types, set.StackBytes)
		}
	}
	if err != nil {
		s.other, s.otherErr = nil, err
		if auto {
			set.StackBytes = LoneStackBytes
		}
		return
	}
	s.resolver.Processes.Tell = s.tellGo
	s.resolver.Processes.TellPython = s.tellPython
	for _, pid := range s.pids {
		exe := s.exe
		if s.command == nil {
			exe = fmt.Sprintf("/proc/%d/exe", pid)
		}
		if f, err := symbol.OpenRegular(runtimes.InterpreterOf(exe)); err == nil {
			s.tellRuntime(uint32(pid), f)
		}
	}
}

// tellRuntime lets the kernel program know of a Go process before it begins;
// all others are known from when they map their code.
func (s *session) tellRuntime(pid uint32, f *os.File) {
	o, err := symbol.OpenObject(f, f.Name(), profile.KindOwn, nil)
	if err != nil {
		return // a script; its interpreter is looked at when it is mapped
	}
	if g, ok := o.GoRuntime(); ok {
		err = s.tellGo(pid, g)
	}
	if c := python.Find(o); c != nil && c.Err == nil && s.command != nil {
		err = errors.Join(err, s.tellPython(pid, &c.Layout, c.First-c.Start, true))
	}
	s.resolver.Processes.TellErr = errors.Join(err, o.Close())
}

// kernelTypes returns what the kernel's programs need to know of its structures.
func (s *session) kernelTypes() (*btf.Spec, error) {
	if s.o.Finder == nil || s.o.Finder.Cache == nil {
		return bpf.KernelTypes(nil)
	}
	return bpf.KernelTypes(s.o.Finder.Cache)
}

func (s *session) closeOther() error {
	if s.other == nil {
		return nil
	}
	return s.other.Close()
}
