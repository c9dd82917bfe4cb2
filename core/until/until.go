// Package until says when enough takes were made: that a figure is known within a share, or that a
// difference is decided, without looking so often that chance decides it. It has no state.
package until

import (
	"errors"
	"fmt"
	"math"
	"sort"
	"strconv"
	"strings"
	"time"

	"entelon/core/profile"
	"entelon/core/scales"
	"entelon/core/statistics"
)

// Rule says when enough takes were made.
type Rule struct {
	Function string // pattern of names; "" is the whole
	// Within is half the width of the interval that is wanted, as a share; where a
	// difference is to be decided, the change that is worth knowing.
	Within  float64
	Decided bool // a difference to a baseline is
	Most    int  // takes, or pairs of them
}

// Parse reads "sure 2%", "slur.Route sure 5%" or "decided", "decided 3%". Without a
// share, what is worth knowing is DefaultWorth.
func Parse(text string) (u Rule, err error) {
	words := strings.Fields(strings.ReplaceAll(text, " %", "%"))
	share := ""
	if n := len(words); n > 0 && strings.HasSuffix(words[n-1], "%") {
		share, words = words[n-1], words[:n-1]
	}
	bad := fmt.Errorf("%q: write 'sure 2%%', 'slur.Route sure 5%%', or 'decided' or 'decided 3%%' for a difference to a baseline", text)
	if len(words) == 0 || len(words) > 2 {
		return u, bad
	}
	if len(words) == 2 {
		u.Function = words[0]
	}
	u.Within = statistics.DefaultWorth
	if share != "" {
		v, err := strconv.ParseFloat(strings.TrimSuffix(share, "%"), 64)
		if err != nil || !(v >= 0.1 && v <= 50) {
			return u, fmt.Errorf("%q: give a share from 0.1%% to 50%%", share)
		}
		u.Within = v / 100
	}
	switch words[len(words)-1] {
	case "sure":
	case "decided":
		u.Decided = true
	default:
		return u, bad
	}
	return u, nil
}

// String is the text that ParseUntil reads.
func (u Rule) String() string {
	word := "sure"
	if u.Decided {
		word = "decided"
	}
	return strings.TrimSpace(fmt.Sprintf("%s %s %s%%", u.Function, word, strconv.FormatFloat(100*u.Within, 'g', 6, 64)))
}

// MinLooks is how many takes, or pairs, are made before anything is said.
const MinLooks = 3

// MaxSure and MaxPairs are how many takes, or pairs of them, are made at most where nothing
// else was said.
const (
	MaxSure  = 30
	MaxPairs = 20
)

// Each is how long each take of what is already running lasts, in nanoseconds, where nothing
// else is said.
const Each = int64(5 * time.Second)

// Fit checks that takes with such settings can tell what is wanted, against a baseline or
// not, and sets how many are made at most: as many as repeat says, or what is usual where that
// is 0. Takes of what is already running get a length if they have none.
func (u *Rule) Fit(set *profile.Settings, against bool, repeat int) error {
	switch {
	case u.Decided && !against:
		return errors.New("a difference is decided against a baseline, and none is given")
	case !set.Launched() && u.Function == "":
		return errors.New("the length of a take says nothing about what is already running; name a function, such as 'slur.Route sure 5%'")
	case repeat > 0 && repeat < MinLooks:
		return fmt.Errorf("nothing can be known from fewer than %d takes", MinLooks)
	}
	if u.Most = repeat; repeat == 0 {
		if u.Most = MaxSure; against {
			u.Most = MaxPairs
		}
	}
	if !set.Launched() && set.ForNS == 0 {
		set.ForNS = Each
	}
	return nil
}

// LevelOf is the rate of false alarms that is spent on the look after n of most pairs, so
// that all looks together have that of a single test, whenever it is stopped: with α the rate
// and t = n/most, α(t) = α ln(1 + (e − 1)t) is spent by then (Pocock's form), and each look
// has what was not spent before, as if the looks had nothing in common, which they have; so
// fewer are wrong than is said.
//
// Source: K. K. G. Lan and D. L. DeMets, Discrete sequential boundaries for clinical trials,
// Biometrika 70 (1983), 659–663.
func LevelOf(n, most int) float64 {
	spent := func(n int) float64 {
		if n < MinLooks {
			return 0
		}
		t := math.Min(1, float64(n)/float64(max(1, most)))
		return (1 - statistics.Confidence) * math.Log(1+(math.E-1)*t)
	}
	return spent(n) - spent(n-1)
}

