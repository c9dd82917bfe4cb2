package statistics

import (
	"math"
	"slices"
	"sort"

	"gonum.org/v1/gonum/mathext"

	"entelon/core/scales"
)

// observed is the relative variance of single takes around their side's mean,
// pooled over both sides, and that part of it which sampling explains.
//
//	s² = Σ (x/mean − 1)² / (na + nb − 2)
func observed(a, b *Quantity, exact bool) (s2, sampling, df float64) {
	df = float64(len(a.Value) + len(b.Value) - 2 - max(0, a.Blocks-1))
	takes := float64(len(a.Value) + len(b.Value))
	if k := a.Samples + b.Samples; k > 0 && !exact {
		sampling = takes / k
		if a.Scale > 0 && b.Scale > 0 && df > 0 {
			// A sample of the smaller side stands for more: what is expected of each
			// side counts as often as the side's takes do.
			na, nb := float64(len(a.Value)), float64(len(b.Value))
			each := k / (na/a.Scale + nb/b.Scale) // samples a take, before it is scaled up
			sampling = ((na-1)*a.Scale + (nb-1)*b.Scale) / df / each
		}
	}
	if df <= 0 {
		return 0, sampling, 0
	}
	for _, c := range []*Quantity{a, b} {
		m := c.Mean()
		if m == 0 {
			continue
		}
		for _, v := range c.Value {
			s2 += (v/m - 1) * (v/m - 1)
		}
	}
	return s2 / df, sampling, df
}

// WholeSpread is the spread of the whole cost: from these takes alone.
func WholeSpread(a, b *Quantity, exact bool, scale scales.Scale) Spread {
	s2, sampling, df := observed(a, b, exact)
	if df == 0 {
		return unknownSpread(scale)
	}
	return Spread{extra: math.Max(0, s2-sampling), Level: NewLevel(df)}
}

// Widen makes intervals so many times as wide: all of the variance of takes is held
// to be common to neighbours, sampling too, since what is seen of takes is both.
func (s *Spread) Widen(times float64, a, b *Quantity, exact bool) {
	_, sampling, _ := observed(a, b, exact)
	s.extra = (s.extra+sampling)*times*times - sampling
}

// unknownSpread is what one take a side tells: nothing.
func unknownSpread(scale scales.Scale) Spread {
	assumed := AssumedSpread
	if scale == scales.ByShare || scale == scales.ByYardstick {
		assumed = AssumedOfShares
	}
	return Spread{assumed: assumed * assumed, Level: NewLevel(math.Inf(1))}
}

// Spreads finds how much the functions' costs vary between takes. A few takes
// tell little about one function, but there are many functions: each one's
// variance is drawn towards what is common to all, as far as they have it in
// common. With s² the observed variance of d degrees of freedom, s0² that of the
// others and d0 how far they agree, it is (d0·s0² + d·s²)/(d0 + d), with d0 + d
// degrees of freedom.
//
// Source: G. K. Smyth, Linear models and empirical Bayes methods for assessing
// differential expression, Statistical Applications in Genetics and Molecular
// Biology 3 (2004), 3, sections 4 to 6.2. Here s0² is made of what is common and
// of sampling, which each function has by its own count, and which is more than
// chance where samples come in bursts.
type Spreads struct {
	Exact  bool
	common float64 // relative variance between takes that has nothing to do with counts
	bursts float64 // by how much sampling varies more than independent samples do, 1 at least
	d0     float64
	df     float64
	Known  Spread
	Wider  float64 // by how much intervals are wider because of the order of the takes
}

const (
	// minSamples is how many samples a take a function must have for its spread
	// to say something about the others'.
	minSamples = 5
	// telling is how many it must have to say how much functions agree.
	telling = 20
	// fewest is how many such functions there must be.
	fewest = 10
	// maxAgreement bounds d0: functions are never all alike.
	maxAgreement = 60
)

type seen struct{ s2, sampling float64 }

