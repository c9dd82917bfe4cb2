// Package bpf has the programs that run in the kernel: one copies what a sampling
// event does not bring (other stacks, frames of an interpreter, labels), one counts
// calls. They are loaded for events that are opened elsewhere.
//
// A StackReader, PythonReader or Counter belongs to the goroutine that made it.
package bpf

import (
	"errors"
	"fmt"
	"unsafe"

	"github.com/cilium/ebpf"
	"golang.org/x/sys/unix"

	"entelon/linux/perf"
	"entelon/symbol"
)

// StackReader is the program with its maps and the events that it writes through.
type StackReader struct {
	program *ebpf.Program
	runtime *ebpf.Map // goPlaces by process
	scratch *ebpf.Map
	outputs *ebpf.Map // an event for each processor
	Python  *PythonReader
	places  KernelOffsets
	traces  map[ebpf.ProgramType]*ebpf.Program // for tracepoints and for probes, once needed
	Events  []int
	IDs     map[uint64]bool // identifiers of the events
}

// goPlaces is what the program needs to know of a Go process; all are offsets.
type goPlaces struct {
	TLS     int64
	M       uint64
	Current uint64
	Sched   uint64
	Cgo     uint64
	Labels  uint64 // 0: the program gives none
	ClockPC uint64 // 0: not known
	ClockSP uint64
}

// goPlacesBytes is how many bytes the program reads of it.
const goPlacesBytes = 64

// Where its fields are, for the program in the kernel.
const (
	goPlaceTLS     = 0
	goPlaceM       = 8
	goPlaceCurrent = 16
	goPlaceSched   = 24
	goPlaceCgo     = 32
	goPlaceLabels  = 40
	goPlaceClockPC = 48
	goPlaceClockSP = 56
)

// NewStackReader loads the program and opens its outputs. An error says why
// this machine or this user cannot. stackBytes is what the kernel copies itself.
func NewStackReader(cpus []int, o KernelOffsets, stackBytes int) (r *StackReader, err error) {
	r = &StackReader{IDs: map[uint64]bool{}, places: o, traces: map[ebpf.ProgramType]*ebpf.Program{}}
	defer func() {
		if err != nil {
			err = errors.Join(err, r.Close())
		}
	}()
	last := 0
	for _, c := range cpus {
		last = max(last, c)
	}
	if r.runtime, err = ebpf.NewMap(&ebpf.MapSpec{Name: "go_places", Type: ebpf.LRUHash, KeySize: 4, ValueSize: goPlacesBytes, MaxEntries: 4096}); err != nil {
		return r, err
	}
	if r.scratch, err = ebpf.NewMap(&ebpf.MapSpec{Name: "scratch", Type: ebpf.PerCPUArray, KeySize: 4, ValueSize: scratchBytes, MaxEntries: 1}); err != nil {
		return r, err
	}
	if r.outputs, err = ebpf.NewMap(&ebpf.MapSpec{Name: "outputs", Type: ebpf.PerfEventArray, KeySize: 4, ValueSize: 4, MaxEntries: uint32(last + 1)}); err != nil {
		return r, err
	}
	for _, cpu := range cpus {
		if err := r.output(cpu); err != nil {
			return r, err
		}
	}
	if r.Python, err = newPythonReader(r.outputs); err != nil {
		return r, err
	}
	r.program, err = ebpf.NewProgram(&ebpf.ProgramSpec{
		Name: "other_stacks", Type: ebpf.PerfEvent, License: "GPL",
		Instructions: stackProgram(o, stackBytes, r.runtime.FD(), r.scratch.FD(), r.Python.fds(ebpf.PerfEvent)),
	})
	return r, err
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
	return r.outputs.Put(uint32(cpu), uint32(fd))
}

// Attach has the kernel run the program with every sample of an event.
func (r *StackReader) Attach(fd int) error {
	if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_SET_BPF, r.program.FD()); err != nil {
		return fmt.Errorf("attaching to the sampling event: %w", err)
	}
	return nil
}

// Traced returns the program that runs with a tracepoint or a probe that copies
// so much of a stack itself.
func (r *StackReader) Traced(kind ebpf.ProgramType, stackBytes int) (*ebpf.Program, error) {
	if p := r.traces[kind]; p != nil {
		return p, nil
	}
	if err := r.Python.want(kind); err != nil {
		return nil, err
	}
	p, err := ebpf.NewProgram(&ebpf.ProgramSpec{
		Name: "other_traced", Type: kind, License: "GPL",
		Instructions: tracedProgram(r.places, stackBytes, r.runtime.FD(), r.scratch.FD(), r.Python.fds(kind)),
	})
	if err != nil {
		return nil, fmt.Errorf("loading the program that reads other stacks: %w", err)
	}
	r.traces[kind] = p
	return p, nil
}

// Tell lets the program know that a process is of the Go runtime.
func (r *StackReader) Tell(pid uint32, g symbol.GoRuntime) error {
	p := goPlaces{TLS: int64(g.TLS), M: uint64(g.M), Current: uint64(g.Current), Sched: uint64(g.Sched), Labels: uint64(g.Labels), ClockPC: uint64(g.ClockPC), ClockSP: uint64(g.ClockSP)}
	if g.Cgo {
		p.Cgo = 1
	}
	return r.runtime.Put(pid, p)
}

// Close removes its programs and maps.
func (r *StackReader) Close() error {
	var errs []error
	for _, fd := range r.Events {
		errs = append(errs, unix.Close(fd))
	}
	r.Events = nil
	if r.program != nil {
		errs = append(errs, r.program.Close())
	}
	for _, p := range r.traces {
		errs = append(errs, p.Close())
	}
	errs = append(errs, r.Python.close())
	for _, m := range []*ebpf.Map{r.runtime, r.scratch, r.outputs} {
		if m != nil {
			errs = append(errs, m.Close())
		}
	}
	return errors.Join(errs...)
}
