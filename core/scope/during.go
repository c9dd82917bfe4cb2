package scope

import (
	"cmp"
	"slices"
	"sort"
	"strings"

	"entelon/core/profile"
)

// during holds while a span of one of these names goes on: in its thread, and of a goroutine in whichever
// thread carries it. longer and shorter bound how long the span is, in nanoseconds; 0: they do not.
type during struct {
	spans           []pattern
	longer, shorter int64
}

func (x during) text(binding) string {
	out := "during span " + patternList(x.spans, ", ")
	if x.longer > 0 {
		out += " longer than " + timeText(x.longer)
	}
	if x.shorter > 0 {
		out += " shorter than " + timeText(x.shorter)
	}
	return out
}

func (during) early(Early) Verdict { return Unknown }

// stretch is a part of the time.
type stretch struct{ from, to int64 }

func (x during) on(s *subject) condition {
	if s.p.Samples.Time == nil {
		return s.always(false) // nothing is known of when it was
	}
	at := x.stretches(s.p)
	return s.bySample(func(i int) bool {
		of := at[s.p.Samples.Thread[i]]
		t := s.p.Samples.Time[i]
		n := sort.Search(len(of), func(k int) bool { return of[k].from > t })
		return n > 0 && t < of[n-1].to
	})
}

// stretches are when such spans go on, by thread, and by goroutine: in order, and none within another.
func (x during) stretches(p *profile.Profile) map[profile.ThreadID][]stretch {
	v := &p.Intervals
	is := once(func(f profile.FunctionID) bool {
		name := profile.SpanNameOf(p, f)
		return fitsAny(x.spans, name, profile.Short(name))
	})
	out := map[profile.ThreadID][]stretch{}
	for i, k := range v.Kind {
		if k != profile.IntervalSpan || x.longer > 0 && v.Duration[i] <= x.longer || x.shorter > 0 && v.Duration[i] >= x.shorter || !is(p.FunctionOf(v.Stack[i])) {
			continue
		}
		out[v.Thread[i]] = append(out[v.Thread[i]], stretch{v.Start[i], v.Start[i] + v.Duration[i]})
	}
	for id, of := range out {
		out[id] = merged(of)
	}
	for routine, carried := range profile.CarriagesOf(p) {
		of := out[routine]
		if len(of) == 0 {
			continue
		}
		for _, c := range carried {
			n := sort.Search(len(of), func(k int) bool { return of[k].to > c.From })
			for ; n < len(of) && of[n].from < c.To; n++ {
				out[c.Carrier] = append(out[c.Carrier], stretch{max(of[n].from, c.From), min(of[n].to, c.To)})
			}
		}
	}
	for id, of := range out {
		out[id] = merged(of)
	}
	return out
}

// merged puts stretches in order, those that meet into one.
func merged(of []stretch) []stretch {
	slices.SortFunc(of, func(a, b stretch) int { return cmp.Compare(a.from, b.from) })
	out := of[:0]
	for _, x := range of {
		if n := len(out); n > 0 && x.from <= out[n-1].to {
			out[n-1].to = max(out[n-1].to, x.to)
			continue
		}
		out = append(out, x)
	}
	return out
}

// During reports whether the scope asks which spans go on, which is known once a take is over.
func (s Scope) During() bool {
	return s.root != nil && some(s.root, func(x expression) bool { _, is := x.(during); return is })
}

// duringNode is what stands behind "during".
type duringNode struct {
	Spans   []*textNode `parser:"'span' @@ (',' @@)*"`
	Longer  *amountNode `parser:"( 'longer' 'than' @@ )?"`
	Shorter *amountNode `parser:"( 'shorter' 'than' @@ )?"`
}

func (c converter) during(n *duringNode) (expression, error) {
	spans, err := c.patterns(n.Spans)
	if err != nil {
		return nil, err
	}
	out := during{spans: spans}
	for _, x := range []struct {
		n    *amountNode
		into *int64
	}{{n.Longer, &out.longer}, {n.Shorter, &out.shorter}} {
		if x.n == nil {
			continue
		}
		v, unit, err := c.amount(x.n)
		if err != nil {
			return nil, err
		}
		if unit != "ns" || v == 0 {
			return nil, c.wrong(x.n.Pos, "a span is longer or shorter than a time with its unit, such as 50 ms", "")
		}
		*x.into = v
	}
	return out, nil
}

// duringField is under what names of spans that have a beginning and an end are proposed.
const duringField = "during"

// spanNames tells the names of spans with how many there are of each.
func spanNames(p *profile.Profile, add func(name string, n int64, also ...string)) {
	v := &p.Intervals
	counts := map[profile.FunctionID]int64{}
	for i, k := range v.Kind {
		if k == profile.IntervalSpan {
			counts[p.FunctionOf(v.Stack[i])]++
		}
	}
	for f, n := range counts {
		name := profile.SpanNameOf(p, f)
		add(strings.TrimSpace(profile.Short(name)), n, name)
	}
}
