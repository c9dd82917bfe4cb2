// Package yardstick finds what stayed the same on two sides of a comparison, by which takes of
// different lengths and loads can be put on one scale. It has no state.
package yardstick

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"entelon/core/match"
	"entelon/core/profile"
	"entelon/core/statistics"
)

// A yardstick puts takes on one scale that ran for different times and under different
// loads. Functions whose cost kept its proportions from one side to the other are taken to
// do for a unit of work what they did before: what a take spent in them says how much work
// it did.
//
// With a and b the self costs of a function on the sides, and n and m its samples there,
// ln(b/a) has the variance 1/n + 1/m + τ², where τ is by how much functions differ between
// builds whose source is the same. The sides' factor is where most of these logarithms
// agree, found as the mode under biweight kernels as wide as each is uncertain, each
// function weighing by its certainty up to a bound: a changed function that costs more than
// all others together counts as one. The functions within three standard deviations of the
// mode are the yardstick. Self costs are used, so that nothing counts twice.
//
// Source: S. Anders and W. Huber, Differential expression analysis for sequence count data,
// Genome Biology 11 (2010), R106, for the median of ratios; P. J. Huber and E. M. Ronchetti,
// Robust Statistics, 2nd edition, 4.8, for redescending estimates of location.

// Yardstick is what both sides of a comparison are measured by.
type Yardstick struct {
	Functions []int32    // by their number in the comparison, the costliest first
	Share     [2]float64 // of each side's cost
	Factor    float64    // work of the candidate's takes to that of the baseline's, on average
	Low, High float64    // 95 %
	// Apart is by what factor another group of functions that kept their proportions
	// differs from this one, where both may be what did not change: the factor then lies
	// between the two. 1 where there is one group.
	Apart float64

	Variance float64 // of the factor's logarithm, beyond what takes show themselves
	By       [2][]float64
}

const (
	// yardTogether is how many samples a function must have on both sides for its
	// ratio to be looked at.
	yardTogether = 20
	// Jitter is τ: by how much a function of two builds differs though nobody changed
	// it, as addresses and neighbours in caches change.
	Jitter = 0.03
	// yardBound is from which standard deviation on a function weighs no more for being
	// known better.
	yardBound = 0.3
	// Reach is how many standard deviations away a function still belongs to it.
	Reach = 3
	// contradicts is how many standard deviations off the large ones small functions
	// together may be, and smallApart how far they must be: what a program and its system
	// do beside the work is not always in proportion to it.
	contradicts = 2.5
	smallApart  = 0.3
	// maxCentres bounds the places at which a mode is looked for.
	maxCentres = 500
	// knownWell is up to which standard deviation of its ratio a function shows whether
	// it changed.
	knownWell = 0.15
	// minYardFunctions and minYardShare are what a yardstick is made of at least.
	minYardFunctions = 5
	minYardShare     = 0.1
	// yardRival is how much another group of functions that agree among themselves may
	// weigh, and rivalApart how far its factor must be away, for it to be another one. Up
	// to rivalNear both may come from the mix of requests that a take happened to meet.
	yardRival  = 0.5
	rivalApart = 0.05
	rivalNear  = 0.5
)

// None says why two sides have no yardstick.
type None struct{ Why string }

func (e None) Error() string { return "too little stayed the same: " + e.Why }

// ratio is what one function says of the factor.
type ratio struct {
	number   int32
	log      float64
	variance float64
	weight   float64 // bounded
	cost     [2]float64
	samples  [2]float64
}

func (x *ratio) agrees(with float64) bool {
	return math.Abs(x.log-with) < Reach*math.Sqrt(x.variance)
}

// kernel is the biweight of a function's distance from a factor, 0 to 1.
func (x *ratio) kernel(at float64) float64 {
	z := (x.log - at) / (Reach * math.Sqrt(x.variance))
	if z*z >= 1 {
		return 0
	}
	return (1 - z*z) * (1 - z*z)
}

// Find finds what stayed the same on both sides of aligned runs.
func Find(runs [2][]match.Run, align *match.Alignment, exact bool) (*Yardstick, error) {
	n := len(align.Names)
	var sides [2]tally
	skip := make([]bool, n)
	for side := range runs {
		sides[side] = newTally(n)
		for i := range runs[side] {
			p, ids := runs[side][i].Tree.Profile, align.IDs[side][i]
			for _, f := range runs[side][i].Functions {
				k := ids[f.Function]
				sides[side].cost[k] += float64(f.Self)
				sides[side].samples[k] += float64(f.SelfSamples)
				skip[k] = skip[k] || p.Functions[f.Function].Kind == profile.KindMark
			}
			sides[side].whole += float64(runs[side][i].Total())
		}
	}
	c, err := commonFactor(sides, skip, exact)
	if err != nil {
		return nil, err
	}
	y := &Yardstick{Share: c.share, Apart: math.Exp(c.apart)}
	for _, x := range c.in {
		y.Functions = append(y.Functions, x.number)
	}
	return y, y.measure(runs, align, c)
}

