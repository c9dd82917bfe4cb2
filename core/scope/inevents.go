package scope

import (
	"errors"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/alecthomas/participle/v2/lexer"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope/language"
)

// inEvents holds for what a thread did in an event of its own for which this is so, and for such events
// themselves.
type inEvents struct{ where expression }

// about is what is asked of an event: of its kind, its name, how long it was, or of an attribute.
type about struct {
	name  string
	is    []pattern // empty: it is a number, compared
	by    comparison
	value int64
	unit  string
}

// text has brackets always, so that it is clear where it ends.
func (x inEvents) text(binding) string { return "in events where (" + x.where.text(weakest) + ")" }

func (x about) text(binding) string {
	if len(x.is) > 0 {
		return field{language.Quote(x.name), x.is}.text(weakest)
	}
	return amount{language.Quote(x.name), x.by, x.value, x.unit}.text(weakest)
}

func (inEvents) early(Early) Verdict { return Unknown }
func (about) early(Early) Verdict    { return Unknown }

// on of what is asked of an event is asked of intervals alone: see inEvents.
func (x about) on(s *subject) condition { return s.always(false) }

func (x inEvents) on(s *subject) condition {
	e := asked{p: s.p, kinds: map[profile.IntervalKind]string{}}
	is := e.of(x.where)
	all := func() condition { return s.within(func(i int) bool { return e.event(i) && is(i) == yes }, true) }
	if !profile.AreIntervals(s.p) {
		return all()
	}
	within := sync.OnceValue(all) // which is seldom asked for
	// Of events themselves those count for which it is so, and not others that happen meanwhile in the
	// same thread, unless it cannot be asked of them at all.
	return s.bySample(func(i int) bool {
		if !e.event(i) {
			return within().holds(i)
		}
		switch is(i) {
		case yes:
			return true
		case no:
			return false
		}
		return within().holds(i)
	})
}

// answer is what is said of an event; notAsked, that it has nothing of what is asked for.
type answer uint8

const (
	no answer = iota
	yes
	notAsked
)

// asked answers questions about the intervals of a profile.
type asked struct {
	p     *profile.Profile
	kinds map[profile.IntervalKind]string
}

// event reports whether an interval is an event, and not the life of a thread, or who carried whom.
func (e *asked) event(i int) bool {
	k := e.p.Intervals.Kind[i]
	return k != profile.IntervalAlive && k != profile.IntervalCarried
}

func (e *asked) of(x expression) func(i int) answer {
	parts := func(xs []expression, strongest, then answer) func(i int) answer {
		var of []func(i int) answer
		for _, x := range xs {
			of = append(of, e.of(x))
		}
		weakest := yes + no + notAsked - strongest - then
		return func(i int) answer {
			out := weakest
			for _, f := range of {
				switch a := f(i); {
				case a == strongest:
					return a
				case a == then:
					out = a
				}
			}
			return out
		}
	}
	switch x := x.(type) {
	case all:
		return parts(x, notAsked, no)
	case any_:
		return parts(x, yes, notAsked)
	case not:
		of := e.of(x.of)
		asks, is := x.of.(about)
		kind := is && asks.name == language.EventKind
		return func(i int) answer {
			switch a := of(i); {
			case kind && a == yes:
				return notAsked
			case kind:
				return yes
			case a == notAsked:
				return a
			case a == yes:
				return no
			}
			return yes
		}
	case about:
		return e.about(x)
	}
	return func(int) answer { return no } // the grammar has none
}

func said(is bool) answer {
	if is {
		return yes
	}
	return no
}