// Progress is how far takes are towards what is wanted.
type Progress struct {
	Done     bool
	Half     float64             // half the width of the interval, as a share; 0 where it is not known yet
	Estimate statistics.Estimate // where a difference is to be decided
	Left     int                 // takes, or pairs, that it will take besides, about; 0 where that is not known
}

// Sure reports how far takes are towards a mean that is known to within a share. With x̄ the
// mean and s the standard deviation of n takes, half the interval is t·s/(√n·x̄); stopping by
// it has nearly its coverage for more than a few takes.
//
// Source: Y. S. Chow and H. Robbins, On the asymptotic theory of fixed-width sequential
// confidence intervals for the mean, Annals of Mathematical Statistics 36 (1965), 457–462.
func (u Rule) Sure(g *statistics.Group) (p Progress) {
	n := len(g.Value)
	if n < MinLooks {
		p.Left = MinLooks - n
		return p
	}
	mean, low, high := statistics.Mean(g.Value)
	if mean <= 0 {
		return p
	}
	p.Half = (high - low) / 2 / mean
	p.Done = p.Half <= u.Within && n > MinLooks // of three, chance alone can be alike
	if !p.Done {
		sd := p.Half * math.Sqrt(float64(n)) / statistics.NewLevel(float64(n-1)).HalfWidth
		p.Left = left(n, func(k int) bool {
			return statistics.NewLevel(float64(k-1)).HalfWidth*sd/math.Sqrt(float64(k)) <= u.Within
		})
	}
	return p
}

// Decide reports how far pairs of takes are towards a decision: that one side is costlier, or
// that they differ by less than what is worth knowing.
func (u Rule) Decide(a, b *statistics.Group, exact bool) (p Progress) {
	n := min(len(a.Value), len(b.Value))
	if n < MinLooks {
		p.Left = MinLooks - n
		return p
	}
	level := LevelOf(n, u.Most)
	p.Estimate = totalsAt(a, b, exact, level)
	e := &p.Estimate
	if e.Baseline <= 0 || e.Candidate <= 0 {
		return p
	}
	p.Half = math.Log(e.RatioHigh/e.RatioLow) / 2
	switch {
	case e.P <= level && e.Difference > 0:
		e.Verdict, p.Done = statistics.Slower, true
	case e.P <= level:
		e.Verdict, p.Done = statistics.Faster, true
	case e.RatioHigh <= 1+u.Within && e.RatioLow >= 1/(1+u.Within):
		e.Verdict, p.Done = statistics.NoChange, true
	default:
		e.Verdict = statistics.TooFew
		// It is decided where the interval is half as wide as what lies between.
		want := math.Max(math.Abs(math.Log(e.Ratio)), math.Log(1+u.Within)-math.Abs(math.Log(e.Ratio)))
		if want > 0 {
			sd := p.Half / statistics.Quantile(1-level/2, float64(2*n-2)) / math.Sqrt(2/float64(n))
			p.Left = left(n, func(k int) bool {
				return statistics.Quantile(1-LevelOf(min(k, u.Most), u.Most)/2, float64(2*k-2))*sd*math.Sqrt(2/float64(k)) <= want
			})
		}
	}
	return p
}

// left is how many takes more than n are enough, 0 where none of a bounded number are.
func left(n int, enough func(takes int) bool) int {
	if k := n + 1 + sort.Search(statistics.MaxTakes-n, func(i int) bool { return enough(n + 1 + i) }); k <= statistics.MaxTakes {
		return k - n
	}
	return 0
}

// totalsAt compares two groups with intervals that are wrong as often as level says.
func totalsAt(a, b *statistics.Group, exact bool, level float64) statistics.Estimate {
	x, y := &statistics.Quantity{Value: a.Value, Samples: float64(a.Samples)}, &statistics.Quantity{Value: b.Value, Samples: float64(b.Samples)}
	s := statistics.WholeSpread(x, y, exact, scales.ByRun)
	s.Widen(statistics.Widening([2]*statistics.Quantity{x, y}, [2][]time.Time{a.At, b.At}), x, y, exact)
	s.HalfWidth = statistics.Quantile(1-level/2, s.Freedom)
	return statistics.Compare(x, y, s, exact)
}
