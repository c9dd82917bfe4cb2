package compare

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"entelon/core/compare/match"
	"entelon/core/profile"
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

	variance float64 // of the factor's logarithm, beyond what takes show themselves
	of       [2][]float64
}

const (
	// yardTogether is how many samples a function must have on both sides for its
	// ratio to be looked at.
	yardTogether = 20
	// yardJitter is τ: by how much a function of two builds differs though nobody changed
	// it, as addresses and neighbours in caches change.
	yardJitter = 0.03
	// yardBound is from which standard deviation on a function weighs no more for being
	// known better.
	yardBound = 0.3
	// yardReach is how many standard deviations away a function still belongs to it.
	yardReach = 3
	// contradicts is how many standard deviations off the large ones small functions
	// together may be, and smallApart how far they must be: what a program and its system
	// do beside the work is not always in proportion to it.
	contradicts = 2.5
	smallApart  = 0.2
	// knownWell is up to which standard deviation of its ratio a function shows whether
	// it changed.
	knownWell = 0.15
	// minYardFunctions and minYardShare are what a yardstick is made of at least.
	minYardFunctions = 5
	minYardShare     = 0.1
	// yardRival is how much another group of functions that agree among themselves may
	// weigh, and rivalApart how far its factor must be away, for it to be another one.
	yardRival  = 0.5
	rivalApart = 0.05
)

// NoYardstick says why two sides have no yardstick.
type NoYardstick struct{ Why string }

func (e NoYardstick) Error() string { return "too little stayed the same: " + e.Why }

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
	return math.Abs(x.log-with) < yardReach*math.Sqrt(x.variance)
}

// kernel is the biweight of a function's distance from a factor, 0 to 1.
func (x *ratio) kernel(at float64) float64 {
	z := (x.log - at) / (yardReach * math.Sqrt(x.variance))
	if z*z >= 1 {
		return 0
	}
	return (1 - z*z) * (1 - z*z)
}

