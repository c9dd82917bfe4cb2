// Package resolve turns a raw sample into frames: it walks the stack by the mappings of
// that moment, gives addresses names, weaves an interpreter's frames among the native
// ones, and puts the result into a profile. It opens no file and asks no system; what
// raw records do not tell, a World answers.
//
// The way of a sample: walk.go makes steps of it, names.go frames of the steps,
// pythonframes.go puts those of CPython among them, and keep.go adds the stack to the
// profile, at once or when names that are on their way have come (parked.go).
// processes.go knows what each process has mapped.
//
// A Resolver and its processes belong to one goroutine, which hands over all records in
// the order of their times. No lock guards anything.
package resolve

import (
	"slices"
	"strings"

	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/runtimes/python"
	"entelon/unwind"
)

// Resolver turns samples into stacks of a profile.
type Resolver struct {
	NoColumn  int64 // attributes of intervals for which there was no room
	Builder   *profile.Builder
	Processes *Processes
	Origin    uint64           // monotonic time at which the take began
	Keeper    Keeper           // nil: all samples are kept
	NoTable   map[string]int64 // stacks by module whose code has no tables
	Unnamed   map[string]int64 // samples by module whose innermost frame has no name

	facts  *profile.Facts
	names  names
	walk   walker
	frames Frames                 // of the sample at hand
	cut    [unwind.EndCount]int64 // stacks cut off, by reason
	values []int64
	parked []parked // walked, but without names yet
	quiet  bool     // stacks are not counted: they are those of samples that were

	parkedIntervals []Passed                         // likewise
	waits           map[profile.StackID]profile.Mark // of goroutines, what for
}

// Keeper decides which samples are kept.
type Keeper interface {
	// Keeps reports whether the sample at a position of the profile is.
	Keeps(i int) bool
	// Leave notes the values of one that was not.
	Leave(values []int64)
}

// New makes a resolver that adds to a profile and to the facts of a take.
func New(b *profile.Builder, facts *profile.Facts, w World) *Resolver {
	return &Resolver{
		Builder: b, Processes: newProcesses(b, w), facts: facts, names: newNames(b, w),
		NoTable: map[string]int64{}, Unnamed: map[string]int64{},
	}
}

// Frames is what a sample says, with names. Its slices are good until the next sample.
type Frames struct {
	Kernel  []profile.FrameID // the innermost first
	Program []profile.FrameID // likewise; empty where Coming is set
	Steps   []unwind.Step     // of the program's machine code, likewise
	End     unwind.End        // why the walk ended
	Labels  profile.LabelSetID
	Coming  bool // names are on their way

	Interpreted   bool // frames of an interpreter are among them
	LabelsMissing bool // labels could not be read, or not all of them
	last          *module
}

// Resolve walks the stack of a sample and names its frames.
func (r *Resolver) Resolve(rec *raw.Record) (*Process, *Frames) {
	p, s, f := r.Processes.Get(rec.PID), rec.Sample, &r.frames
	*f = Frames{Kernel: f.Kernel[:0], Program: f.Program[:0], Steps: f.Steps[:0]}
	for i, ip := range s.Kernel {
		if i > 0 { // where a call returns to; the call itself is before that
			ip--
		}
		f.Kernel = append(f.Kernel, r.names.inKernel(ip))
	}
	if s.Copied {
		f.Steps, f.End = r.walk.copied(p, s, f.Steps)
		f.Labels, f.LabelsMissing = labelsOf(s, r.Builder)
	} else {
		r.walk.python.reset()
		f.Steps, f.End = followChain(&r.names, p, s.Chain, rec.Time, f.Steps)
	}
	if f.End != unwind.Entry && r.names.replaces(f.Kernel) {
		f.Steps, f.End = f.Steps[:0], unwind.Entry
		r.walk.python.reset()
	}
	f.Interpreted = len(r.walk.python.runs) > 0
	f.Coming = p.made != nil && p.made.Coming(rec.Time)
	if !f.Coming {
		r.walk.layOut(f.Steps,
			func(s unwind.Step) {
				frames, coming := r.names.at(p, s, rec.Time)
				f.Program, f.Coming = append(f.Program, frames...), f.Coming || coming
			},
			func(e *python.Entry) { f.Program = append(f.Program, r.names.python(p, e)) })
	}
	if n := len(f.Steps); n > 0 {
		if m := p.Find(f.Steps[n-1].Address); m != nil {
			f.last = m.Module
		}
	}
	return p, f
}

// ownFunctions begin the names of the kernel's functions by which it gets to our program.
var ownFunctions = []string{"bpf_prog_", "bpf_trace_run", "__bpf_trace_", "__traceiter_"}

// maxOwn is how many frames our own program has in a kernel's stack at most.
const maxOwn = 8

// TrimOwn takes from the kernel's part of a stack what was our own program's, which wrote the
// sample, and how the kernel got to it.
func (r *Resolver) TrimOwn(s *raw.Sample) {
	last := -1
	for i, ip := range s.Kernel[:min(len(s.Kernel), maxOwn)] {
		if i > 0 {
			ip--
		}
		name := r.FunctionName(r.names.inKernel(ip))
		if slices.ContainsFunc(ownFunctions, func(begin string) bool { return strings.HasPrefix(name, begin) }) {
			last = i
		}
	}
	if last >= 0 && last+1 < len(s.Kernel) {
		s.Kernel = s.Kernel[last+1:]
		s.Kernel[0]-- // where a call returns to: the call itself is meant
	}
}

// FunctionName is the name of a frame's function.
func (r *Resolver) FunctionName(f profile.FrameID) string {
	p := r.Builder.Profile()
	return p.FunctionName(p.Frames[f].Function)
}

// Since returns a monotonic time as nanoseconds since the take began.
func (r *Resolver) Since(time uint64) int64 { return max(0, int64(time)-int64(r.Origin)) }

// LearnCode keeps what was read of an interpreter's code object.
func (r *Resolver) LearnCode(rec *raw.Record) { r.Processes.Get(rec.PID).learn(rec.Code, rec.Time) }

// Mark returns the frame of a mark.
func (r *Resolver) Mark(m profile.Mark) profile.FrameID { return r.Builder.Mark(m, m.Key()) }

// Innermost is the innermost frame at a step of a walk, 0 where there is none.
func (r *Resolver) Innermost(p *Process, s unwind.Step, at uint64) profile.FrameID {
	frames, _ := r.names.at(p, s, at)
	if len(frames) == 0 {
		return 0
	}
	return frames[0]
}
