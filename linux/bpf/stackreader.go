// Package bpf has the programs that run in the kernel: one copies what a sampling
// event does not bring (other stacks, frames of an interpreter, labels), one counts
// calls. They are loaded for events that are opened elsewhere.
//
// A StackReader, PythonReader or Counter belongs to the goroutine that made it.
package bpf

import (
	"errors"
	"fmt"
	"sync"
	"unsafe"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/btf"
	"golang.org/x/sys/unix"

	"entelon/linux/perf"
)

// StackReader is the program with its maps and the events that it writes through.
type StackReader struct {
	program *ebpf.Program // once loading is closed
	loading chan struct{}
	loadErr error
	maps    struct {
		GoProcesses *ebpf.Map `ebpf:"go_processes"` // GoPlaces by process
		Scratch     *ebpf.Map `ebpf:"scratch"`
		Outputs     *ebpf.Map `ebpf:"outputs"` // an event for each processor
	}
	Python     *PythonReader
	Members    *Members
	o          StackOptions
	types      *btf.Spec
	frame      uint32                             // how much the kernel puts on a stack for a signal handler, at most
	samples    *ebpf.Map                          // nil: none are wanted
	usualFrame uint32                             // and for a thread without registers that are saved on request only
	traces     map[ebpf.ProgramType]*ebpf.Program // for tracepoints and for probes, once needed
	Events     []int
	IDs        map[uint64]bool // identifiers of the events
}

// ErrNotRoot says why no program was loaded.
var ErrNotRoot = errors.New("only root may load programs into the kernel")

// stacksObject is the object's content, which is read once and copied for each use.
var stacksObject = sync.OnceValues(loadStacks)

// ReadAhead reads the objects that NewStackReader needs, beside what else is done before it. An
// error comes again from there.
func ReadAhead() {
	for _, read := range []func() (*ebpf.CollectionSpec, error){stacksObject, framesObject, membersObject} {
		go func() { _, _ = read() }()
	}
}

// GoPlaces is what the program needs to know of a Go process (struct go_places).
type GoPlaces = stacksGoPlaces

// StackOptions say whose stacks are read.
type StackOptions struct {
	StackBytes int  // that the kernel copies itself
	Everyone   bool // there are no members: events are opened for all that run somewhere
	Only       bool // samples of the clock count only where they are of members
}

// NewStackReader opens the program's outputs and begins to load it: the kernel's check takes ten
// milliseconds or more, in which other things can be done. An error says why this machine or this
// user cannot; one about the program itself comes from Loaded.
func NewStackReader(cpus []int, types *btf.Spec, o StackOptions) (r *StackReader, err error) {
	r = &StackReader{o: o, IDs: map[uint64]bool{}, types: types, traces: map[ebpf.ProgramType]*ebpf.Program{}}
	defer func() {
		if err = ofRights(err); err != nil {
			err = errors.Join(err, r.Close())
		}
	}()
	if r.frame, r.usualFrame, err = signalFrameBytes(); err != nil {
		return r, err
	}
	spec, err := stacksObject()
	if err != nil {
		return r, err
	}
	spec = spec.Copy()
	last := 0
	for _, c := range cpus {
		last = max(last, c)
	}
	spec.Maps[stacksMapOutputs].MaxEntries = uint32(last + 1)
	if err := spec.LoadAndAssign(&r.maps, nil); err != nil {
		return r, err
	}
	for _, cpu := range cpus {
		if err := r.output(cpu); err != nil {
			return r, err
		}
	}
	if r.Python, err = newPythonReader(r.maps.Outputs, r.maps.Scratch, types); err != nil {
		return r, err
	}
	if r.Members, err = newMembers(types, o.Everyone); err != nil {
		return r, err
	}
	load, err := r.loader(ebpf.PerfEvent, o.StackBytes, true)
	if err != nil {
		return r, err
	}
	r.loading = make(chan struct{})
	go func() {
		defer close(r.loading)
		r.program, r.loadErr = load()
	}()
	return r, nil
}

// ofRights replaces the error of a missing right by one that says what is needed.
func ofRights(err error) error {
	if errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES) {
		return ErrNotRoot
	}
	return err
}

