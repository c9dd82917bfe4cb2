package scope

import (
	"math"
	"path"
	"slices"
	"strconv"

	"entelon/core/profile"
)

// subject is what an expression is asked about. The profile may grow while it
// is asked.
type subject struct {
	p     *profile.Profile
	about About
}

// condition is an expression over the samples of one profile. What depends on
// the stack alone, or on who ran, is found out once for each of these.
type condition struct {
	kind   conditionKind
	fixed  bool                       // of kindFixed
	stack  func(profile.StackID) bool // of kindStack
	tables func() *Stacks             // the same, for stacks that are all there
	who    func(who) bool             // of kindWho
	sample func(i int) bool           // of kindSample, which is one of these:
	time   *between                   //
	amount *Amount                    //
	of     *condition                 // the opposite of it
	parts  []condition                // several that are joined
	enough bool                       // the answer of one of these that decides the whole
	p      *profile.Profile
}

// who is the thread that ran, and what it said of its work.
type who struct {
	thread profile.ThreadID
	labels profile.LabelSetID
}

func whoRan(p *profile.Profile, i int) who {
	out := who{thread: p.Samples.Thread[i]}
	if p.Samples.Labels != nil {
		out.labels = p.Samples.Labels[i]
	}
	return out
}

type conditionKind uint8

const (
	kindFixed conditionKind = iota
	kindStack
	kindWho
	kindSample
)

// holds reports whether sample i counts.
func (c condition) holds(i int) bool {
	switch c.kind {
	case kindFixed:
		return c.fixed
	case kindStack:
		return c.stack(c.p.Samples.Stack[i])
	case kindWho:
		return c.who(whoRan(c.p, i))
	}
	return c.sample(i)
}

func (s *subject) always(v bool) condition { return condition{kind: kindFixed, fixed: v, p: s.p} }

// byTop asks the question once for each function, of the one at the inner end of a
// stack.
func (s *subject) byTop(ask func(profile.FunctionID) bool) condition {
	is := once(ask)
	return condition{kind: kindStack, p: s.p,
		stack:  func(id profile.StackID) bool { return id != 0 && is(s.p.FunctionOf(id)) },
		tables: func() *Stacks { return &Stacks{Top: table(s.p, is)} },
	}
}

// byName asks once for each name that a thread or its process has. While a take
// is made, these change.
func (s *subject) byName(name func(profile.ThreadID) profile.StringID, ask func(profile.ThreadID) bool) condition {
	type answer struct {
		name profile.StringID
		is   uint8
	}
	var known []answer
	return condition{kind: kindWho, p: s.p, who: func(w who) bool {
		id := w.thread
		for len(known) <= int(id) {
			known = append(known, answer{})
		}
		a := &known[id]
		if now := name(id); a.is == 0 || a.name != now {
			*a = answer{now, 1}
			if ask(id) {
				a.is = 2
			}
		}
		return a.is == 2
	}}
}

// byLabels asks the question once for each set of labels.
func (s *subject) byLabels(ask func(profile.LabelSetID) bool) condition {
	is := once(ask)
	return condition{kind: kindWho, p: s.p, who: func(w who) bool { return is(w.labels) }}
}

func (s *subject) bySample(ask func(int) bool) condition {
	return condition{kind: kindSample, sample: ask, p: s.p}
}

// once keeps the answers to a question about identifiers.
func once[I ~uint32](ask func(I) bool) func(I) bool {
	const unknown, no, yes = 0, 1, 2
	var known []uint8
	return func(id I) bool {
		if int(id) >= len(known) {
			known = append(known, make([]uint8, int(id)+1-len(known)+len(known)/2)...)
		}
		if known[id] == unknown {
			known[id] = no
			if ask(id) {
				known[id] = yes
			}
		}
		return known[id] == yes
	}
}

// gather joins conditions, those over the same thing into one. enough is the
// answer of one that decides the whole.
func (s *subject) gather(xs []expression, enough bool) condition {
	var stacks, whos, rest []condition
	for _, x := range xs {
		c := x.on(s)
		switch c.kind {
		case kindFixed:
			if c.fixed == enough {
				return c
			}
		case kindStack:
			stacks = append(stacks, c)
		case kindWho:
			whos = append(whos, c)
		default:
			rest = append(rest, c)
		}
	}
	var out []condition
	if len(stacks) == 1 {
		out = append(out, stacks[0])
	} else if len(stacks) > 1 {
		out = append(out, condition{kind: kindStack, p: s.p, stack: once(func(id profile.StackID) bool {
			for _, c := range stacks {
				if c.stack(id) == enough {
					return enough
				}
			}
			return !enough
		}), tables: func() *Stacks {
			all := &Stacks{Any: enough}
			for _, c := range stacks {
				all.Parts = append(all.Parts, c.tables())
			}
			return all
		}})
	}
	if len(whos) == 1 {
		out = append(out, whos[0])
	} else if len(whos) > 1 {
		out = append(out, condition{kind: kindWho, p: s.p, who: func(w who) bool {
			for _, c := range whos {
				if c.who(w) == enough {
					return enough
				}
			}
			return !enough
		}})
	}
	out = append(out, rest...)
	switch len(out) {
	case 0:
		return s.always(!enough)
	case 1:
		return out[0]
	}
	all := s.bySample(func(i int) bool {
		for k := range out {
			if out[k].holds(i) == enough {
				return enough
			}
		}
		return !enough
	})
	all.parts, all.enough = out, enough
	return all
}

