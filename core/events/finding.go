package events

import (
	"container/heap"
	"slices"

	"entelon/core/measure"
	"entelon/core/profile"
)

// finding is what some of the rows of a kind come to. Several are made side by side and added up.
type finding struct {
	q       *Question
	p       *profile.Profile
	values  func(i int) (amount, events int64)
	chosen  *reader // of the column that amounts are of; nil: the kind's own
	before  func(a, b Row) int
	first   heaped // the last of the rows that are kept is at its top
	amounts amounts
	groups  []grouping
	over    []int64
	perNS   float64 // bins a nanosecond
	events  int64
	starts  []int64 // when each row was; nil: it is not known
}

func (x *finding) begin() {
	q := x.q
	_, x.values = q.Kind.rows(x.p, false)
	x.chosen = q.reader(x.p)
	x.before = before(q.By)
	x.first.before = x.before
	x.groups = groupsOf(x.p, &q.Kind, q.Columns)
	x.over = make([]int64, q.Bins)
	x.perNS = float64(q.Bins) / float64(max(1, q.To-q.From))
	x.starts = x.p.Samples.Time
	if q.Kind.Apart {
		x.starts = x.p.Intervals.Start
	}
}

// see takes a row.
func (x *finding) see(i int) {
	amount, events := x.values(i)
	if amount == 0 && events == 0 {
		return // it is none
	}
	if x.chosen != nil {
		var has bool
		if amount, has = x.chosen.at(i); !has {
			return
		}
	}
	x.events += max(events, 1)
	x.amounts.add(amount)
	for g := range x.groups {
		x.groups[g].add(i, amount)
	}
	at := int64(0)
	if x.starts != nil {
		at = x.starts[i]
	}
	if n := len(x.over); n > 0 && at >= x.q.From {
		bin := float64(at-x.q.From) * x.perNS
		x.over[int(min(bin, float64(n-1)))]++ // a time may be far behind the end
	}
	x.keep(i, at, amount, events)
}

// keep keeps a row if it is among the first.
func (x *finding) keep(i int, at, amount, events int64) {
	limit := x.q.Limit
	if limit > 0 && len(x.first.rows) == limit {
		last := &x.first.rows[0]
		if x.q.By == ByAmount && amount < last.Amount || x.q.By == ByTime && at > last.Time {
			return
		}
	}
	r := Row{Sample: i, Time: at, Amount: amount, Events: events}
	if x.q.Kind.Apart {
		r.Thread, r.Stack = x.p.Intervals.Thread[i], x.p.Intervals.Stack[i]
	} else {
		r.Thread, r.Stack = x.p.Samples.Thread[i], x.p.Samples.Stack[i]
	}
	r.What = x.p.FunctionOf(r.Stack)
	x.put(r)
}

func (x *finding) put(r Row) {
	switch limit := x.q.Limit; {
	case limit == 0:
		x.first.rows = append(x.first.rows, r)
	case len(x.first.rows) < limit:
		heap.Push(&x.first, r)
	case x.before(r, x.first.rows[0]) < 0:
		x.first.rows[0] = r
		heap.Fix(&x.first, 0)
	}
}

// add adds what others found.
func (x *finding) add(o *finding) {
	x.events += o.events
	x.amounts.join(&o.amounts)
	for i, n := range o.over {
		x.over[i] += n
	}
	for g := range x.groups {
		x.groups[g].join(&o.groups[g])
	}
	for _, r := range o.first.rows {
		x.put(r)
	}
}

// found is what all of it comes to.
func (x *finding) found() (f Found) {
	q := x.q
	f.All, f.Events, f.Total, f.Over = x.amounts.count, x.events, x.amounts.total, x.over
	if f.All > 0 {
		var bounds []int64
		if unit := q.Unit(); unit != measure.Count || q.Column != nil {
			bounds = x.amounts.boundsOf(unit)
		}
		c := x.amounts.settle([]float64{0.5, 0.9, 0.99}, bounds)
		f.Median, f.Ninety, f.Almost, f.Largest = c.atMost(0.5), c.atMost(0.9), c.atMost(0.99), c.largest
		if bounds != nil {
			f.Sizes = c.sizes(bounds)
		}
	}
	f.Rows = x.first.rows
	slices.SortFunc(f.Rows, x.before)
	for i := range f.Rows {
		f.Rows[i].Values = valuesOf(x.p, &f.Rows[i], q.Columns)
	}
	for g := range x.groups {
		f.Groups = append(f.Groups, x.groups[g].group())
	}
	return f
}