// NewSpreads estimates the spreads of many functions together: as and bs are what each costs on
// both sides. exact says that the measure counts every event.
func NewSpreads(as, bs []*Quantity, exact bool, scale scales.Scale) Spreads {
	x := Spreads{Exact: exact, bursts: 1, Wider: 1, Known: unknownSpread(scale)}
	var list []seen
	for i := range as {
		s2, sampling, df := observed(as[i], bs[i], exact)
		x.df = df
		if df > 0 && s2 > 0 && (exact || sampling <= 1.0/minSamples) && as[i].Mean() > 0 && bs[i].Mean() > 0 {
			list = append(list, seen{s2, sampling})
		}
	}
	if x.df > 0 {
		x.Known = Spread{Level: NewLevel(x.df)}
	}
	if x.df == 0 || len(list) < fewest {
		return x
	}
	d := x.df
	// The median of a variance of d degrees of freedom is below its mean (Wilson
	// and Hilferty's approximation).
	expected := math.Pow(1-2/(9*d), 3)
	// Large functions tell what is common, small ones how sampling varies.
	sort.Slice(list, func(i, j int) bool { return list[i].sampling < list[j].sampling })
	large, small := list[:len(list)/2], list[len(list)/2:]
	for range 8 {
		x.common = solve(0, 4, func(common float64) float64 {
			return medianRatio(large, func(v seen) float64 { return v.s2 / (common + x.bursts*v.sampling + tiny) }) - expected
		})
		if exact {
			break
		}
		x.bursts = solve(1, 400, func(bursts float64) float64 {
			return medianRatio(small, func(v seen) float64 { return v.s2 / (x.common + bursts*v.sampling + tiny) }) - expected
		})
	}
	// A few odd functions must not speak for all: the deviation is the robust one.
	var logs []float64
	for _, v := range list {
		if exact || v.sampling <= 1.0/telling {
			logs = append(logs, math.Log(v.s2/(x.common+x.bursts*v.sampling+tiny)))
		}
	}
	if len(logs) < fewest {
		return x
	}
	middle := Median(logs)
	for i, l := range logs {
		logs[i] = math.Abs(l - middle)
	}
	deviation := 1.4826 * Median(logs)
	beyond := deviation*deviation - trigamma(d/2)
	x.d0 = maxAgreement
	if beyond > 0 {
		x.d0 = math.Min(maxAgreement, 2*trigammaInverse(beyond))
	}
	x.Known.Level = NewLevel(x.d0 + x.df)
	return x
}

// Of is the spread of one function.
func (x *Spreads) Of(a, b *Quantity) Spread {
	out := x.Known
	if x.df == 0 {
		return out
	}
	s2, sampling, _ := observed(a, b, x.Exact)
	moderated := (x.d0*(x.common+x.bursts*sampling) + x.df*s2) / (x.d0 + x.df)
	out.extra = math.Max(0, moderated-sampling) * x.Wider * x.Wider
	return out
}

// tiny keeps a variance from being nothing.
const tiny = 1e-12

// solve finds where a falling function is 0 between two places, the nearer of
// them where it is nowhere.
func solve(low, high float64, f func(float64) float64) float64 {
	if f(low) <= 0 {
		return low
	}
	for range 50 {
		if mid := (low + high) / 2; f(mid) > 0 {
			low = mid
		} else {
			high = mid
		}
	}
	return high
}

func medianRatio[T any](list []T, of func(T) float64) float64 {
	x := make([]float64, len(list))
	for i, v := range list {
		x[i] = of(v)
	}
	return Median(x)
}

// trigamma is the derivative of the digamma function.
func trigamma(x float64) float64 { return mathext.Zeta(2, x) }

// trigammaInverse solves trigamma(x) = y for y > 0; trigamma falls.
func trigammaInverse(y float64) float64 {
	low, high := 1e-3, 1e4
	for range 80 {
		if mid := math.Sqrt(low * high); trigamma(mid) > y {
			low = mid
		} else {
			high = mid
		}
	}
	return high
}

// Median is that of at least one value.
func Median(x []float64) float64 {
	s := slices.Sorted(slices.Values(x))
	n := len(s)
	if n%2 == 1 {
		return s[n/2]
	}
	return (s[n/2-1] + s[n/2]) / 2
}