func (x all) on(s *subject) condition  { return s.gather(x, false) }
func (x any_) on(s *subject) condition { return s.gather(x, true) }

func (x not) on(s *subject) condition {
	c := x.of.on(s)
	switch c.kind {
	case kindFixed:
		return s.always(!c.fixed)
	case kindStack:
		return condition{kind: kindStack, p: s.p, stack: func(id profile.StackID) bool { return !c.stack(id) },
			tables: func() *Stacks { return &Stacks{Parts: []*Stacks{c.tables()}, Not: true} }}
	case kindWho:
		return condition{kind: kindWho, p: s.p, who: func(w who) bool { return !c.who(w) }}
	}
	out := s.bySample(func(i int) bool { return !c.sample(i) })
	out.of = &c
	return out
}

func (x between) on(s *subject) condition {
	c := s.bySample(func(i int) bool {
		if s.p.Samples.Time == nil { // a folded profile has no times and cannot be restricted by them
			return true
		}
		return x.holds(s.p.Samples.Time[i])
	})
	c.time = &x
	return c
}

func (x between) holds(t int64) bool { return t >= x.from && (x.to == 0 || t < x.to) }

func (x amount) on(s *subject) condition {
	m := -1
	for i := range s.p.Measures {
		if w := s.p.Words(i); w.Name == x.measure && (w.Unit == x.unit || x.value == 0) {
			m = i
		}
	}
	if m < 0 {
		return s.always(false)
	}
	is := Amount{Measure: m}
	switch x.by {
	case over:
		is.From, is.To = x.value+1, math.MaxInt64
	case under:
		is.From, is.To = math.MinInt64, x.value-1
	case atLeast:
		is.From, is.To = x.value, math.MaxInt64
	default:
		is.From, is.To = math.MinInt64, x.value
	}
	is.None = x.by == over || x.by == atLeast
	c := s.bySample(func(i int) bool { return is.Holds(s.p.Samples.Values[m][i]) })
	c.amount = &is
	return c
}

func (x field) on(s *subject) condition {
	p := s.p
	switch x.name {
	case "program":
		return s.always(fitsAny(x.is, s.about.Program))
	case "build":
		return s.always(fitsAny(x.is, s.about.Build))
	case "workload":
		return s.always(fitsAny(x.is, s.about.Workload))
	case "process":
		return s.byName(func(id profile.ThreadID) profile.StringID { return p.Processes[p.Threads[id].Process].Name }, func(id profile.ThreadID) bool {
			pr := p.Processes[p.Threads[id].Process]
			return fitsAny(x.is, p.Strings[pr.Name], number(pr.PID))
		})
	case "thread":
		return s.byName(func(id profile.ThreadID) profile.StringID { return p.Threads[id].Name }, func(id profile.ThreadID) bool {
			t := p.Threads[id]
			return fitsAny(x.is, p.Strings[t.Name], number(t.TID))
		})
	case "function":
		return s.inOrder(s.function(x.is))
	case "top":
		is := s.function(x.is)
		return s.byTop(is)
	case "module":
		return s.byTop(func(f profile.FunctionID) bool {
			whole := p.ModulePath(f)
			return fitsAny(x.is, whole, path.Base(whole), p.Home(f), p.Area(f))
		})
	case "state":
		return s.byTop(func(f profile.FunctionID) bool {
			is := p.Functions[f].Mark.State()
			return is != "" && fitsAny(x.is, is)
		})
	case "code":
		return s.byTop(func(f profile.FunctionID) bool { return fitsAny(x.is, p.Functions[f].Kind.String()) })
	}
	return s.always(false) // there are no others
}

func (x label) on(s *subject) condition {
	p := s.p
	return s.byLabels(func(set profile.LabelSetID) bool {
		// By text, since a profile that grows may not have the name yet.
		for ; set != 0; set = p.LabelSets.Parent[set] {
			if p.Strings[p.LabelSets.Name[set]] == x.name {
				return fitsAny(x.is, p.Strings[p.LabelSets.Value[set]])
			}
		}
		return false
	})
}