// tally is what functions cost on a side, by their number.
type tally struct {
	cost, samples []float64
	whole         float64
}

func newTally(n int) tally { return tally{cost: make([]float64, n), samples: make([]float64, n)} }

// common is what functions that stayed the same say of two sides.
type common struct {
	at       float64 // logarithm of the factor
	variance float64 // of that
	in       []ratio // the functions, the costliest first
	share    [2]float64
	apart    float64 // logarithm of the factor between two groups, 0 where there is one
}

// commonFactor finds the factor by which functions that stayed the same differ from side to
// side.
func commonFactor(sides [2]tally, skip []bool, exact bool) (c common, err error) {
	list := ratios(sides, skip, exact)
	if len(list) < minYardFunctions {
		return c, None{fmt.Sprintf("only %d functions have enough samples", len(list))}
	}
	c.at = mode(list, nil)
	if err := c.rival(list); err != nil {
		return c, err
	}
	if err := small(list, c.at); err != nil {
		return c, err
	}
	var sum [2]float64
	for _, x := range list {
		if x.agrees(c.at) {
			c.in = append(c.in, x)
			sum[0], sum[1] = sum[0]+x.cost[0], sum[1]+x.cost[1]
		}
	}
	slices.SortFunc(c.in, func(a, b ratio) int { return cmp.Compare(b.cost[0]+b.cost[1], a.cost[0]+a.cost[1]) })
	for side := range sum {
		if c.share[side] = sum[side] / sides[side].whole; len(c.in) < minYardFunctions || c.share[side] < minYardShare {
			return c, None{fmt.Sprintf("the %d functions that kept their proportions have %.0f %% of the cost of the %s", len(c.in), 100*c.share[side], match.SideNames[side])}
		}
	}
	c.variance = uncertainty(list, c.at) + c.apart*c.apart/4
	return c, nil
}

// ratios are what each function with enough samples says of the factor.
func ratios(sides [2]tally, skip []bool, exact bool) (list []ratio) {
	for k := range sides[0].cost {
		a, b := sides[0].samples[k], sides[1].samples[k]
		cost := [2]float64{sides[0].cost[k], sides[1].cost[k]}
		if skip != nil && skip[k] || a+b < yardTogether {
			continue
		}
		// Half a sample more on each side takes the bias from the logarithm of few.
		half := 0.5
		if exact {
			if half = 0; cost[0] <= 0 || cost[1] <= 0 {
				continue
			}
		}
		worth := (cost[0] + cost[1]) / (a + b)
		x := ratio{number: int32(k), variance: Jitter * Jitter, cost: cost, samples: [2]float64{a, b}}
		x.log = math.Log((cost[1] + half*worth) / (cost[0] + half*worth))
		if !exact {
			x.variance += 1/(a+half) + 1/(b+half)
		}
		x.weight = 1 / (x.variance + yardBound*yardBound)
		list = append(list, x)
	}
	return list
}

// mode is where most functions agree, of all or of those that without does not leave out.
func mode(list []ratio, without func(*ratio) bool) float64 {
	score := func(at float64) (s float64) {
		for i := range list {
			if x := &list[i]; without == nil || !without(x) {
				s += x.weight * x.kernel(at)
			}
		}
		return s
	}
	// Of very many functions, those that are known best are the places that are tried.
	var centres []*ratio
	for i := range list {
		if x := &list[i]; without == nil || !without(x) {
			centres = append(centres, x)
		}
	}
	slices.SortStableFunc(centres, func(a, b *ratio) int { return cmp.Compare(b.weight, a.weight) })
	best, at := -1.0, 0.0
	for _, x := range centres[:min(len(centres), maxCentres)] {
		if s := score(x.log); s > best {
			best, at = s, x.log
		}
	}
	for range 50 {
		sum, weights := 0.0, 0.0
		for i := range list {
			if x := &list[i]; without == nil || !without(x) {
				w := x.kernel(at) / x.variance
				sum, weights = sum+w*x.log, weights+w
			}
		}
		if weights == 0 {
			break
		}
		next := sum / weights
		if math.Abs(next-at) < 1e-9 {
			break
		}
		at = next
	}
	return at
}

