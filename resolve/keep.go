package resolve

import (
	"sort"

	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/runtimes/golang"
	"entelon/runtimes/python"
	"entelon/unwind"
)

// Seen is a sample whose stack is walked: a stack of the profile or, where names are
// still on their way, places in modules. Mappings may change before it gets its names.
type Seen struct {
	At     int64  // since the take began
	Time   uint64 // monotonic
	Of     *Process
	Thread profile.ThreadID
	Stack  profile.StackID
	Ready  bool // Stack is set

	labels profile.LabelSetID
	kernel []profile.FrameID
	places []place
	end    unwind.End
}

// CutMarks are the frames at the root of stacks whose outer part is unknown.
var CutMarks = [unwind.EndCount]profile.Mark{
	unwind.Deeper:     profile.CutDeeper,
	unwind.OtherStack: profile.CutOtherStack,
	unwind.NoTable:    profile.CutNoTable,
	unwind.NoCode:     profile.CutNoCode,
	unwind.NoMemory:   profile.CutNoMemory,
	unwind.Circle:     profile.CutCircle,
	unwind.TooMany:    profile.CutTooMany,
	unwind.Torn:       profile.CutTorn,
}

// See takes a sample for what is kept of it. The frames are good until the next one.
func (r *Resolver) See(rec *raw.Record) (Seen, *Frames) {
	p, f := r.Resolve(rec)
	switch {
	case f.LabelsMissing:
		r.facts.Unlabelled++
	case f.Labels != 0:
		r.facts.Labelled++
	}
	if f.End == unwind.Torn {
		r.facts.Torn++
	}
	if f.Interpreted {
		r.facts.Interpreted++
	}
	x := Seen{At: r.Since(rec.Time), Time: rec.Time, Of: p, Thread: r.Processes.Thread(p, rec.TID), labels: f.Labels, end: f.End}
	if !f.Coming {
		x.Stack, x.Ready = r.push(f.Kernel, f.Program, f.End, f.last), true
		return x, f
	}
	x.kernel = append(x.kernel, f.Kernel...)
	r.walk.layOut(f.Steps, func(s unwind.Step) { x.places = append(x.places, p.place(s)) },
		func(e *python.Entry) { x.places = append(x.places, place{frame: r.names.python(p, e)}) })
	return x, f
}

// Value sets one column, and those behind it, of values that are 0 otherwise.
// The slice is used again by the next call.
func (r *Resolver) Value(column int, v ...int64) []int64 {
	n := len(r.Builder.Profile().Measures)
	if len(r.values) != n {
		r.values = make([]int64, n)
	}
	clear(r.values)
	copy(r.values[column:], v)
	return r.values
}

// Keep adds a sample to the profile, under a mark that is not a function where
// there is one.
func (r *Resolver) Keep(x Seen, mark profile.FrameID, values []int64) {
	if x.Ready {
		r.put(x, r.marked(x.Stack, mark), values)
		return
	}
	r.parked = append(r.parked, parked{x, mark, append([]int64(nil), values...)})
}

// put adds a sample to the profile if it is to be kept.
func (r *Resolver) put(x Seen, stack profile.StackID, values []int64) {
	r.Builder.Sample(x.At, x.Thread, stack, values...)
	r.Builder.Labelled(x.labels)
	if r.Keeper != nil && !r.Keeper.Keeps(r.Builder.Profile().Samples.Len()-1) {
		r.Builder.TakeBack()
		r.Keeper.Leave(values)
		return
	}
	r.facts.Samples++
}

func (r *Resolver) marked(s profile.StackID, mark profile.FrameID) profile.StackID {
	switch mark {
	case 0:
		return s
	case MarkByStack:
		mark = r.Mark(r.waitsFor(s))
	}
	return r.Builder.Push(s, mark)
}

// MarkByStack stands for the mark of what a goroutine waits for, which the functions say that it waits
// in, once they have their names.
const MarkByStack = ^profile.FrameID(0)

func (r *Resolver) waitsFor(s profile.StackID) profile.Mark {
	if m, known := r.waits[s]; known {
		return m
	}
	p := r.Builder.Profile()
	var names []string
	for at := s; at != 0 && len(names) < golang.Looked; at = p.Stacks.Parent[at] {
		names = append(names, r.FunctionName(p.Stacks.Frame[at]))
	}
	m := golang.WaitsFor(names)
	if r.waits == nil || len(r.waits) >= maxWaits {
		r.waits = map[profile.StackID]profile.Mark{}
	}
	r.waits[s] = m
	return m
}

// maxWaits bounds how many stacks are remembered with what they wait for.
const maxWaits = 1 << 16

// push adds a stack of frames, the innermost first, and counts how it ended.
// last is the module in which the walk ended.
func (r *Resolver) push(kernel, program []profile.FrameID, end unwind.End, last *module) profile.StackID {
	stack := profile.StackID(0)
	if len(program) > 0 {
		facts, cut, none := r.facts, &r.cut, r.NoTable
		if r.quiet {
			facts, cut, none = &profile.Facts{}, &[unwind.EndCount]int64{}, map[string]int64{}
		}
		facts.UserStacks++
		// Where a program or a thread begins need not have tables: the loader's
		// own first function, the stub that starts a thread.
		if end == unwind.Entry || end == unwind.NoTable && r.names.isEntry(program[len(program)-1]) {
			facts.Complete++
		} else {
			stack = r.Builder.Push(0, r.Mark(CutMarks[end]))
			cut[end]++
			if end == unwind.NoTable && last != nil {
				none[last.Name()]++
			}
		}
	}
	for i := len(program) - 1; i >= 0; i-- {
		stack = r.Builder.Push(stack, program[i])
	}
	for i := len(kernel) - 1; i >= 0; i-- {
		stack = r.Builder.Push(stack, kernel[i])
	}
	if stack == 0 {
		return r.Builder.Push(0, r.Mark(CutMarks[unwind.NoMemory]))
	}
	if module, ok := r.names.none[r.Builder.Profile().Stacks.Frame[stack]]; ok && !r.quiet {
		r.facts.Unnamed++
		r.Unnamed[module]++
	}
	return stack
}

// CutOff lists why stacks are cut off, the most frequent reason first.
func (r *Resolver) CutOff() []profile.Cut {
	var out []profile.Cut
	for end, n := range r.cut {
		if n > 0 {
			out = append(out, profile.CutBy(CutMarks[end], n))
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Stacks > out[j].Stacks })
	return out
}
