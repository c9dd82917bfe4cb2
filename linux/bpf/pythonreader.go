package bpf

import (
	"errors"
	"fmt"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/asm"

	"entelon/runtimes/python"
)

// PythonReader are the programs that read CPython's frames, with their maps.
// They are loaded when the first process of that runtime is met, once for each
// kind of event that they run with: programs can only call others of their kind.
type PythonReader struct {
	places  *ebpf.Map // pythonPlaces by process
	scratch *ebpf.Map
	seen    *ebpf.Map                      // code objects that were read: what tells them apart, by process and address
	calls   map[ebpf.ProgramType]*ebpf.Map // the programs, by number
	outputs *ebpf.Map
	loaded  []*ebpf.Program
	met     bool // a process of that runtime was met
	err     error
}

func newPythonReader(outputs *ebpf.Map) (*PythonReader, error) {
	r := &PythonReader{outputs: outputs, calls: map[ebpf.ProgramType]*ebpf.Map{}}
	for _, m := range []struct {
		to   **ebpf.Map
		spec ebpf.MapSpec
	}{
		{&r.places, ebpf.MapSpec{Name: "python_places", Type: ebpf.LRUHash, KeySize: 4, ValueSize: placesBytes, MaxEntries: 4096}},
		{&r.scratch, ebpf.MapSpec{Name: "python_scratch", Type: ebpf.PerCPUArray, KeySize: 4, ValueSize: scratchPython, MaxEntries: 1}},
	} {
		made, err := ebpf.NewMap(&m.spec)
		if err != nil {
			return r, fmt.Errorf("preparing to read frames of CPython: %w", errors.Join(err, r.close()))
		}
		*m.to = made
	}
	return r, r.want(ebpf.PerfEvent)
}

// want has the programs loaded for a kind of event, too.
func (r *PythonReader) want(kind ebpf.ProgramType) error {
	if r.calls[kind] != nil {
		return nil
	}
	calls, err := ebpf.NewMap(&ebpf.MapSpec{Name: "python_calls", Type: ebpf.ProgramArray, KeySize: 4, ValueSize: 4, MaxEntries: callCount})
	if err != nil {
		return fmt.Errorf("preparing to read frames of CPython: %w", err)
	}
	r.calls[kind] = calls
	if r.met {
		return r.loadFor(kind)
	}
	return nil
}

// fds names the maps for the programs of a kind. That of the code objects is
// made with the programs that use it.
func (r *PythonReader) fds(kind ebpf.ProgramType) pythonMaps {
	m := pythonMaps{places: r.places.FD(), scratch: r.scratch.FD(), calls: r.calls[kind].FD(), outputs: r.outputs.FD()}
	if r.seen != nil {
		m.seen = r.seen.FD()
	}
	return m
}

// load has the kernel check the programs and makes them callable.
func (r *PythonReader) load() error {
	if r.met {
		return r.err
	}
	r.met = true
	r.seen, r.err = ebpf.NewMap(&ebpf.MapSpec{Name: "python_codes", Type: ebpf.LRUHash, KeySize: 16, ValueSize: 24, MaxEntries: 1 << 16})
	if r.err != nil {
		r.err = fmt.Errorf("preparing to read frames of CPython: %w", r.err)
	}
	for kind := range r.calls {
		if r.err == nil {
			r.err = r.loadFor(kind)
		}
	}
	return r.err
}

func (r *PythonReader) loadFor(kind ebpf.ProgramType) error {
	m := r.fds(kind)
	for number, code := range []asm.Instructions{callPythonStates: pythonStates(m), callPythonFrames: pythonFrames(m), callPythonCodes: pythonCodes(m)} {
		p, err := ebpf.NewProgram(&ebpf.ProgramSpec{Name: "python", Type: kind, License: "GPL", Instructions: code})
		if err != nil {
			return fmt.Errorf("loading the reader of CPython's frames: %w", err)
		}
		r.loaded = append(r.loaded, p)
		if err := r.calls[kind].Put(uint32(number), uint32(p.FD())); err != nil {
			return fmt.Errorf("loading the reader of CPython's frames: %w", err)
		}
	}
	return nil
}

// Tell lets the programs know that a process runs CPython. first is the
// address of the interpreter's pointer to its first interpreter state, or
// where relative is set its distance from where the process's code begins.
func (r *PythonReader) Tell(pid uint32, l *python.Layout, first uint64, relative bool) error {
	if err := r.load(); err != nil {
		return err
	}
	p := placesOf(l, first, relative)
	if err := r.places.Put(pid, p); err != nil {
		return fmt.Errorf("telling of a process of CPython: %w", err)
	}
	return nil
}

func (r *PythonReader) close() error {
	if r == nil {
		return nil
	}
	var errs []error
	for _, p := range r.loaded {
		errs = append(errs, p.Close())
	}
	for _, m := range r.calls {
		errs = append(errs, m.Close())
	}
	for _, m := range []*ebpf.Map{r.places, r.scratch, r.seen} {
		if m != nil {
			errs = append(errs, m.Close())
		}
	}
	return errors.Join(errs...)
}
