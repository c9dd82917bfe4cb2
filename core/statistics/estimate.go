// Package statistics says what two groups of takes tell of one cost: how much it differs, within
// which interval, how likely by chance, and how many takes would tell. How much single takes
// differ is estimated from all functions together, takes in the order in which they were made
// count for less where they go along with each other, and of many functions that are tested at
// once the share of wrong ones is held. It has no state.
package statistics

import (
	"math"

	"gonum.org/v1/gonum/stat/distuv"
)

// Verdict says in a word what a comparison shows.
type Verdict string

// The verdicts. TooFew: a change that is worth knowing could have been missed.
const (
	Slower   Verdict = "slower" // costlier, for measures that are not time
	Faster   Verdict = "faster"
	NoChange Verdict = "no change shown"
	TooFew   Verdict = "too few takes to tell"
	None     Verdict = "" // nothing to judge: the total of shares
)

const (
	// DefaultWorth is the change, as a share, from which on one is worth knowing where nothing
	// else is said.
	DefaultWorth = 0.05
	// Confidence is that of all intervals.
	Confidence = 0.95
	// power is how often a change as large as the smallest that is said to be
	// seen would be seen.
	power = 0.8
	// AssumedSpread is the standard deviation between takes, as a share, that a
	// verdict on a function reckons with where each side has one take, from which
	// it cannot be known; AssumedOfShares is the same where shares are compared, so
	// that a faster or slower machine meets both sides alike. They are what takes of
	// the demo's programs differ by on a shared machine. The whole is not judged
	// then: single takes of one build differed by up to a half.
	AssumedSpread   = 0.15
	AssumedOfShares = 0.05
	// MaxTakes bounds the number of takes that is advised.
	MaxTakes = 999
)

// Estimate is what two groups of takes say about one cost. Where no spread can
// be known, as with one take a side, intervals are from sampling noise alone.
type Estimate struct {
	Baseline, Candidate float64 // means over the takes, scaled
	Difference          float64 // of the candidate to the baseline
	Low, High           float64 // of the difference, 95 %
	Ratio               float64 // candidate to baseline; 0 where the baseline is 0
	RatioLow, RatioHigh float64 // 95 %
	Error               float64 // standard error of the difference
	P                   float64 // of so large a difference, either way, by chance
	Seen                float64 // smallest change, as a share of the baseline, that would have been seen 4 times in 5
	Need                int     // takes a side that would show a change worth knowing; 0 where these do
	Verdict             Verdict

	sd float64 // relative, of a single take, with what is assumed
}

// Quantity is one quantity on one side: a value and a number of samples a take.
type Quantity struct {
	Value   []float64 // scaled
	Samples float64   // of all takes together
	Scale   float64   // by what values were multiplied, on average; 0 where that is not known
	Blocks  int       // whose effects were taken off
}

// scaled is by what the values of a side were multiplied, 1 where that is not known.
func (c *Quantity) scaled() float64 {
	if c.Scale == 0 {
		return 1
	}
	return c.Scale
}

// Mean is the mean of its values.
func (c *Quantity) Mean() float64 {
	sum := 0.0
	for _, v := range c.Value {
		sum += v
	}
	return sum / float64(len(c.Value))
}

// Spread is what is known of how much single takes differ: a relative variance
// beyond sampling noise, with its degrees of freedom.
type Spread struct {
	extra   float64 // relative variance between takes, sampling noise left out
	assumed float64 // relative variance that only the verdict reckons with
	Shared  float64 // relative variance of what both sides are measured by, however many takes there are
	Certain bool    // of exact runs: nothing differs but by within, in the measure's unit, scaled
	Within  float64
	Level
}

// Level is Student's distribution of some degrees of freedom, with the places in
// it that are often asked for.
type Level struct {
	Freedom   float64 // +Inf where the variance is known
	HalfWidth float64 // half the width of an interval, in standard errors
	power     float64 // further away by this, a change is seen as often as stated
}

// NewLevel is that of df degrees of freedom.
func NewLevel(df float64) Level {
	return Level{df, Quantile(1-(1-Confidence)/2, df), Quantile(power, df)}
}

