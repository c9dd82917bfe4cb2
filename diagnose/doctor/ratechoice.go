package doctor

import (
	"context"
	"fmt"
	"math"
	"math/big"

	"entelon/core/profile"
)

// The rates that a budget may lead to.
const (
	LowestRate  = 11
	HighestRate = 9973
)

// RateFor returns the highest rate that costs no more than a share of the
// program's time, when each sample costs so many seconds. It is a prime, so
// that it does not run in step with timers.
func RateFor(budget, cost float64) int {
	rate := int(math.Min(HighestRate, math.Max(LowestRate, budget/cost)))
	for !big.NewInt(int64(rate)).ProbablyPrime(0) {
		rate--
	}
	return rate
}

// SecondsFor returns how many seconds of processor time have to be sampled until
// a function with a share is known to within a part of that share, with 95 %
// certainty: n = z² p (1-p) / d².
func SecondsFor(share, within float64, rate int) float64 {
	const z = 1.959963984540054
	d := share * within
	return z * z * share * (1 - share) / (d * d) / float64(rate)
}

// ChooseRate measures what a sample costs here and says which rate follows.
func ChooseRate(ctx context.Context, set *profile.Settings, say func(string)) error {
	cost, err := MeasureCost(ctx, set.StackBytes)
	if err != nil {
		return err
	}
	each := cost.StopNS + cost.CollectorNS
	set.RateHz = RateFor(set.Budget, each/1e9)
	if share := float64(set.RateHz) * each / 1e9; share > 1.1*set.Budget {
		return fmt.Errorf("%.3g %% cannot be kept: a sample costs %.1f µs here, so that even the lowest rate, %d a second, costs %.3f %%; allow more", 100*set.Budget, each/1e3, set.RateHz, 100*share)
	}
	const common, within = 0.05, 0.1
	say(fmt.Sprintf("a sample costs %.1f µs here (%.1f in the program, %.1f in the collector), so %d a second cost %.2f %%; a function with %.0f %% of the time is known to within a tenth of that after %.0f s of processor time",
		each/1e3, cost.StopNS/1e3, cost.CollectorNS/1e3, set.RateHz, 100*float64(set.RateHz)*each/1e9, 100*common, SecondsFor(common, within, set.RateHz)))
	return nil
}
