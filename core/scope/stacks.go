package scope

import "entelon/core/profile"

// Stacks says in tables which stacks count, so that whoever has the stacks of a
// profile in an order of his own can find it out in that order. It is one of: a
// table of functions, an automaton over them, or several that are joined.
type Stacks struct {
	Top []bool // by the function at the inner end of a stack; the empty stack has none

	// The state of a stack follows from that of its parent and its last function;
	// the empty stack has state 0.
	Next    [][]uint8 // by state and function
	Accept  []bool    // by state
	Settled []bool    // by state: nothing leads out of it

	Parts []*Stacks // all of these have to hold,
	Any   bool      // or any of them
	Not   bool      // the opposite of all this counts
}

// Turns tells of each function whether the automaton changes its state at it.
func (x *Stacks) Turns() []bool {
	out := make([]bool, len(x.Next[0]))
	for k, row := range x.Next {
		for f, to := range row {
			out[f] = out[f] || int(to) != k
		}
	}
	return out
}

// table asks a question of every function.
func table(p *profile.Profile, is func(profile.FunctionID) bool) []bool {
	out := make([]bool, len(p.Functions))
	for f := range out {
		out[f] = is(profile.FunctionID(f))
	}
	return out
}

// Alike reports whether functions that are one by a table of the first of each are
// treated as one.
func (x *Stacks) Alike(first []profile.FunctionID) bool {
	for f, one := range first {
		if x.Top != nil && x.Top[f] != x.Top[one] {
			return false
		}
		for _, row := range x.Next {
			if row[f] != row[one] {
				return false
			}
		}
	}
	for _, p := range x.Parts {
		if !p.Alike(first) {
			return false
		}
	}
	return true
}
