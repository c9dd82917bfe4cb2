// Package match says which functions of several takes are one: those with the same name and
// home, and then those that were renamed or moved, by what else speaks for it, from the
// surest reason to the least.
//
// It holds nothing between calls.
package match

import (
	"fmt"
	"sort"

	"entelon/core/profile"
)

// Match is a function that has another name, or another home, on each side.
type Match struct {
	Baseline, Candidate string // full names
	Reason              string // why they are taken for one, in words
	ByHand              bool
}

// Hand are matches that somebody made, and those that somebody undid.
type Hand struct {
	Together [][2]string // full names of the baseline and of the candidate
	Apart    [][2]string
}

// key tells functions apart within a side.
type key struct{ Name, home string }

// entry is a function of one side, over all of its takes.
type entry struct {
	key
	file  string
	line  uint32
	cost  float64 // total, of the whole, in all takes
	where []occurrence
	last  string // its last name, where it was asked for
}

// occurrence is a function in one take.
type occurrence struct {
	run int
	id  profile.FunctionID
}

// Alignment says which functions of all takes are one: each has a number.
type Alignment struct {
	Names   []key        // by number
	IDs     [2][][]int32 // by side, take and the take's own number
	MatchOf map[int32]*Match
	Matches []Match
}

// newAlignment matches functions by name and home first. What is left on both
// sides is matched by what else speaks for it, from the surest reason to the
// least; nothing is matched because nothing better was left.
func Align(runs [2][]Run, hand Hand) *Alignment {
	sides := [2]map[key]*entry{collect(runs[0]), collect(runs[1])}
	al := &Alignment{MatchOf: map[int32]*Match{}}
	number := [2]map[key]int32{{}, {}}
	give := func(a, b *entry) int32 {
		n := int32(len(al.Names))
		if b != nil {
			al.Names = append(al.Names, b.key)
			number[1][b.key] = n
		} else {
			al.Names = append(al.Names, a.key)
		}
		if a != nil {
			number[0][a.key] = n
		}
		return n
	}
	pair := func(a, b *entry, reason string, byHand bool) {
		n := give(a, b)
		al.Matches = append(al.Matches, Match{a.Name, b.Name, reason, byHand})
		al.MatchOf[n] = &Match{a.Name, b.Name, reason, byHand}
	}
	apart := map[[2]string]bool{}
	for _, p := range hand.Apart {
		apart[p] = true
	}
	// By hand before all others, so that a name can be taken from its namesake.
	for _, p := range hand.Together {
		a, b := named(sides[0], p[0]), named(sides[1], p[1])
		if a != nil && b != nil && !apart[p] {
			pair(a, b, "matched by hand", true)
			delete(sides[0], a.key)
			delete(sides[1], b.key)
		}
	}
	for _, a := range ordered(sides[0]) {
		if b := sides[1][a.key]; b != nil && !apart[[2]string{a.Name, b.Name}] {
			give(a, b)
			delete(sides[0], a.key)
			delete(sides[1], b.key)
		}
	}
	for _, rule := range rules {
		rule(&matching{runs, sides, number, func(a, b *entry, reason string) {
			pair(a, b, reason, false)
			delete(sides[0], a.key)
			delete(sides[1], b.key)
		}, apart})
	}
	for _, a := range ordered(sides[0]) {
		give(a, nil)
	}
	for _, b := range ordered(sides[1]) {
		give(nil, b)
	}
	for side, runs := range runs {
		for i := range runs {
			p := runs[i].Tree.Profile
			ids := make([]int32, len(p.Functions))
			for f := range ids {
				id := profile.FunctionID(f)
				n, ok := number[side][key{p.FunctionName(id), p.Home(id)}]
				if !ok {
					n = -1 // without cost in any take
				}
				ids[f] = n
			}
			al.IDs[side] = append(al.IDs[side], ids)
		}
	}
	return al
}

// collect gathers the functions with cost of one side.
func collect(runs []Run) map[key]*entry {
	out := map[key]*entry{}
	for i := range runs {
		p := runs[i].Tree.Profile
		total := float64(max(1, runs[i].Total()))
		for _, f := range runs[i].Functions {
			k := key{p.FunctionName(f.Function), p.Home(f.Function)}
			e := out[k]
			if e == nil {
				e = &entry{key: k}
				out[k] = e
			}
			if fn := p.Functions[f.Function]; fn.File != 0 {
				e.file, e.line = p.Strings[fn.File], fn.Line
			}
			e.cost += float64(f.Total) / total / float64(len(runs))
			e.where = append(e.where, occurrence{i, f.Function})
		}
	}
	return out
}

// ordered puts entries into an order that is always the same, the costliest first.
func ordered(m map[key]*entry) []*entry {
	out := make([]*entry, 0, len(m))
	for _, e := range m {
		out = append(out, e)
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].cost != out[j].cost {
			return out[i].cost > out[j].cost
		}
		if out[i].Name != out[j].Name {
			return out[i].Name < out[j].Name
		}
		return out[i].home < out[j].home
	})
	return out
}

func named(m map[key]*entry, name string) *entry {
	for _, e := range ordered(m) {
		if e.Name == name {
			return e
		}
	}
	return nil
}

// matching is what a rule works on: what is left of each side.
type matching struct {
	runs   [2][]Run
	left   [2]map[key]*entry
	number [2]map[key]int32
	match  func(a, b *entry, reason string)
	apart  map[[2]string]bool
}

// rules are in the order of how sure they are.
var rules = []func(*matching){
	func(m *matching) { m.unique(func(e *entry) string { return e.Name }, otherHome) },
	func(m *matching) {
		m.unique(func(e *entry) string { return e.home + "\x00" + plainName(e.Name) }, otherForm)
	},
	func(m *matching) { m.moved() },
	func(m *matching) { m.renamed() },
}

func otherHome(a, b *entry) string {
	say := func(h string) string {
		if h == "" {
			return "the program itself"
		}
		return h
	}
	return fmt.Sprintf("the same name, in %s instead of %s", say(b.home), say(a.home))
}

// unique matches what has the same form and is alone with it on both sides.
func (m *matching) unique(form func(*entry) string, reason func(a, b *entry) string) {
	var by [2]map[string][]*entry
	forms := map[*entry]string{}
	for side := range by {
		by[side] = map[string][]*entry{}
		for _, e := range ordered(m.left[side]) {
			f := form(e)
			forms[e] = f
			by[side][f] = append(by[side][f], e)
		}
	}
	for _, a := range ordered(m.left[0]) {
		f := forms[a]
		if f == "" || len(by[0][f]) != 1 || len(by[1][f]) != 1 {
			continue
		}
		if b := by[1][f][0]; !m.apart[[2]string{a.Name, b.Name}] {
			m.match(a, b, reason(a, b))
		}
	}
}