// function asks once for each function whether one of the names is its own.
func (s *subject) function(is []pattern) func(profile.FunctionID) bool {
	return once(func(f profile.FunctionID) bool {
		name := s.p.FunctionName(f)
		return fitsAny(is, name, profile.Short(name), s.p.Strings[s.p.Functions[f].Linkage])
	})
}

func (x pathExpr) on(s *subject) condition {
	steps := make([]func(profile.FunctionID) bool, len(x.steps))
	for i := range x.steps {
		steps[i] = s.function(x.steps[i : i+1])
	}
	return s.inOrder(steps...)
}

// inOrder holds for stacks that have functions of these kinds in this order from
// the root, with others between them. How many of them a stack has is found out
// from its parent, for all stacks that there are at once.
func (s *subject) inOrder(steps ...func(profile.FunctionID) bool) condition {
	accept := uint8(len(steps))
	return s.fromParent(len(steps)+1, func(k uint8, f profile.FunctionID) uint8 {
		if k < accept && steps[k](f) {
			k++
		}
		return k
	}, func(k uint8) bool { return k == accept })
}

// fromParent holds for stacks whose state is accepted: it is 0 for the empty
// stack, and follows from that of the parent and from the last function.
func (s *subject) fromParent(states int, next func(uint8, profile.FunctionID) uint8, accept func(uint8) bool) condition {
	// States are found out for all stacks that there are at once; later ones may come.
	known := []uint8{0}
	table := make([][]uint8, states) // by frame
	p := s.p
	return condition{kind: kindStack, p: p, tables: func() *Stacks {
		out := &Stacks{Next: make([][]uint8, states), Accept: make([]bool, states)}
		for k := range out.Next {
			out.Accept[k] = accept(uint8(k))
			out.Next[k] = make([]uint8, len(p.Functions))
			for f := range out.Next[k] {
				out.Next[k][f] = next(uint8(k), profile.FunctionID(f))
			}
			out.Settled = append(out.Settled, !slices.ContainsFunc(out.Next[k], func(to uint8) bool { return int(to) != k }))
		}
		return out
	}, stack: func(id profile.StackID) bool {
		if int(id) >= len(known) {
			for k := range table {
				for f := len(table[k]); f < len(p.Frames); f++ {
					table[k] = append(table[k], next(uint8(k), p.Frames[f].Function))
				}
			}
			parents, frames := p.Stacks.Parent, p.Stacks.Frame
			known = slices.Grow(known, len(parents)-len(known))
			for n := len(known); n < len(parents); n++ {
				known = append(known, table[known[parents[n]]][frames[n]])
			}
		}
		return accept(known[id])
	}}
}

func number(n uint32) string { return strconv.FormatUint(uint64(n), 10) }

// Select tells of each of p's samples whether it counts. It is the quick way
// where all of them are asked about.
func (s Scope) Select(p *profile.Profile) []bool {
	n := p.Samples.Len()
	out := make([]bool, n)
	if s.root == nil {
		for i := range out {
			out[i] = true
		}
		return out
	}
	s.root.on(&subject{p: p, about: s.about}).mark(out)
	return out
}

// mark writes of each sample whether the condition holds.
func (c condition) mark(out []bool) {
	switch c.kind {
	case kindFixed:
		for i := range out {
			out[i] = c.fixed
		}
	case kindStack:
		// Neighbouring samples often have one stack.
		stacks := c.p.Samples.Stack
		last, is := profile.StackID(0), c.stack(0)
		for i, s := range stacks {
			if s != last {
				last, is = s, c.stack(s)
			}
			out[i] = is
		}
	case kindWho:
		var table []bool // by thread
		if c.p.Samples.Labels == nil {
			table = make([]bool, len(c.p.Threads))
			for t := range table {
				table[t] = c.who(who{thread: profile.ThreadID(t)})
			}
		}
		for i, t := range c.p.Samples.Thread {
			if table != nil {
				out[i] = table[t]
			} else {
				out[i] = c.who(whoRan(c.p, i))
			}
		}
	default:
		if c.parts == nil {
			for i := range out {
				out[i] = c.sample(i)
			}
			return
		}
		c.parts[0].mark(out)
		more := make([]bool, len(out))
		for _, p := range c.parts[1:] {
			p.mark(more)
			if c.enough {
				for i, is := range more {
					out[i] = out[i] || is
				}
			} else {
				for i, is := range more {
					out[i] = out[i] && is
				}
			}
		}
	}
}