// rival looks for another group of functions of like weight, each of which kept its
// proportions: which of the two did not change cannot be told. Where they are near each other,
// as parts of a program are that had more or less to do in the requests of a short take, the
// factor is between them, and as uncertain as they are apart, for each function and for all
// together; 95 % of that reaches from either to the other. Where they are not, it is an error.
func (c *common) rival(list []ratio) error {
	own := func(x *ratio) bool { return x.agrees(c.at) }
	if !slices.ContainsFunc(list, func(x ratio) bool { return !own(&x) }) {
		return nil
	}
	other := mode(list, own)
	var mine, theirs float64
	for i := range list {
		x := &list[i]
		mine += x.weight * math.Max(0, x.kernel(c.at)-x.kernel(other))
		theirs += x.weight * math.Max(0, x.kernel(other)-x.kernel(c.at))
	}
	if math.Abs(other-c.at) <= rivalApart || theirs <= yardRival*mine {
		return nil
	}
	if c.apart = other - c.at; math.Abs(c.apart) > rivalNear {
		return None{fmt.Sprintf("two groups of functions each kept their proportions, one at %.2f times the other, and which of them did not change cannot be told", math.Exp(c.apart))}
	}
	c.at += c.apart / 2
	for i := range list {
		list[i].variance += c.apart * c.apart / 4
	}
	return nil
}

// small is the error of many small functions, none of which says much, that together
// contradict the large ones.
func small(list []ratio, at float64) error {
	var sum, samples [2]float64
	n := 0
	for i := range list {
		if x := &list[i]; x.agrees(at) && x.variance > yardBound*yardBound/4 {
			for side := range sum {
				sum[side] += x.cost[side]
				samples[side] += x.samples[side]
			}
			n++
		}
	}
	if n < minYardFunctions || samples[0] == 0 || samples[1] == 0 {
		return nil
	}
	log := math.Log(sum[1] / sum[0])
	if off := math.Abs(log - at); off > smallApart && off > contradicts*math.Sqrt(1/samples[0]+1/samples[1]+Jitter*Jitter) {
		return None{fmt.Sprintf("%d small functions together are at %.2f times the large ones, and which of them did not change cannot be told", n, math.Exp(log-at))}
	}
	return nil
}

// measure measures each take by the functions of the yardstick.
// The sides' factor is the mode, which a function of the yardstick that did change, unseen
// among its noise, moves little; how takes of a side differ is from what they spent in all
// functions of it.
func (y *Yardstick) measure(runs [2][]match.Run, align *match.Alignment, c common) error {
	member := map[int32]bool{}
	for _, x := range c.in {
		member[x.number] = true
	}
	// What is common is of sums over takes.
	y.Factor, y.Variance = math.Exp(c.at)*float64(len(runs[0]))/float64(len(runs[1])), c.variance
	for side, factor := range []float64{1, y.Factor} {
		for i := range runs[side] {
			sum := 0.0
			for _, f := range runs[side][i].Functions {
				if k := align.IDs[side][i][f.Function]; member[k] {
					sum += float64(f.Self)
				}
			}
			y.By[side] = append(y.By[side], sum)
		}
		if err := toMean(y.By[side], factor); err != nil {
			return err
		}
	}
	half := statistics.NewLevel(math.Inf(1)).HalfWidth * math.Sqrt(y.Variance)
	y.Low, y.High = y.Factor*math.Exp(-half), y.Factor*math.Exp(half)
	return nil
}

// toMean scales what takes spent in a yardstick so that it has a mean. A take that spent
// nothing cannot be measured by it.
func toMean(x []float64, mean float64) error {
	sum := 0.0
	for _, v := range x {
		if v <= 0 {
			return None{"a take has none of the functions that kept their proportions"}
		}
		sum += v
	}
	for i := range x {
		x[i] *= mean * float64(len(x)) / sum
	}
	return nil
}

// uncertainty is the variance of a mode: that of the mean of the functions by the weights
// that it gives them, or more where they differ by more than was expected. A function that
// changed by less than it is known is not seen to have changed, and draws the mode its way,
// by about its own deviation: that may be so as often as among those that are known well.
func uncertainty(list []ratio, at float64) float64 {
	sum, squares, deviations := 0.0, 0.0, 0.0
	known, changed := 0.0, 0.0
	var z []float64
	for i := range list {
		x := &list[i]
		sd := math.Sqrt(x.variance)
		if sd < knownWell {
			if known++; !x.agrees(at) {
				changed++
			}
		}
		if w := x.kernel(at) / x.variance; w > 0 {
			sum, squares, deviations = sum+w, squares+w*w*x.variance, deviations+w*sd
			z = append(z, math.Abs(x.log-at)/sd)
		}
	}
	more := math.Max(1, 1.4826*statistics.Median(z))
	often := 0.5
	if known >= minYardFunctions {
		often = changed / known
	}
	drawn := often * deviations / sum
	return more*more*squares/(sum*sum) + drawn*drawn
}