func (e *asked) about(x about) func(i int) answer {
	v := &e.p.Intervals
	switch x.name {
	case language.EventKind:
		return func(i int) answer {
			k := v.Kind[i]
			name, known := e.kinds[k]
			if !known {
				name = profile.EventKindOf(e.p, k)
				e.kinds[k] = name
			}
			if fitsAny(x.is, name, profile.OfEventKind(name)) {
				return yes
			}
			return notAsked // it is about others
		}
	case language.EventName:
		is := once(func(f profile.FunctionID) bool {
			name := e.p.FunctionName(f)
			return fitsAny(x.is, name, profile.Short(name), profile.MarkValue(e.p, f))
		})
		return func(i int) answer { return said(is(e.p.FunctionOf(v.Stack[i]))) }
	case language.EventDuration:
		return func(i int) answer { return said(x.by.holds(v.Duration[i], x.value)) }
	}
	var columns []profile.Attribute
	for _, a := range v.Attributes {
		if e.p.Strings[a.Name] == x.name && (len(x.is) > 0 || a.Type != profile.AttributeText) {
			columns = append(columns, a)
		}
	}
	texts := once(func(id profile.StringID) bool { return fitsAny(x.is, e.p.Strings[id]) })
	next := make([]cursor, len(columns))
	return func(i int) answer {
		for k, a := range columns {
			at, has := next[k].at(&a, i)
			switch {
			case !has:
				continue
			case len(x.is) == 0:
				return said(x.by.holds(at, x.value))
			case a.Type == profile.AttributeText:
				return said(texts(profile.StringID(at)))
			}
			return said(fitsAny(x.is, strconv.FormatInt(at, 10)))
		}
		return notAsked
	}
}

// cursor reads an attribute. Asked for intervals in ascending order, it looks at each value once.
type cursor struct{ next, last int }

func (c *cursor) at(a *profile.Attribute, i int) (value int64, has bool) {
	if i < c.last || i > c.last+1024 {
		c.next = sort.Search(len(a.Interval), func(k int) bool { return int(a.Interval[k]) >= i })
	}
	c.last = i
	for c.next < len(a.Interval) && int(a.Interval[c.next]) < i {
		c.next++
	}
	if c.next == len(a.Interval) || int(a.Interval[c.next]) != i {
		return 0, false
	}
	return a.Value[c.next], true
}

// holds compares a value.
func (c comparison) holds(v, with int64) bool {
	switch c {
	case over:
		return v > with
	case under:
		return v < with
	case atLeast:
		return v >= with
	}
	return v <= with
}

// woken holds for waits that threads of these names or numbers ended, and for what else their threads
// did in that time: their samples.
type woken struct{ by []pattern }

func (x woken) text(binding) string { return "woken by thread " + patternList(x.by, ", ") }
func (woken) early(Early) Verdict   { return Unknown }

func (x woken) on(s *subject) condition {
	links := s.p.Intervals.Ended
	is := once(func(id profile.ThreadID) bool {
		t := s.p.Threads[id]
		return fitsAny(x.by, s.p.Strings[t.Name], number(t.TID))
	})
	chosen := func(i int) bool {
		n := sort.Search(len(links.Interval), func(k int) bool { return int(links.Interval[k]) >= i })
		return n < len(links.Interval) && int(links.Interval[n]) == i && s.p.Intervals.Kind[i] == profile.IntervalWait && links.Thread[n] != profile.NoThread && is(links.Thread[n])
	}
	if profile.AreIntervals(s.p) {
		return s.bySample(chosen)
	}
	return s.within(chosen, false)
}

// inNode is what stands behind "in".
type inNode struct {
	Pos   lexer.Position
	Where *oneNode `parser:"'events' 'where' @@"`
}

// wokenNode is what stands behind "woken".
type wokenNode struct {
	By []*textNode `parser:"'by' 'thread' @@ (',' @@)*"`
}

// eventual reports whether a condition can only be one about events: it follows others of these.
func eventual(n *oneNode) bool {
	if n.Not != nil {
		return eventual(n.Not)
	}
	if n.Is == nil || n.Is.Field == nil || slices.Contains(language.FieldNames, n.Is.Field.Name) {
		return false
	}
	_, column := measure.Named(n.Is.Field.Name)
	return !column
}

