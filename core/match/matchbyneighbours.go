package match

import (
	"fmt"
	"math"
	"path"

	"entelon/core/calltree"
)

const (
	// weighty is the share of the whole from which on it is tried to find out
	// what a function was called before.
	weighty = 0.001
	// maxWeighty bounds how many are tried on each side.
	maxWeighty = 300
	// sameNeighbours is how much of their cost must come from, or go to, the same
	// functions for that to speak for a match.
	sameNeighbours = 0.5
	// nearLines is how many lines apart a renamed function may begin.
	nearLines = 40
)

// neighbours are where a function's cost comes from and where it goes, as shares
// by the number of the other function; -1 is the start of the stack.
type neighbours struct{ callers, callees map[int32]float64 }

// around finds a function's neighbours that have a number already, in the first
// take that it is in.
func (m *matching) around(side int, e *entry) neighbours {
	at := e.where[0]
	run := &m.runs[side][at.run]
	p := run.Tree.Profile
	shares := func(edges []calltree.Edge) map[int32]float64 {
		out, sum := map[int32]float64{}, 0.0
		for _, x := range edges {
			sum += float64(x.Value)
		}
		for _, x := range edges {
			n := int32(-1)
			if x.Function != 0 {
				var ok bool
				if n, ok = m.number[side][key{p.FunctionName(x.Function), p.Home(x.Function)}]; !ok {
					continue // it is looked for itself
				}
			}
			out[n] += float64(x.Value) / sum
		}
		return out
	}
	return neighbours{shares(calltree.Callers(run.Tree, run.Cost, at.id)), shares(calltree.Callees(run.Tree, run.Cost, at.id))}
}

// overlap is what two distributions have in common, from 0 to 1; two that are
// both empty are alike.
func overlap(a, b map[int32]float64) float64 {
	if len(a) == 0 && len(b) == 0 {
		return 1
	}
	sum := 0.0
	for k, v := range a {
		sum += math.Min(v, b[k])
	}
	return sum
}

// candidates are what is left of some weight on both sides.
func (m *matching) candidates() (as, bs []*entry) {
	pick := func(list []*entry) []*entry {
		n := 0
		for n < len(list) && n < maxWeighty && list[n].cost >= weighty {
			n++
		}
		for _, e := range list[:n] {
			e.last = lastName(e.Name)
		}
		return list[:n]
	}
	return pick(ordered(m.left[0])), pick(ordered(m.left[1]))
}

// best matches what is the other's best by a score, and by far: a second one that
// is nearly as good means that nobody knows.
func (m *matching) best(score func(a, b *entry) (float64, string)) {
	const (
		least  = 0.6
		margin = 0.1
	)
	as, bs := m.candidates()
	type found struct {
		to            int
		first, second float64
		reason        string
	}
	fromA, fromB := make([]found, len(as)), make([]found, len(bs))
	put := func(f *found, to int, s float64, reason string) {
		if s > f.first {
			f.to, f.first, f.second, f.reason = to, s, f.first, reason
		} else {
			f.second = math.Max(f.second, s)
		}
	}
	for i, a := range as {
		for j, b := range bs {
			if m.apart[[2]string{a.Name, b.Name}] {
				continue
			}
			if s, reason := score(a, b); s > 0 {
				put(&fromA[i], j, s, reason)
				put(&fromB[j], i, s, reason)
			}
		}
	}
	for i, x := range fromA {
		if x.first < least || x.first-x.second < margin {
			continue
		}
		if y := fromB[x.to]; y.to == i && y.first-y.second >= margin {
			m.match(as[i], bs[x.to], x.reason)
		}
	}
}

// moved matches functions that kept their own name and went into another package,
// class or module, where who calls them or what they call says so, too.
func (m *matching) moved() {
	known := map[*entry]neighbours{}
	m.best(func(a, b *entry) (float64, string) {
		if a.last == "" || a.last != b.last {
			return 0, ""
		}
		x, y := m.cached(known, 0, a), m.cached(known, 1, b)
		callers, callees := overlap(x.callers, y.callers), overlap(x.callees, y.callees)
		if math.Max(callers, callees) < sameNeighbours {
			return 0, ""
		}
		return 0.5 + 0.3*callers + 0.2*callees, fmt.Sprintf("moved: both are %s, %s", a.last, likeness(callers, callees))
	})
}

// renamed matches functions of one file that have another name, the same place
// in the tree, and something of their own in common.
func (m *matching) renamed() {
	known := map[*entry]neighbours{}
	m.best(func(a, b *entry) (float64, string) {
		if a.home != b.home || a.file == "" || path.Base(a.file) != path.Base(b.file) {
			return 0, ""
		}
		names := alike(a.last, b.last)
		near := math.Abs(float64(a.line)-float64(b.line)) <= nearLines
		if !near && names < 0.5 {
			return 0, "" // before the neighbours are looked for, which takes longest
		}
		x, y := m.cached(known, 0, a), m.cached(known, 1, b)
		callers, callees := overlap(x.callers, y.callers), overlap(x.callees, y.callees)
		calls := len(x.callees) > 0 && len(y.callees) > 0 && callees >= sameNeighbours
		if callers < sameNeighbours || !calls && names < 0.4 {
			return 0, ""
		}
		return 0.4*callers + 0.3*callees + 0.3*math.Max(names, 0.5), fmt.Sprintf("renamed: in the same file %s, %s", path.Base(a.file), likeness(callers, callees))
	})
}

func (m *matching) cached(known map[*entry]neighbours, side int, e *entry) neighbours {
	n, ok := known[e]
	if !ok {
		n = m.around(side, e)
		known[e] = n
	}
	return n
}

func likeness(callers, callees float64) string {
	switch {
	case callers >= sameNeighbours && callees >= sameNeighbours:
		return "with the same callers and callees"
	case callers >= sameNeighbours:
		return "with the same callers"
	}
	return "with the same callees"
}