// Loaded waits for the program and says why there is none.
func (r *StackReader) Loaded() error {
	<-r.loading
	return ofRights(r.loadErr)
}

// load has the kernel check the program for a kind of event.
func (r *StackReader) load(kind ebpf.ProgramType, stackBytes int, all bool) (*ebpf.Program, error) {
	load, err := r.loader(kind, stackBytes, all)
	if err != nil {
		return nil, err
	}
	return load()
}

// loader prepares to load; what it returns uses nothing of the reader any more but its maps.
func (r *StackReader) loader(kind ebpf.ProgramType, stackBytes int, all bool) (func() (*ebpf.Program, error), error) {
	name := map[ebpf.ProgramType]string{
		ebpf.PerfEvent: stacksProgOtherStacks, ebpf.TracePoint: stacksProgOtherTracedTracepoint, ebpf.Kprobe: stacksProgOtherTracedKprobe,
		ebpf.RawTracepoint: stacksProgOtherSampled, ebpf.UnspecifiedProgram: stacksProgOtherProbed,
	}[kind]
	spec, err := stacksObject()
	if err != nil {
		return nil, err
	}
	spec = spec.Copy()
	spec.Maps[stacksMapOutputs].MaxEntries = r.maps.Outputs.MaxEntries()
	if err := errors.Join(
		spec.Variables[stacksVarStackBytes].Set(uint32(stackBytes)),
		spec.Variables[stacksVarAllOfTraced].Set(flag(all)),
		spec.Variables[stacksVarMembersOnly].Set(flag(r.o.Only)),
		spec.Variables[stacksVarSignalFrameBytes].Set(r.frame),
		spec.Variables[stacksVarSignalFrameUsual].Set(r.usualFrame),
	); err != nil {
		return nil, err
	}
	if r.samples != nil {
		spec.Maps[stacksMapSamples].MaxEntries = r.samples.MaxEntries()
	}
	maps := map[string]*ebpf.Map{
		stacksMapSamples: r.samples, stacksMapGoProcesses: r.maps.GoProcesses, stacksMapScratch: r.maps.Scratch, stacksMapOutputs: r.maps.Outputs,
		stacksMapPythonProcesses: r.Python.maps.Processes, stacksMapPythonScratch: r.Python.maps.Scratch, stacksMapPythonCalls: r.Python.calls[kind],
	}
	for name, m := range r.Members.shared(spec) {
		maps[name] = m
	}
	for name, m := range maps {
		if m == nil {
			delete(maps, name) // what needs it is not loaded
		}
	}
	return func() (*ebpf.Program, error) { return loadProgram(spec, name, r.types, maps) }, nil
}

// loadProgram loads one program of an object, of which only that is left, with maps that
// are there already.
func loadProgram(only *ebpf.CollectionSpec, name string, types *btf.Spec, maps map[string]*ebpf.Map) (*ebpf.Program, error) {
	for other := range only.Programs {
		if other != name {
			delete(only.Programs, other)
		}
	}
	for m := range only.Maps {
		if maps[m] == nil && m != ".rodata" {
			delete(only.Maps, m)
		}
	}
	for v, s := range only.Variables {
		if only.Maps[s.SectionName] == nil {
			delete(only.Variables, v) // of what is there for the sake of Go's constants
		}
	}
	c, err := ebpf.NewCollectionWithOptions(only, ebpf.CollectionOptions{
		MapReplacements: maps,
		Programs:        ebpf.ProgramOptions{KernelTypes: types},
	})
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return c.DetachProgram(name), nil
}

