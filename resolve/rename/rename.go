// Package rename gives a profile that is there already the names that have become known
// since: addresses are kept in takes, and what they are called is read anew, inlined
// functions included.
//
// It is pure; a profile that is given stays as it is.
package rename

import (
	"entelon/core/profile"
	"entelon/symbol"
)

// Namer tells what is active at an address of a file, the innermost function first, or
// nothing where it knows no name. *symbol.Object is one.
type Namer interface {
	Locate(address uint64) []symbol.Location
}

// Profile returns p with the names that namers know of the code of its modules, and how
// many of its frames have another name, file or line than before. Where a namer knows no
// name, everything stays.
func Profile(p *profile.Profile, namers map[profile.ModuleID]Namer) (*profile.Profile, int) {
	r := renaming{
		from: p, carry: profile.Carry{From: p, To: profile.NewBuilderLike(p)}, namers: namers,
		chains: make([][]profile.FrameID, len(p.Frames)), known: make([]bool, len(p.Frames)),
	}
	r.threads()
	stacks := make([]profile.StackID, p.Stacks.Len())
	for i := 1; i < len(stacks); i++ {
		stacks[i] = r.stack(stacks, profile.StackID(i))
	}
	to, from := &r.carry.To.Profile().Samples, &p.Samples
	to.Time, to.Values = from.Time, from.Values
	to.Thread = make([]profile.ThreadID, from.Len())
	to.Stack = make([]profile.StackID, from.Len())
	for i := range to.Stack {
		to.Thread[i] = r.thread[from.Thread[i]]
		to.Stack[i] = stacks[from.Stack[i]]
	}
	if from.Labels != nil {
		sets := make([]profile.LabelSetID, p.LabelSets.Len())
		for i := range sets {
			sets[i] = r.carry.Labels(profile.LabelSetID(i))
		}
		to.Labels = make([]profile.LabelSetID, from.Len())
		for i, set := range from.Labels {
			to.Labels[i] = sets[set]
		}
	}
	return r.carry.To.Profile(), r.changed
}

type renaming struct {
	from    *profile.Profile
	carry   profile.Carry
	namers  map[profile.ModuleID]Namer
	thread  []profile.ThreadID
	chains  [][]profile.FrameID // by frame: what it becomes, the outermost first
	known   []bool              // by frame: chains has it
	changed int
}

// threads takes over who ran, in the same order.
func (r *renaming) threads() {
	for _, x := range r.from.Processes {
		r.carry.To.NameProcess(r.carry.To.Process(x.PID), r.from.Strings[x.Name])
	}
	r.thread = make([]profile.ThreadID, len(r.from.Threads))
	for i := range r.thread {
		r.thread[i] = r.carry.Thread(profile.ThreadID(i))
	}
}

// stack is a stack of the old profile in the new one; those of its parents are there.
func (r *renaming) stack(done []profile.StackID, s profile.StackID) profile.StackID {
	id, parent := r.from.Stacks.Frame[s], r.from.Stacks.Parent[s]
	f := r.from.Frames[id]
	if f.Inlined && parent != 0 && r.chain(id) != nil {
		// What was inlined at this address came along with the function that it is a part of.
		into := r.from.Frames[r.from.Stacks.Frame[parent]]
		if into.Address == f.Address && r.module(into) == r.module(f) {
			return done[parent]
		}
	}
	out := done[parent]
	frames := r.chain(id)
	if frames == nil {
		return r.carry.To.Push(out, r.carry.Frame(id))
	}
	for _, f := range frames {
		out = r.carry.To.Push(out, f)
	}
	return out
}

func (r *renaming) module(f profile.Frame) profile.ModuleID {
	return r.from.Functions[f.Function].Module
}

// chain is what a frame becomes, the outermost first; nil where it stays as it is.
func (r *renaming) chain(id profile.FrameID) []profile.FrameID {
	if r.known[id] {
		return r.chains[id]
	}
	r.known[id] = true
	f := r.from.Frames[id]
	namer := r.namers[r.module(f)]
	if namer == nil || f.Address == 0 {
		return nil
	}
	at := namer.Locate(f.Address)
	if len(at) == 0 || at[0].Unnamed {
		return nil
	}
	m := r.from.Modules[r.module(f)]
	b := r.carry.To
	m.Path, m.BuildID = b.Intern(r.from.Strings[m.Path]), b.Intern(r.from.Strings[m.BuildID])
	module := b.Module(m)
	for i := len(at) - 1; i >= 0; i-- {
		l := at[i]
		fn := b.Function(profile.Function{
			Name: b.Intern(l.Name), Linkage: b.Intern(l.Linkage), Module: module,
			File: b.Intern(l.File), Line: l.Start, Kind: l.Kind, Entry: l.Entry,
		})
		r.chains[id] = append(r.chains[id], b.Frame(profile.Frame{Function: fn, Line: l.Line, Address: f.Address, Inlined: l.Inlined, Found: f.Found}))
	}
	if !f.Inlined && !r.same(f, at) {
		r.changed++
	}
	return r.chains[id]
}

// same reports whether a frame has just this name and line already.
func (r *renaming) same(f profile.Frame, at []symbol.Location) bool {
	fn, l := r.from.Functions[f.Function], at[len(at)-1]
	return r.from.Strings[fn.Name] == l.Name && r.from.Strings[fn.File] == l.File && f.Line == l.Line
}