// Compare compares two costs. With m the mean of a side, n its takes and k its
// samples a take, the relative variance of m is (extra + 1/k)/n; a difference is
// the sum of both, the logarithm of a ratio likewise (the delta method). The test
// reckons as if both sides were one, which holds for few samples, too (a score
// test); its statistic has Student's distribution.
//
// Source: Casella and Berger, Statistical Inference, 2nd edition, 5.5.4 (delta
// method) and 10.3 (score tests); Welch's degrees of freedom are not needed since
// the relative variance is pooled.
func Compare(a, b *Quantity, s Spread, exact bool) Estimate {
	if s.Certain {
		return certain(a, b, s.Within)
	}
	na, nb := float64(len(a.Value)), float64(len(b.Value))
	e := Estimate{Baseline: a.Mean(), Candidate: b.Mean()}
	e.Difference = e.Candidate - e.Baseline
	// worth is what a sample stands for, on average, before it is scaled, and on each
	// side after: it turns means into counts.
	worth := 0.0
	if k := a.Samples + b.Samples; k > 0 {
		worth = (e.Baseline*na/a.scaled() + e.Candidate*nb/b.scaled()) / k
	}
	worthA, worthB := worth*a.scaled(), worth*b.scaled()
	variance := func(m, n, extra, worth float64) float64 {
		v := extra * m * m
		if !exact {
			v += worth * m
		}
		return v / n
	}
	floor := 0.5 // of a sample, for a side that has none
	if exact {
		floor = 0
	}
	e.Error = math.Sqrt(variance(math.Max(e.Baseline, floor*worthA/na), na, s.extra, worthA) + variance(math.Max(e.Candidate, floor*worthB/nb), nb, s.extra, worthB) + s.Shared*e.Candidate*e.Candidate)
	t := s.HalfWidth
	e.Low, e.High = e.Difference-t*e.Error, e.Difference+t*e.Error
	if e.Baseline > 0 {
		e.Ratio = e.Candidate / e.Baseline
		if e.Candidate > 0 {
			log := math.Sqrt(variance(e.Baseline, na, s.extra, worthA)/(e.Baseline*e.Baseline) + variance(e.Candidate, nb, s.extra, worthB)/(e.Candidate*e.Candidate) + s.Shared)
			e.RatioLow, e.RatioHigh = e.Ratio*math.Exp(-t*log), e.Ratio*math.Exp(t*log)
		} else {
			e.RatioHigh = math.Max(0, e.High+e.Baseline) / e.Baseline
		}
	}
	// Where nothing changed, each side says as much of the mean as it has samples of it.
	ofA, ofB := na/a.scaled(), nb/b.scaled()
	both := (e.Baseline*ofA + e.Candidate*ofB) / (ofA + ofB)
	null := math.Sqrt(variance(both, na, s.extra+s.assumed, worthA) + variance(both, nb, s.extra+s.assumed, worthB) + s.Shared*both*both)
	e.P = 1
	switch {
	case e.Difference == 0:
	case null == 0:
		e.P = 0 // two exact and steady counts that differ
	default:
		e.P = 2 * below(-math.Abs(e.Difference)/null, s.Freedom)
		if !exact {
			e.P = math.Max(e.P, ofFew(a.Samples, b.Samples, ofB/(ofA+ofB)))
		}
	}
	if both > 0 {
		at := math.Max(e.Baseline, both)
		if e.Baseline > 0 {
			at = e.Baseline
		}
		e.Seen = (t + s.power) * null / at
		single := s.extra + s.assumed
		if !exact {
			single += (worthA + worthB) / 2 / both
		}
		e.sd = math.Sqrt(single)
	}
	return e
}

// few is up to how many expected samples of a side chance is reckoned exactly.
const few = 15

// ofFew is the probability of samples that are as unevenly split between two sides, either
// way, where each is on the second one with a probability, by the binomial distribution;
// 0 where they are so many that the normal one will do.
func ofFew(a, b, second float64) float64 {
	k := math.Round(a + b)
	if k == 0 || second <= 0 || second >= 1 || k*math.Min(second, 1-second) > few {
		return 0
	}
	d := distuv.Binomial{N: k, P: second}
	b = math.Round(b)
	return math.Min(1, 2*math.Min(d.CDF(b), 1-d.CDF(b-1)))
}

// Needs is how many takes a side would show a change of a share of the cost, with
// 95 % certainty, 4 times in 5; 0 where there is nothing to go by.
func (e *Estimate) Needs(change float64) int {
	if e.sd == 0 || change <= 0 {
		return 0
	}
	known := NewLevel(math.Inf(1)) // it takes no fewer than with a known spread
	n := max(2, int(2*math.Pow((known.HalfWidth+known.power)*e.sd/change, 2)))
	for ; n < MaxTakes; n++ {
		if l := NewLevel(float64(2*n - 2)); (l.HalfWidth+l.power)*e.sd*math.Sqrt(2/float64(n)) <= change {
			return n
		}
	}
	return MaxTakes
}

// Judge sets the verdict, given whether the difference is significant and
// which change, as a share of the baseline, is worth knowing.
func (e *Estimate) Judge(told bool, worth float64) {
	switch {
	case told && e.Difference > 0:
		e.Verdict = Slower
	case told:
		e.Verdict = Faster
	case e.Seen > worth:
		e.Verdict = TooFew
		e.Need = e.Needs(worth)
	default:
		e.Verdict = NoChange
	}
}

// many is from where on Student's distribution is the normal one.
const many = 1e4

// Quantile is that of Student's distribution.
func Quantile(p, df float64) float64 {
	if df > many {
		return distuv.UnitNormal.Quantile(p)
	}
	return distuv.StudentsT{Mu: 0, Sigma: 1, Nu: df}.Quantile(p)
}

// below is the probability of a value below x.
func below(x, df float64) float64 {
	if df > many {
		return distuv.UnitNormal.CDF(x)
	}
	return distuv.StudentsT{Mu: 0, Sigma: 1, Nu: df}.CDF(x)
}

// certain compares two costs that are known but for what they vary by themselves.
func certain(a, b *Quantity, within float64) Estimate {
	e := Estimate{Baseline: a.Mean(), Candidate: b.Mean(), P: 1}
	e.Difference = e.Candidate - e.Baseline
	e.Low, e.High = e.Difference-within, e.Difference+within
	if e.Baseline > 0 {
		e.Ratio = e.Candidate / e.Baseline
		e.RatioLow, e.RatioHigh = math.Max(0, e.Ratio-within/e.Baseline), e.Ratio+within/e.Baseline
		e.Seen = within / e.Baseline
	}
	if math.Abs(e.Difference) > within {
		e.P = 0
	}
	return e
}
