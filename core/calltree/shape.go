package calltree

import (
	"fmt"

	"entelon/core/profile"
)

// Shape says how stacks become a tree. Its zero value takes them as they are.
type Shape struct {
	Fold    string // "", FoldRuntime or FoldForeign
	Group   string // "", GroupThread, GroupProcess or GroupModule: what stands at the roots
	Merge   bool   // recursion is one node
	Through string // only stacks with this function, from its outermost frame on
	Module  string // of that function, where the name is not enough
}

// The foldings and groupings of a Shape.
const (
	FoldRuntime  = "runtime" // a runtime's functions count as their callers'
	FoldForeign  = "foreign" // what is not the program's own counts as the call into it
	GroupThread  = "thread"
	GroupProcess = "process"
	GroupModule  = "module" // that of the innermost function
)

// Check refuses what there is not.
func (s Shape) Check() error {
	switch s.Fold {
	case "", FoldRuntime, FoldForeign:
	default:
		return fmt.Errorf("%q cannot be folded; choose runtime or foreign", s.Fold)
	}
	switch s.Group {
	case "", GroupThread, GroupProcess, GroupModule:
	default:
		return fmt.Errorf("there is no grouping by %q; choose thread, process or module", s.Group)
	}
	return nil
}

// Shaped builds the tree of p in a shape. The tree's profile is p where its
// stacks are as they were, and otherwise one with other stacks that shares the
// rest with p.
func Shaped(p *profile.Profile, s Shape) *Tree { return shaped(p, s, nil) }

// In builds the tree of the same profile in another shape.
func (t *Tree) In(s Shape) *Tree { return shaped(t.Profile, s, t.samples) }

func shaped(p *profile.Profile, s Shape, samples *leaves) *Tree {
	base := p
	var sampleOf []int32
	if s.Through != "" {
		p, sampleOf = Through(p, s.Through, s.Module)
	}
	if s.Group != "" {
		p = Grouped(p, s.Group)
	}
	f := folding{merge: s.Merge}
	switch s.Fold {
	case FoldRuntime:
		f.into = Runtime(p)
	case FoldForeign:
		f.below = func(id profile.FunctionID) bool {
			k := p.Functions[id].Kind
			return k != profile.KindOwn && k != profile.KindMark
		}
	}
	if p == base {
		return build(p, f, samples)
	}
	t := build(p, f, nil)
	t.base, t.sampleOf = base, sampleOf
	return t
}

// folding says which frames have no node of their own.
type folding struct {
	into  func(profile.FunctionID) bool // count as their callers; may be nil
	below func(profile.FunctionID) bool // count as the first of them that was called; may be nil
	merge bool
}

// none reports whether every frame has its place.
func (f folding) none() bool { return f.into == nil && f.below == nil && !f.merge }

// Through is a profile of the stacks with a function, each from its outermost
// frame on, and of their samples alone, with the position of each in p.
func Through(p *profile.Profile, name, module string) (*profile.Profile, []int32) {
	is := func(f profile.FunctionID) bool {
		return f != 0 && p.FunctionName(f) == name && (module == "" || p.Home(f) == module)
	}
	out := *p
	out.Stacks = profile.Stacks{Parent: []profile.StackID{0}, Frame: []profile.FrameID{0}}
	known := map[uint64]profile.StackID{}
	to := make([]profile.StackID, p.Stacks.Len()) // 0: without the function
	for s := 1; s < p.Stacks.Len(); s++ {
		parent, frame := to[p.Stacks.Parent[s]], p.Stacks.Frame[s]
		if parent == 0 && !is(p.Frames[frame].Function) {
			continue
		}
		to[s] = push(&out.Stacks, known, parent, frame)
	}
	out.Samples = profile.Samples{Values: make([][]int64, len(p.Samples.Values))}
	var from []int32
	for i, s := range p.Samples.Stack {
		if to[s] == 0 {
			continue
		}
		from = append(from, int32(i))
		if p.Samples.Time != nil {
			out.Samples.Time = append(out.Samples.Time, p.Samples.Time[i])
		}
		out.Samples.Thread = append(out.Samples.Thread, p.Samples.Thread[i])
		out.Samples.Stack = append(out.Samples.Stack, to[s])
		for m := range p.Samples.Values {
			out.Samples.Values[m] = append(out.Samples.Values[m], p.Samples.Values[m][i])
		}
	}
	return &out, from
}