// yardstick finds what stayed the same on both sides of aligned runs.
func yardstick(runs [2][]match.Run, align *match.Alignment, exact bool) (*Yardstick, error) {
	n := len(align.Names)
	var cost, samples [2][]float64
	var whole [2]float64
	mark := make([]bool, n)
	for side := range runs {
		cost[side], samples[side] = make([]float64, n), make([]float64, n)
		for i := range runs[side] {
			p, ids := runs[side][i].Tree.Profile, align.IDs[side][i]
			for _, f := range runs[side][i].Functions {
				k := ids[f.Function]
				cost[side][k] += float64(f.Self)
				samples[side][k] += float64(f.SelfSamples)
				mark[k] = mark[k] || p.Functions[f.Function].Kind == profile.KindMark
			}
			whole[side] += float64(runs[side][i].Total())
		}
	}
	var list []ratio
	for k := range n {
		a, b := samples[0][k], samples[1][k]
		if mark[k] || a+b < yardTogether {
			continue
		}
		// Half a sample more on each side takes the bias from the logarithm of few.
		half := [2]float64{}
		if !exact {
			half[0], half[1] = 0.5, 0.5
		} else if cost[0][k] <= 0 || cost[1][k] <= 0 {
			continue
		}
		worth := (cost[0][k] + cost[1][k]) / (a + b)
		x := ratio{number: int32(k), variance: yardJitter * yardJitter, cost: [2]float64{cost[0][k], cost[1][k]}, samples: [2]float64{a, b}}
		x.log = math.Log((cost[1][k] + half[1]*worth) / (cost[0][k] + half[0]*worth))
		if !exact {
			x.variance += 1/(a+half[0]) + 1/(b+half[1])
		}
		x.weight = 1 / (x.variance + yardBound*yardBound)
		list = append(list, x)
	}
	if len(list) < minYardFunctions {
		return nil, NoYardstick{fmt.Sprintf("only %d functions have enough samples on both sides", len(list))}
	}
	at := mode(list, nil)
	if err := rival(list, at); err != nil {
		return nil, err
	}
	if err := small(list, at); err != nil {
		return nil, err
	}
	y := &Yardstick{Factor: 1}
	var in []ratio
	var sum [2]float64
	for _, x := range list {
		if x.agrees(at) {
			in = append(in, x)
			sum[0], sum[1] = sum[0]+x.cost[0], sum[1]+x.cost[1]
		}
	}
	slices.SortFunc(in, func(a, b ratio) int { return cmp.Compare(b.cost[0]+b.cost[1], a.cost[0]+a.cost[1]) })
	for _, x := range in {
		y.Functions = append(y.Functions, x.number)
	}
	for side := range sum {
		if y.Share[side] = sum[side] / whole[side]; len(in) < minYardFunctions || y.Share[side] < minYardShare {
			return nil, NoYardstick{fmt.Sprintf("the %d functions that kept their proportions have %.0f %% of the cost of the %s", len(in), 100*y.Share[side], sides[side])}
		}
	}
	y.measure(runs, align, at, uncertainty(list, at), in)
	return y, nil
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
	best, at := -1.0, 0.0
	for i := range list {
		if without != nil && without(&list[i]) {
			continue
		}
		if s := score(list[i].log); s > best {
			best, at = s, list[i].log
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

// rival is the error of two groups of functions of like weight, each of which kept its
// proportions: which of them is the one that did not change cannot be told.
func rival(list []ratio, at float64) error {
	own := func(x *ratio) bool { return x.agrees(at) }
	if !slices.ContainsFunc(list, func(x ratio) bool { return !own(&x) }) {
		return nil
	}
	other := mode(list, own)
	var mine, theirs float64
	for i := range list {
		x := &list[i]
		mine += x.weight * math.Max(0, x.kernel(at)-x.kernel(other))
		theirs += x.weight * math.Max(0, x.kernel(other)-x.kernel(at))
	}
	if math.Abs(other-at) > rivalApart && theirs > yardRival*mine {
		return NoYardstick{fmt.Sprintf("two groups of functions each kept their proportions, one at %.2f times the other, and which of them did not change cannot be told", math.Exp(other-at))}
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
	if off := math.Abs(log - at); off > smallApart && off > contradicts*math.Sqrt(1/samples[0]+1/samples[1]+yardJitter*yardJitter) {
		return NoYardstick{fmt.Sprintf("%d small functions together are at %.2f times the large ones, and which of them did not change cannot be told", n, math.Exp(log-at))}
	}
	return nil
}

// measure measures each take by the functions of the yardstick.
// The sides' factor is the mode, which a function of the yardstick that did change, unseen
// among its noise, moves little; how takes of a side differ is from what they spent in all
// functions of it.
func (y *Yardstick) measure(runs [2][]match.Run, align *match.Alignment, at, variance float64, in []ratio) {
	member := map[int32]bool{}
	for _, x := range in {
		member[x.number] = true
	}
	var mean [2]float64
	for side := range runs {
		for i := range runs[side] {
			sum := 0.0
			for _, f := range runs[side][i].Functions {
				if k := align.IDs[side][i][f.Function]; member[k] {
					sum += float64(f.Self)
				}
			}
			y.of[side] = append(y.of[side], sum)
			mean[side] += sum / float64(len(runs[side]))
		}
	}
	y.Factor, y.variance = math.Exp(at), variance
	for side, factor := range []float64{1, y.Factor} {
		for i := range y.of[side] {
			y.of[side][i] *= factor / mean[side]
		}
	}
	half := newLevel(math.Inf(1)).t * math.Sqrt(y.variance)
	y.Low, y.High = y.Factor*math.Exp(-half), y.Factor*math.Exp(half)
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
	more := math.Max(1, 1.4826*median(z))
	often := 0.5
	if known >= minYardFunctions {
		often = changed / known
	}
	drawn := often * deviations / sum
	return more*more*squares/(sum*sum) + drawn*drawn
}