// output opens the event of one processor through which the program writes.
func (r *StackReader) output(cpu int) error {
	a := &unix.PerfEventAttr{
		Type: unix.PERF_TYPE_SOFTWARE, Config: unix.PERF_COUNT_SW_BPF_OUTPUT,
		Sample:      1,
		Sample_type: unix.PERF_SAMPLE_IDENTIFIER | unix.PERF_SAMPLE_TID | unix.PERF_SAMPLE_TIME | unix.PERF_SAMPLE_RAW,
		Bits:        unix.PerfBitUseClockID | unix.PerfBitWatermark,
		Wakeup:      perf.WakeBytes,
		Clockid:     unix.CLOCK_MONOTONIC,
	}
	a.Size = uint32(unsafe.Sizeof(*a))
	fd, err := unix.PerfEventOpen(a, -1, cpu, -1, unix.PERF_FLAG_FD_CLOEXEC)
	if err != nil {
		return fmt.Errorf("opening an output for processor %d: %w", cpu, err)
	}
	r.Events = append(r.Events, fd)
	id, err := perf.EventID(fd)
	if err != nil {
		return err
	}
	r.IDs[id] = true
	return r.maps.Outputs.Put(uint32(cpu), uint32(fd))
}

// Attach has the kernel run the program with every sample of an event.
func (r *StackReader) Attach(fd int) error {
	if err := r.Loaded(); err != nil {
		return err
	}
	if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_SET_BPF, r.program.FD()); err != nil {
		return fmt.Errorf("attaching to the sampling event: %w", err)
	}
	return nil
}

// flag is a condition as the programs have it.
func flag(b bool) uint32 {
	if b {
		return 1
	}
	return 0
}

// Traced returns the program that runs with a tracepoint or a probe that copies
// so much of a stack itself; all says that the program copies the rest.
func (r *StackReader) Traced(kind ebpf.ProgramType, stackBytes int, all bool) (*ebpf.Program, error) {
	if p := r.traces[kind]; p != nil {
		return p, nil
	}
	if kind == ebpf.RawTracepoint {
		if _, err := r.Samples(); err != nil {
			return nil, err
		}
		r.Python.samples = r.samples
	}
	if err := r.Python.want(kind); err != nil {
		return nil, err
	}
	p, err := r.load(kind, stackBytes, all)
	if err != nil {
		return nil, fmt.Errorf("loading the program that reads other stacks: %w", err)
	}
	r.traces[kind] = p
	return p, nil
}

// Probed returns the program that runs at many probes at once, and writes their samples.
func (r *StackReader) Probed(stackBytes int) (p *ebpf.Program, err error) {
	if p := r.traces[ebpf.UnspecifiedProgram]; p != nil {
		return p, nil
	}
	if _, err := r.Samples(); err != nil {
		return nil, err
	}
	if p, err = r.load(ebpf.UnspecifiedProgram, stackBytes, true); err != nil {
		return nil, fmt.Errorf("loading the program that reads other stacks: %w", err)
	}
	r.traces[ebpf.UnspecifiedProgram] = p
	return p, nil
}

// Samples returns where the events go, by processor, whose samples the kernel's programs write
// themselves: those that were not opened by what they stand for.
func (r *StackReader) Samples() (*ebpf.Map, error) {
	if r.samples != nil {
		return r.samples, nil
	}
	spec, err := stacksObject()
	if err != nil {
		return nil, err
	}
	one := spec.Copy().Maps[stacksMapSamples]
	one.MaxEntries = r.maps.Outputs.MaxEntries()
	r.samples, err = ebpf.NewMap(one)
	return r.samples, err
}

// Tell lets the program know that a process is of the Go runtime.
func (r *StackReader) Tell(pid uint32, p GoPlaces) error { return r.maps.GoProcesses.Put(pid, p) }

// Close removes its programs and maps.
func (r *StackReader) Close() error {
	var errs []error
	for _, fd := range r.Events {
		errs = append(errs, unix.Close(fd))
	}
	r.Events = nil
	if r.loading != nil {
		<-r.loading
	}
	if r.program != nil {
		errs = append(errs, r.program.Close())
	}
	for _, p := range r.traces {
		errs = append(errs, p.Close())
	}
	if r.Members != nil {
		errs = append(errs, r.Members.close())
	}
	errs = append(errs, r.Python.close(), closeMaps(r.maps.GoProcesses, r.maps.Scratch, r.maps.Outputs, r.samples))
	return errors.Join(errs...)
}

// closeMaps closes those that were made.
func closeMaps(maps ...*ebpf.Map) error {
	var errs []error
	for _, m := range maps {
		if m != nil {
			errs = append(errs, m.Close())
		}
	}
	return errors.Join(errs...)
}
