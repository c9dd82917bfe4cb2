package spans

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"entelon/core/lanes"
	"entelon/core/profile"
	"entelon/core/statistics"
)

// Contrast is what slow spans do that others of their name do not: each span's critical path is one
// repetition, and each thing that a path can be made of is compared over the two groups.
type Contrast struct {
	Slow, Others         int     // spans that were compared
	All                  int     // others that there are, of which some stand for all
	SlowMean, OthersMean float64 // of their durations, in nanoseconds
	Rows                 []ContrastRow
}

// ContrastRow is one thing that spans do, or wait for. Times are nanoseconds a span.
type ContrastRow struct {
	Who      string // the name of the thread that held the spans up; "": the spans' own
	State    lanes.State
	Function profile.FunctionID // where; 0: not known
	Line     uint32             // that with most of it; 0: not known
	Slow     float64            // mean over the slow spans
	Others   float64            // and over the others
	Low      float64            // of the difference, 95 %
	High     float64
	P        float64 // of so large a difference by chance
	// Significant: the difference is, among all rows, of which no more than one in twenty is so by
	// chance. Of a single slow span none is.
	Significant bool
}

// Difference is how much longer slow spans do it.
func (r *ContrastRow) Difference() float64 { return r.Slow - r.Others }

// Bounds of a contrast.
const (
	maxContrasted = 1000 // spans on each side
	maxRate       = 0.05 // of rows that are said to be significant, and are not
)

type contrastKey struct {
	who      string
	state    lanes.State
	function profile.FunctionID
}

// ContrastOf compares the slow spans with others of the same name, those that differ most first; the
// rows' differences add up to that of the means. The error is ErrNoLane, or lanes.ErrLongPath.
//
// Of few slow spans each row is tested by drawing as many of all spans at random, over and over: most
// spans do most things not at all, so that no distribution fits. Of many it is tested by Welch's test for
// unequal variances, from which the intervals are, too. The rows together are tested by the rate of
// false discoveries. Sources: E. J. G. Pitman, Significance tests which may be applied to samples from any
// populations, Supplement to the Journal of the Royal Statistical Society 4 (1937), 119–130; B. L. Welch, The
// generalization of Student's problem when several different population variances are involved,
// Biometrika 34 (1947), 28–35.
func ContrastOf(p *profile.Profile, x *lanes.Index, slow, others []Span) (*Contrast, error) {
	out := &Contrast{All: len(others)}
	c := contrasting{p: p, x: x, values: map[contrastKey]*[2][]float64{}, lines: map[contrastKey]map[uint32]int64{}}
	for side, spans := range [][]Span{evenly(slow, maxContrasted), evenly(others, maxContrasted)} {
		for _, s := range spans {
			if err := c.add(side, s); err != nil {
				return nil, err
			}
		}
	}
	if c.n[0] == 0 || c.n[1] == 0 {
		return nil, ErrNoLane
	}
	out.Slow, out.Others = c.n[0], c.n[1]
	out.SlowMean, out.OthersMean = c.total[0]/float64(c.n[0]), c.total[1]/float64(c.n[1])
	var ps []float64
	for k, v := range c.values {
		r := ContrastRow{Who: k.who, State: k.state, Function: k.function}
		for i := range v {
			v[i] = append(v[i], make([]float64, c.n[i]-len(v[i]))...)
		}
		r.test(v[0], v[1])
		most := int64(-1)
		for line, ns := range c.lines[k] {
			if ns > most || ns == most && line < r.Line {
				r.Line, most = line, ns
			}
		}
		out.Rows = append(out.Rows, r)
	}
	slices.SortFunc(out.Rows, func(a, b ContrastRow) int {
		return cmp.Or(cmp.Compare(math.Abs(b.Difference()), math.Abs(a.Difference())), cmp.Compare(a.Who, b.Who), cmp.Compare(a.State, b.State), cmp.Compare(a.Function, b.Function))
	})
	for _, r := range out.Rows {
		ps = append(ps, r.P)
	}
	for i, is := range statistics.Significant(ps, maxRate) {
		out.Rows[i].Significant = is
	}
	return out, nil
}

