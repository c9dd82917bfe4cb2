// Package events lists what a take recorded event by event: waits, system calls, disk requests, page
// faults, allocations, calls, passes of tracepoints. Each sample of such a measure is a row: when it
// was, who did it, how long it took or how many bytes it moved, and on which stack.
//
// Where events come so fast that they are added up in the kernel, a sample stands for its own event
// and for those that came after it until the next sample; a Row says for how many where the take
// counted that, and a Kind how many events have no row of their own.
//
// The package has no state.
package events

import (
	"cmp"
	"errors"
	"iter"
	"sync"

	"entelon/core/measure"
	"entelon/core/parallel"
	"entelon/core/profile"
	"entelon/core/scope"
)

// ErrNone is the error about a take of which nothing was recorded event by event.
var ErrNone = errors.New("nothing in this take was recorded event by event")

// Kind is one kind of event that a take has.
type Kind struct {
	Name   string       // as it was chosen: "waiting", "disk", "tracepoint:sched:sched_switch"
	Label  string       // of many of them: "waits", "system calls"
	Unit   measure.Unit // of its amount: measure.Nanoseconds, measure.Bytes, or measure.Count where it has none
	Time   measure.TimeIs
	Events int64 // that the take counted, whatever the scope; 0: not known
	Single int64 // of them, those with a row of their own; 0: not known
	Lost   int64 // more that happened and are not in the take
	// Apart: each event was kept with its beginning and its end, or not at all; else what has no row
	// of its own is added to another's.
	Apart bool

	amount int // column, -1 where there is none
	count  int // column, -1 where there is none
	first  int // the first column of its measure
}

// Thinned reports whether events have no row of their own.
func (k *Kind) Thinned() bool { return k.Events > k.Single && k.Single > 0 }

// Short says of those that came too fast which they were, before "came": those that are short or small.
func (k *Kind) Short() string {
	switch k.Unit {
	case measure.Nanoseconds:
		return "were shorter than 1 ms and "
	case measure.Bytes:
		return "were smaller than 64 KiB and "
	}
	return ""
}

// Column is the name of the measure that its amounts are of, "" where it has none.
func (k *Kind) Column(p *profile.Profile) string {
	if k.amount < 0 {
		return ""
	}
	return p.Words(k.amount).Name
}

// KindsOf are the kinds that a take has, in the order in which its measures were chosen.
func KindsOf(t *profile.Take) []Kind {
	if t.Facts.Exact != nil {
		return nil // everything was counted, and nothing recorded one by one
	}
	var out []Kind
	at := map[string]int{}
	for m := range t.Profile.Measures {
		w := t.Profile.Words(m)
		row := measure.Choice{Kind: w.Kind}.Row()
		if w.Kind == "" || row.Way == measure.ByClock || !w.Counted || w.Combine == measure.Level {
			continue
		}
		name := w.Kind
		if w.Of != "" {
			name += ":" + w.Of
		}
		k, known := at[name]
		if !known {
			k = len(out)
			at[name] = k
			out = append(out, Kind{Name: name, Label: w.Label, Unit: measure.Count, Time: w.Time, amount: -1, count: -1, first: m})
			if c, ok := t.CountingOf(m); ok {
				out[k].Events, out[k].Single, out[k].Lost = c.Events, c.Singly, c.Lost
			}
		}
		if w.Unit == measure.Count {
			out[k].count, out[k].Label = m, w.Label
		} else {
			out[k].amount, out[k].Unit = m, w.Unit
		}
	}
	var kept [256]bool
	for _, of := range t.Profile.Intervals.Kind {
		kept[of] = true
	}
	for i := range out {
		k := &out[i]
		if k.Name == measure.Waiting {
			k.Label = "waits"
		}
		for of, is := range kept {
			k.Apart = k.Apart || is && k.passing(profile.IntervalKind(of))
		}
		if c, ok := t.CountingOf(k.first); ok && k.Apart {
			k.Single = min(c.Intervals, k.Events)
		}
	}
	return out
}

// Named returns the kind of a name, "" being the first. Its error names those that there are.
func Named(kinds []Kind, name string) (Kind, error) {
	if len(kinds) == 0 {
		return Kind{}, ErrNone
	}
	for _, k := range kinds {
		if name == "" || k.Name == name {
			return k, nil
		}
	}
	return Kind{}, &UnknownKind{name, kinds}
}

// Row is one sample of a kind.
type Row struct {
	Sample int // position among the samples, or among the intervals
	Time   int64
	Thread profile.ThreadID
	Stack  profile.StackID
	What   profile.FunctionID // the mark that says what it is, or the function in which it happened
	Amount int64              // of the column that was asked for; 0 where the kind has none
	Events int64              // that it stands for; 0: one, or it is not known
	Values []Value            // of the kind's columns, where they were asked for
}

