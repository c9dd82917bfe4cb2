// Package callcounts tells of a take that counted them how often functions were called and lines
// executed. What it tells is made once, by whoever asks first.
package callcounts

import (
	"sync"

	"entelon/core/calltree"
	"entelon/core/measure"
	"entelon/core/profile"
)

// Counts tells how often functions were called, and lines executed, in a take that counted
// it. A call is on the stack of what was called, and nothing but calls is in its column.
type Counts struct {
	t          *calltree.Tree
	calls      *calltree.Cost
	executions *calltree.Cost // nil where only calls were counted
	of         func() []int64
	between    func() map[[2]profile.FunctionID]int64
}

// In returns what was counted, of the samples that a cost of another measure is of;
// nil where the profile has no calls. The tree is one of the stacks as they were: in any other
// shape functions stand for what they called.
func In(t *calltree.Tree, calls, executions *calltree.Cost) *Counts {
	if calls == nil {
		return nil
	}
	x := &Counts{t: t, calls: calls, executions: executions}
	x.of = sync.OnceValue(func() []int64 {
		out := make([]int64, len(t.Profile.Functions))
		for n := calltree.NodeID(1); int(n) < t.Len(); n++ {
			out[t.Function[n]] += calls.Self(n)
		}
		return out
	})
	x.between = sync.OnceValue(func() map[[2]profile.FunctionID]int64 {
		out := map[[2]profile.FunctionID]int64{}
		for n := calltree.NodeID(1); int(n) < t.Len(); n++ {
			if v := calls.Self(n); v != 0 {
				out[[2]profile.FunctionID{t.Function[t.Parent[n]], t.Function[n]}] += v
			}
		}
		return out
	})
	return x
}

// CallColumns finds the columns that CallCountsIn wants; -1 where there is none.
func CallColumns(p *profile.Profile) (calls, executions int) {
	calls, executions = -1, -1
	for i, m := range p.Measures {
		switch p.Strings[m.Name] {
		case measure.ExactCalls.Name:
			calls = i
		case measure.Executions.Name:
			executions = i
		}
	}
	return calls, executions
}

// Of is how often a function was called.
func (x *Counts) Of(f profile.FunctionID) int64 { return x.of()[f] }

// Between is how often one function called another; from 0 it began a stack.
func (x *Counts) Between(from, to profile.FunctionID) int64 {
	return x.between()[[2]profile.FunctionID{from, to}]
}

// At is how often a node's function was called by the chain of callers above it.
func (x *Counts) At(n calltree.NodeID) int64 { return x.calls.Self(n) }

// Through is how often a path's first function was called by the chain of the others, by what
// called the last of them.
func (x *Counts) Through(path []profile.FunctionID) map[profile.FunctionID]int64 {
	out := map[profile.FunctionID]int64{}
	for _, n := range x.t.NodesOf(path[0]) {
		v := x.calls.Self(n)
		if v == 0 {
			continue
		}
		at := x.t.Parent[n]
		for _, f := range path[1:] {
			if at == 0 || x.t.Function[at] != f {
				at = 0
				break
			}
			at = x.t.Parent[at]
		}
		if at != 0 {
			out[x.t.Function[at]] += v
		}
	}
	return out
}

// LineCount is what was counted of a line.
type LineCount struct {
	Executed int64 // how often the instruction of it was that was executed most
	Calls    map[profile.FunctionID]int64
}

// Lines is what was counted of each line of a file.
func (x *Counts) Lines(file string) map[uint32]LineCount {
	p := x.t.Profile
	in := make([]bool, len(p.Functions))
	for f := range p.Functions {
		in[f] = f != 0 && p.Strings[p.Functions[f].File] == file
	}
	out := map[uint32]LineCount{}
	same := profile.Canonical(p)
	x.calls.EachStack(func(stack profile.StackID, v int64) {
		caller := p.Stacks.Parent[stack]
		if caller == 0 {
			return
		}
		if frame := p.Frames[p.Stacks.Frame[caller]]; in[frame.Function] {
			l := out[frame.Line]
			if l.Calls == nil {
				l.Calls = map[profile.FunctionID]int64{}
			}
			l.Calls[same[p.Frames[p.Stacks.Frame[stack]].Function]] += v
			out[frame.Line] = l
		}
	})
	if x.executions == nil {
		return out
	}
	// A line's instructions are in several places; how often one was executed is over all stacks.
	type place struct {
		module  profile.ModuleID
		address uint64
		line    uint32
	}
	at := map[place]int64{}
	x.executions.EachStack(func(stack profile.StackID, v int64) {
		if frame := p.Frames[p.Stacks.Frame[stack]]; in[frame.Function] {
			at[place{p.Functions[frame.Function].Module, frame.Address, frame.Line}] += v
		}
	})
	for a, v := range at {
		l := out[a.line]
		l.Executed = max(l.Executed, v)
		out[a.line] = l
	}
	return out
}