// test compares the two sides of a row, which have a value for each span.
func (r *ContrastRow) test(slow, others []float64) {
	var v [2]float64
	r.Slow, v[0] = stat.MeanVariance(slow, nil)
	r.Others, v[1] = stat.MeanVariance(others, nil)
	a, b := v[0]/float64(len(slow)), v[1]/float64(len(others))
	r.Low, r.High, r.P = math.Inf(-1), math.Inf(1), 1
	if len(slow) < 2 || len(others) < 2 {
		return // how much single spans differ is not known
	}
	d, e := r.Difference(), math.Sqrt(a+b)
	few := len(slow) <= fewSpans
	if few {
		r.P = permuted(slow, others)
	}
	if e == 0 { // none differs from another of its side
		r.Low, r.High = d, d
		if !few && d != 0 {
			r.P = 0
		}
		return
	}
	df := (a + b) * (a + b) / (a*a/float64(len(slow)-1) + b*b/float64(len(others)-1))
	half := statistics.Quantile(1-(1-statistics.Confidence)/2, df) * e
	r.Low, r.High = d-half, d+half
	if !few {
		r.P = 2 * distuv.StudentsT{Mu: 0, Sigma: 1, Nu: df}.CDF(-math.Abs(d)/e)
	}
}

const (
	fewSpans     = 50
	permutations = 20_000
	enoughBeyond = 100 // draws that go as far: the probability is then known well enough
)

// permuted is the probability that as many spans, drawn from all, differ as much from the rest as the slow
// ones do. The draws are the same at each call.
func permuted(slow, others []float64) float64 {
	all := append(append([]float64{}, slow...), others...)
	n, total, sum := len(slow), 0.0, 0.0
	for i, v := range all {
		total += v
		if i < n {
			sum += v
		}
	}
	apart := func(sum float64) float64 {
		return math.Abs(sum/float64(n) - (total-sum)/float64(len(all)-n))
	}
	// Sums of the same values in another order differ by rounding.
	least := apart(sum) * (1 - 1e-9)
	r := rand.New(rand.NewPCG(1, 2))
	beyond := 0
	for done := 1; done <= permutations; done++ {
		sum := 0.0
		for i := range n {
			k := i + r.IntN(len(all)-i)
			all[i], all[k] = all[k], all[i]
			sum += all[i]
		}
		if apart(sum) >= least {
			if beyond++; beyond == enoughBeyond {
				return float64(beyond+1) / float64(done+1)
			}
		}
	}
	return float64(beyond+1) / float64(permutations+1)
}

// evenly are at most so many of the spans, at equal distances.
func evenly(spans []Span, most int) []Span {
	if len(spans) <= most {
		return spans
	}
	out := make([]Span, most)
	for i := range out {
		out[i] = spans[i*len(spans)/most]
	}
	return out
}

// contrasting adds up what spans do.
type contrasting struct {
	p      *profile.Profile
	x      *lanes.Index
	steps  int
	n      [2]int
	total  [2]float64
	values map[contrastKey]*[2][]float64 // a value for each span that has it
	lines  map[contrastKey]map[uint32]int64
}

func (c *contrasting) add(side int, s Span) error {
	lane := c.x.LaneOf(s.Thread)
	if lane < 0 {
		return nil
	}
	path, err := c.x.CriticalPath(lane, s.From, s.To)
	if c.steps += len(path); err == nil && c.steps > lanes.MaxPathSteps {
		err = lanes.ErrLongPath
	}
	if err != nil {
		return err
	}
	c.n[side]++
	own := map[contrastKey]float64{}
	for _, b := range c.x.BlameOf(path) {
		k := contrastKey{state: b.State, function: b.Function}
		if b.Lane != lane {
			th := c.p.Threads[c.x.Lanes[b.Lane].Thread]
			if k.who = c.p.Strings[th.Name]; k.who == "" {
				k.who = c.p.ThreadWords(c.x.Lanes[b.Lane].Thread)
			}
		}
		own[k] += float64(b.NS)
		c.total[side] += float64(b.NS)
		if c.lines[k] == nil {
			c.lines[k] = map[uint32]int64{}
		}
		c.lines[k][b.Line] += b.NS
	}
	for k, ns := range own {
		v := c.values[k]
		if v == nil {
			v = &[2][]float64{}
			c.values[k] = v
		}
		v[side] = append(v[side], ns)
	}
	return nil
}
