package bpf

import (
	"errors"
	"fmt"
	"sync"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/btf"
)

// PythonReader are the programs that read CPython's frames, with their maps.
// They are loaded when the first process of that runtime is met, once for each
// kind of event that they run with: programs can only call others of their kind.
type PythonReader struct {
	maps struct {
		Processes *ebpf.Map `ebpf:"python_processes"` // PythonPlaces by process
		Scratch   *ebpf.Map `ebpf:"python_scratch"`
	}
	seen    *ebpf.Map                      // code objects that were read: what tells them apart, by process and address
	calls   map[ebpf.ProgramType]*ebpf.Map // the programs, by number
	outputs *ebpf.Map
	slots   *ebpf.Map // what the other programs work in, which says where these do
	samples *ebpf.Map // nil: no programs write samples themselves
	types   *btf.Spec
	loaded  []*ebpf.Program
	met     bool // a process of that runtime was met
	err     error
}

// framesObject is the object's content, which is read once and copied for each use.
var framesObject = sync.OnceValues(loadFrames)

// PythonPlaces is what the programs need to know of a process that runs CPython
// (struct python_places).
type PythonPlaces = framesPythonPlaces

// The bounds of what is read of one frame, and of one code object.
const (
	PythonFrameBytes = int(framesPythonBoundPYTHON_FRAME_BYTES)
	PythonNameBytes  = int(framesPythonBoundPYTHON_NAME_BYTES)
	PythonFileBytes  = int(framesPythonBoundPYTHON_FILE_BYTES)
	PythonTableBytes = int(framesPythonBoundPYTHON_TABLE_BYTES)
)

func newPythonReader(outputs, slots *ebpf.Map, types *btf.Spec) (*PythonReader, error) {
	r := &PythonReader{outputs: outputs, slots: slots, types: types, calls: map[ebpf.ProgramType]*ebpf.Map{}}
	spec, err := stacksObject() // which has these maps, too
	if err == nil {
		err = spec.Copy().LoadAndAssign(&r.maps, nil)
	}
	if err != nil {
		return r, fmt.Errorf("preparing to read frames of CPython: %w", err)
	}
	return r, r.want(ebpf.PerfEvent)
}

// want has the programs loaded for a kind of event, too.
func (r *PythonReader) want(kind ebpf.ProgramType) error {
	if r.calls[kind] != nil {
		return nil
	}
	calls, err := r.newMap(stacksObject, stacksMapPythonCalls)
	if err != nil {
		return err
	}
	r.calls[kind] = calls
	if r.met {
		return r.loadFor(kind)
	}
	return nil
}

// newMap makes one more of a map that the object describes.
func (r *PythonReader) newMap(object func() (*ebpf.CollectionSpec, error), name string) (*ebpf.Map, error) {
	spec, err := object()
	if err != nil {
		return nil, err
	}
	m, err := ebpf.NewMap(spec.Copy().Maps[name])
	if err != nil {
		return nil, fmt.Errorf("preparing to read frames of CPython: %w", err)
	}
	return m, nil
}

// load has the kernel check the programs and makes them callable.
func (r *PythonReader) load() error {
	if r.met {
		return r.err
	}
	r.met = true
	r.seen, r.err = r.newMap(framesObject, framesMapPythonSeen)
	for kind := range r.calls {
		if r.err == nil {
			r.err = r.loadFor(kind)
		}
	}
	return r.err
}

// pythonPrograms are the names of the programs by the number that they call each
// other by, without the kind of event at their end.
var pythonPrograms = map[framesPythonCall]string{
	framesPythonCallPYTHON_STATES: "python_states",
	framesPythonCallPYTHON_FRAMES: "python_frames",
	framesPythonCallPYTHON_CODES:  "python_codes",
}

func (r *PythonReader) loadFor(kind ebpf.ProgramType) error {
	spec, err := framesObject()
	if err != nil {
		return err
	}
	spec = spec.Copy()
	spec.Maps[framesMapOutputs].MaxEntries, spec.Maps[framesMapSamples].MaxEntries = r.outputs.MaxEntries(), r.outputs.MaxEntries()
	suffix := map[ebpf.ProgramType]string{ebpf.PerfEvent: "_perf_event", ebpf.TracePoint: "_tracepoint", ebpf.Kprobe: "_kprobe", ebpf.RawTracepoint: "_raw_tracepoint"}[kind]
	// Side by side: the kernel checks each for about 20 ms, and a process waits for them.
	programs, errs := make([]*ebpf.Program, framesPythonCallPYTHON_CALLS), make([]error, framesPythonCallPYTHON_CALLS)
	var all sync.WaitGroup
	for number, name := range pythonPrograms {
		all.Go(func() {
			maps := map[string]*ebpf.Map{
				framesMapPythonProcesses: r.maps.Processes, framesMapPythonScratch: r.maps.Scratch, framesMapPythonSeen: r.seen,
				framesMapPythonCalls: r.calls[kind], framesMapOutputs: r.outputs,
				framesMapScratch: r.slots,
			}
			if kind == ebpf.RawTracepoint {
				maps[framesMapSamples] = r.samples
			}
			programs[number], errs[number] = loadProgram(spec.Copy(), name+suffix, r.types, maps)
		})
	}
	all.Wait()
	for number, p := range programs {
		if p == nil {
			continue
		}
		r.loaded = append(r.loaded, p)
		if errs[number] == nil {
			errs[number] = r.calls[kind].Put(uint32(number), uint32(p.FD()))
		}
	}
	if err := errors.Join(errs...); err != nil {
		return fmt.Errorf("loading the reader of CPython's frames: %w", err)
	}
	return nil
}

// Tell lets the programs know that a process runs CPython.
func (r *PythonReader) Tell(pid uint32, p PythonPlaces) error {
	if err := r.load(); err != nil {
		return err
	}
	if err := r.maps.Processes.Put(pid, p); err != nil {
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
	return errors.Join(append(errs, closeMaps(r.maps.Processes, r.maps.Scratch, r.seen))...)
}