func push(st *profile.Stacks, known map[uint64]profile.StackID, parent profile.StackID, frame profile.FrameID) profile.StackID {
	k := uint64(parent)<<32 | uint64(frame)
	if id, ok := known[k]; ok {
		return id
	}
	id := profile.StackID(len(st.Parent))
	known[k] = id
	st.Parent, st.Frame = append(st.Parent, parent), append(st.Frame, frame)
	return id
}

// Grouped is a profile in which each stack begins with a mark for the thread,
// the process, or the module of the innermost function.
func Grouped(p *profile.Profile, by string) *profile.Profile {
	out := *p
	// What is added must not be written into p's own arrays.
	out.Strings, out.Functions, out.Frames = p.Strings[:len(p.Strings):len(p.Strings)], p.Functions[:len(p.Functions):len(p.Functions)], p.Frames[:len(p.Frames):len(p.Frames)]
	out.Modules = append(p.Modules[:len(p.Modules):len(p.Modules)], profile.Module{Kind: profile.KindMark})
	marks := map[string]profile.FrameID{}
	mark := func(text string) profile.FrameID {
		f, ok := marks[text]
		if !ok {
			out.Strings = append(out.Strings, "["+text+"]")
			out.Functions = append(out.Functions, profile.Function{Name: profile.StringID(len(out.Strings) - 1), Module: profile.ModuleID(len(out.Modules) - 1), Kind: profile.KindMark, Mark: profile.Group})
			out.Frames = append(out.Frames, profile.Frame{Function: profile.FunctionID(len(out.Functions) - 1)})
			f = profile.FrameID(len(out.Frames) - 1)
			marks[text] = f
		}
		return f
	}
	out.Stacks = profile.Stacks{Parent: []profile.StackID{0}, Frame: []profile.FrameID{0}}
	roots := make(map[profile.FrameID]profile.StackID)
	// Few groups have a table each, which is quicker than a map, and many a map,
	// which is smaller.
	const maxCells = 1 << 26
	known := map[profile.FrameID][]profile.StackID{}
	sparse := map[uint64]profile.StackID{}
	dense := max(1, len(p.Threads))*p.Stacks.Len() <= maxCells
	var way []profile.StackID
	under := func(root profile.FrameID, s profile.StackID) profile.StackID {
		way = way[:0]
		table := known[root]
		if table == nil && dense {
			table = make([]profile.StackID, p.Stacks.Len())
			known[root] = table
		}
		at := s
		var top profile.StackID
		for {
			if at == 0 {
				id, ok := roots[root]
				if !ok {
					id = profile.StackID(out.Stacks.Len())
					out.Stacks.Parent, out.Stacks.Frame = append(out.Stacks.Parent, 0), append(out.Stacks.Frame, root)
					roots[root] = id
				}
				top = id
				break
			}
			id := profile.StackID(0)
			if dense {
				id = table[at]
			} else {
				id = sparse[uint64(root)<<32|uint64(at)]
			}
			if id != 0 {
				top = id
				break
			}
			way = append(way, at)
			at = p.Stacks.Parent[at]
		}
		for i := len(way) - 1; i >= 0; i-- {
			id := profile.StackID(out.Stacks.Len())
			out.Stacks.Parent, out.Stacks.Frame = append(out.Stacks.Parent, top), append(out.Stacks.Frame, p.Stacks.Frame[way[i]])
			if dense {
				table[way[i]] = id
			} else {
				sparse[uint64(root)<<32|uint64(way[i])] = id
			}
			top = id
		}
		return top
	}
	threads := make([]profile.FrameID, len(p.Threads))
	for i, t := range p.Threads {
		pr := p.Processes[t.Process]
		switch by {
		case GroupThread:
			threads[i] = mark(fmt.Sprintf("thread %s, %d", p.Strings[t.Name], t.TID))
		case GroupProcess:
			threads[i] = mark(fmt.Sprintf("process %s, %d", p.Strings[pr.Name], pr.PID))
		}
	}
	modules := make([]profile.FrameID, len(p.Functions))
	out.Samples.Stack = make([]profile.StackID, len(p.Samples.Stack))
	for i, s := range p.Samples.Stack {
		root := profile.FrameID(0)
		if by != GroupModule {
			root = threads[p.Samples.Thread[i]]
		} else if s != 0 {
			f := p.FunctionOf(s)
			if modules[f] == 0 {
				modules[f] = mark("module " + p.Area(f))
			}
			root = modules[f]
		}
		if root == 0 {
			root = mark(by + " unknown")
		}
		out.Samples.Stack[i] = under(root, s)
	}
	return &out
}