// Order is what rows are sorted by.
type Order string

// The orders.
const (
	ByTime   Order = "time"   // the first one first
	ByAmount Order = "amount" // the longest, or the largest, first
)

// Question is which rows of a kind are asked for.
type Question struct {
	Kind  Kind
	Scope scope.Scope
	By    Order
	Limit int // rows at most, 0 for all
	// From and To are the stretch of time over which rows are counted in Bins bins, in nanoseconds
	// since the take began; without bins they are not.
	From, To int64
	Bins     int
	// Column is what amounts are of, in place of the kind's own; rows without it are left out. Columns
	// are what is told of each row, and texts of these are grouped.
	Column  *Column
	Columns []Column
}

// Found is what a scope has of a kind.
type Found struct {
	Rows    []Row // as many as were asked for
	All     int64 // rows
	Events  int64 // that these stand for, as far as that was counted
	Total   int64 // of their amounts
	Median  int64 // of the amounts of rows
	Ninety  int64 // 90 % of them are at most this
	Almost  int64 // 99 %
	Largest int64
	Sizes   []Size  // rows by amount, from the smallest that there is to the largest; none without amounts
	Over    []int64 // rows by bin of time
	Groups  []Group // of the columns that are texts, those with the largest amounts first
}

// Find answers a question. Totals, percentiles, sizes and bins are over all rows, whatever the limit;
// beside what is returned, 8 bytes are needed for each.
func Find(p *profile.Profile, q Question) (f Found) {
	var mu sync.Mutex
	whole := finding{q: &q, p: p}
	whole.begin()
	add := func(x *finding) {
		mu.Lock()
		defer mu.Unlock()
		whole.add(x)
	}
	if q.Kind.Apart {
		kinds := q.Kind.kinds()
		rows, _ := q.Kind.rows(p, q.Scope.Amounts())
		parallel.Pieces(p.Intervals.Len(), func(pieces iter.Seq2[int, int]) {
			x := finding{q: &q, p: p}
			x.begin()
			holds := q.Scope.Contains(rows) // it remembers what it was asked, for one at a time
			for low, high := range pieces {
				for i, of := range p.Intervals.Kind[low:high] {
					if kinds[of] && (q.Scope.All() || holds(low+i)) {
						x.see(low + i)
					}
				}
			}
			add(&x)
		})
	} else {
		x := finding{q: &q, p: p}
		x.begin()
		q.Scope.Sieve(p, false).Each(p, x.see)
		add(&x)
	}
	return whole.found()
}

// before orders rows; no two are equal.
func before(by Order) func(a, b Row) int {
	if by == ByAmount {
		return func(a, b Row) int {
			return cmp.Or(cmp.Compare(b.Amount, a.Amount), cmp.Compare(b.Events, a.Events), cmp.Compare(a.Time, b.Time), cmp.Compare(a.Sample, b.Sample))
		}
	}
	return func(a, b Row) int { return cmp.Or(cmp.Compare(a.Time, b.Time), cmp.Compare(a.Sample, b.Sample)) }
}

// heaped is a heap of rows with the last one at its top.
type heaped struct {
	rows   []Row
	before func(a, b Row) int
}

func (h *heaped) Len() int           { return len(h.rows) }
func (h *heaped) Less(i, j int) bool { return h.before(h.rows[i], h.rows[j]) > 0 }
func (h *heaped) Swap(i, j int)      { h.rows[i], h.rows[j] = h.rows[j], h.rows[i] }

// Push implements heap.Interface.
func (h *heaped) Push(x any) { h.rows = append(h.rows, x.(Row)) }

// Pop implements heap.Interface.
func (h *heaped) Pop() any {
	last := h.rows[len(h.rows)-1]
	h.rows = h.rows[:len(h.rows)-1]
	return last
}

// Place is where in the program's own code a stack is: its innermost frame of that, or the innermost
// of any code where there is none; ok is false for a stack of marks and the kernel alone.
func Place(p *profile.Profile, s profile.StackID) (at profile.FrameID, ok bool) {
	var other profile.FrameID
	own := false
	p.Walk(s, func(id profile.FrameID) {
		if own {
			return
		}
		switch p.Functions[p.Frames[id].Function].Kind {
		case profile.KindOwn, profile.KindInterpreter, profile.KindJIT:
			at, own = id, true
		case profile.KindMark, profile.KindKernel, profile.KindUnknown:
		default:
			if !ok {
				other = id
			}
			ok = true
		}
	})
	if own {
		return at, true
	}
	return other, ok
}
