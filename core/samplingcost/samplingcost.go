// Package samplingcost says what sampling cost a program, by runs of it with and without. It has no
// state.
package samplingcost

import (
	"fmt"
	"math"
	"strings"

	"gonum.org/v1/gonum/stat"

	"entelon/core/profile"
	"entelon/core/statistics"
)

// minPairs is from how many pairs of runs on a cost is told: of fewer, chance alone can
// make anything.
const minPairs = 3

// OfPairs estimates by which share sampling raises a quantity, from pairs of runs of one
// command, the first of each without sampling: exp(m) - 1, where m is the mean of
// ln(sampled/bare), with the 95 % interval by Student's distribution. ok is false where
// there are too few pairs, or a quantity is not above 0.
func OfPairs(pairs [][2]int64) (c Cost, ok bool) {
	if len(pairs) < minPairs {
		return c, false
	}
	var logs []float64
	for _, p := range pairs {
		if p[0] <= 0 || p[1] <= 0 {
			return c, false
		}
		logs = append(logs, math.Log(float64(p[1])/float64(p[0])))
	}
	m, sd := stat.MeanStdDev(logs, nil)
	half := statistics.Quantile(0.975, float64(len(logs)-1)) * sd / math.Sqrt(float64(len(logs)))
	return Cost{Share: math.Expm1(m), Low: math.Expm1(m - half), High: math.Expm1(m + half)}, true
}

// Cost is a share with its 95 % interval.
type Cost struct {
	Share float64 `json:"share"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
}

// words are a cost with its interval.
func (c Cost) words() string {
	return strings.ReplaceAll(fmt.Sprintf("%+.1f %% (%+.1f to %+.1f)", 100*c.Share, 100*c.Low, 100*c.High), "-", "−")
}

// none reports whether there may be no cost.
func (c Cost) none() bool { return c.Low <= 0 && c.High >= 0 }

// Of are the costs in processor time and in run time by the pairs of a take's
// runs without sampling; ok is false where these are too few to tell.
func Of(b *profile.Bare) (cpu, wall Cost, ok bool) {
	var cpus, walls [][2]int64
	for _, p := range b.Pairs {
		cpus, walls = append(cpus, [2]int64{p.BareCPUNS, p.SampledCPUNS}), append(walls, [2]int64{p.BareNS, p.SampledNS})
	}
	cpu, ok1 := OfPairs(cpus)
	wall, ok2 := OfPairs(walls)
	return cpu, wall, ok1 && ok2
}

// Words says what is known of the cost of sampling.
func Words(b *profile.Bare) string {
	cpu, wall, ok := Of(b)
	switch {
	case ok:
		doubt := ""
		if cpu.none() && wall.none() {
			doubt = "; neither can be told from no cost at all"
		}
		return fmt.Sprintf("what sampling cost, by %d pairs of runs: processor time %s, run time %s, with 95 %% intervals%s", len(b.Pairs), cpu.words(), wall.words(), doubt)
	case len(b.Pairs) == 0 || b.Pairs[len(b.Pairs)-1].SampledNS == 0:
		return fmt.Sprintf("without sampling it used %.2f s of processor time in %.2f s", float64(b.CPUNS)/1e9, float64(b.DurationNS)/1e9)
	}
	p := b.Pairs[len(b.Pairs)-1]
	return fmt.Sprintf("processor time %.2f s without sampling and %.2f s with it, in %.2f and %.2f s; one pair of runs does not tell what sampling cost, five do",
		float64(p.BareCPUNS)/1e9, float64(p.SampledCPUNS)/1e9, float64(p.BareNS)/1e9, float64(p.SampledNS)/1e9)
}
