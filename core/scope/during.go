package scope

import (
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

func (x during) on(s *subject) condition {
	v := &s.p.Intervals
	is := once(func(f profile.FunctionID) bool {
		name := profile.SpanNameOf(s.p, f)
		return fitsAny(x.spans, name, profile.Short(name))
	})
	return s.within(func(i int) bool {
		return v.Kind[i] == profile.IntervalSpan && (x.longer == 0 || v.Duration[i] > x.longer) && (x.shorter == 0 || v.Duration[i] < x.shorter) && is(s.p.FunctionOf(v.Stack[i]))
	}, false)
}

// During reports whether the scope asks what goes on, or who ended it, which is known once a take is over.
func (s Scope) During() bool {
	return s.root != nil && some(s.root, func(x expression) bool {
		switch x.(type) {
		case during, inEvents, woken:
			return true
		}
		return false
	})
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