// inEvents makes the condition of what stands behind "where", and of the conditions about events that
// follow it.
func (c converter) inEvents(first *oneNode, more []*oneNode) (expression, error) {
	where, err := joinedOf[all](append([]*oneNode{first}, more...), c.ofEvents, func(xs all) expression { return xs })
	return inEvents{where}, err
}

func (c converter) ofEvents(n *oneNode) (expression, error) {
	switch {
	case n.Not != nil:
		x, err := c.ofEvents(n.Not)
		if err != nil {
			return nil, err
		}
		return negate(x), nil
	case n.Group != nil:
		return joinedOf[any_](n.Group.All, func(n *allNode) (expression, error) {
			return joinedOf[all](n.One, c.ofEvents, func(xs all) expression { return xs })
		}, func(xs any_) expression { return xs })
	case n.Is.Field == nil:
		return nil, c.wrong(n.Is.Pos, "behind \"where\" are conditions about events, such as: kind is disk and bytes over 1 MiB", "")
	}
	return c.ofEvent(n.Is.Field)
}

func (c converter) ofEvent(n *fieldNode) (expression, error) {
	if n.Is != nil || n.Matches != nil {
		if n.Name == language.EventDuration {
			return nil, c.wrong(n.Pos, `duration is an amount; write "duration over 5 ms"`, "")
		}
		texts, not, err := c.values(n.Is, n.Matches)
		return negated(about{name: n.Name, is: texts}, not), err
	}
	by, node := n.comparison()
	if n.Name == language.EventKind || n.Name == language.EventName {
		return nil, c.wrong(n.Pos, fmt.Sprintf(`%s is not an amount; write "%s is …"`, n.Name, n.Name), "")
	}
	v, unit, err := c.amount(node)
	if err == nil && n.Name == language.EventDuration && unit != "ns" {
		err = c.wrong(node.Pos, "a duration has a unit: s, ms, µs or ns", "")
	}
	return about{name: n.Name, by: by, value: v, unit: unit}, err
}

// InEvents is the scope of events of a kind for which something is so. Its errors speak of that text alone.
func InEvents(kind, where string) (Scope, error) {
	head, tail := "in events where (kind is "+language.Quote(kind)+" and (", "))"
	s, err := Parse(head + where + tail)
	var wrong *SyntaxError
	if errors.As(err, &wrong) {
		wrong.Text = where
		wrong.At = max(0, min(wrong.At-utf8.RuneCountInString(head), utf8.RuneCountInString(where)))
		wrong.Correction = strings.TrimSuffix(strings.TrimPrefix(wrong.Correction, head), tail)
	}
	return s, err
}

// eventNames tells what can be asked of the events of a profile, and of texts the values, with how many
// events have them.
func eventNames(p *profile.Profile, gather func(field string, each func(add func(name string, n int64, also ...string)))) {
	v := &p.Intervals
	var kinds [256]int64
	for _, k := range v.Kind {
		kinds[k]++
	}
	gather(language.EventField(language.EventKind), func(add func(string, int64, ...string)) {
		for k, n := range kinds {
			if n > 0 {
				add(profile.EventKindOf(p, profile.IntervalKind(k)), n)
			}
		}
	})
	names := map[profile.FunctionID]int64{}
	for i, k := range v.Kind {
		if k == profile.IntervalCall || k.Column() >= 0 {
			names[p.FunctionOf(v.Stack[i])]++
		}
	}
	gather(language.EventField(language.EventName), func(add func(string, int64, ...string)) {
		for f, n := range names {
			add(profile.MarkValue(p, f), n)
		}
	})
	gather(language.EventField(""), func(add func(string, int64, ...string)) {
		for _, a := range v.Attributes {
			add(p.Strings[a.Name], int64(len(a.Interval)))
		}
	})
	for _, a := range v.Attributes {
		if a.Type != profile.AttributeText {
			continue
		}
		counts := map[int64]int64{}
		for _, x := range a.Value {
			counts[x]++
		}
		gather(language.EventField(p.Strings[a.Name]), func(add func(string, int64, ...string)) {
			for x, n := range counts {
				add(p.Strings[x], n)
			}
		})
	}
}
