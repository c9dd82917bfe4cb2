package truth

import (
	"errors"
	"fmt"
	"math"
	"slices"
)

// Target is the share of stacks that must be complete, and as expected.
const Target = 0.995

// mayBeTorn is the share of interpreted stacks that may be hit while the
// interpreter is changing them.
const mayBeTorn = 0.005

// Summary is what all runs together say.
type Summary struct {
	Shares, Hits, Allowed int     // Allowed may miss by chance
	Complete              float64 // over the stacks that are not deep on purpose
	Stacks                int64
	Right                 float64
	Known                 int64
	Lost                  int64
	Interpreted, Torn     int64
	Witnessed, Agree      int
	Missing               float64 // median share of ticks that are missing beyond what the host took away
}

// mayMissAlways is the share of the ticks that may be missing where the host took
// nothing.
const mayMissAlways = 0.03

// Sum adds up results.
func Sum(all []*Result) Summary {
	var s Summary
	var complete, right float64
	var missing []float64
	for _, r := range all {
		missing = append(missing, r.Missing-r.Stolen)
		for _, x := range r.Shares {
			s.Shares++
			if x.Hit {
				s.Hits++
			}
		}
		s.Lost += r.Lost
		s.Interpreted += r.Interpreted
		s.Torn += r.Torn
		for _, x := range r.Witness {
			s.Witnessed++
			if x.Hit {
				s.Agree++
			}
		}
		s.Known += r.Known
		right += float64(r.Right)
		if !r.Case.Deep {
			s.Stacks += r.Samples
			complete += r.Complete * float64(r.Samples)
		}
	}
	if len(missing) > 0 {
		slices.Sort(missing)
		s.Missing = missing[len(missing)/2]
	}
	s.Complete = complete / max(1, float64(s.Stacks))
	s.Right = right / max(1, float64(s.Known))
	s.Allowed = mayMiss(s.Shares, 0.01, 0.001)
	return s
}

// mayMiss returns how many of n tests, each of which fails by chance with
// probability p, may fail, so that more do only with probability beyond
// (binomial distribution).
func mayMiss(n int, p, beyond float64) int {
	term := math.Pow(1-p, float64(n))
	sum := term
	for k := 0; ; k++ {
		if 1-sum <= beyond || k == n {
			return k
		}
		term *= float64(n-k) / float64(k+1) * p / (1 - p)
		sum += term
	}
}

// Err says which targets were missed, nil if none were.
func (s Summary) Err() error {
	var errs []error
	if missed := s.Shares - s.Hits; missed > s.Allowed {
		errs = append(errs, fmt.Errorf("%d of %d shares are outside their intervals, and chance allows %d", missed, s.Shares, s.Allowed))
	}
	if s.Missing > mayMissAlways {
		errs = append(errs, fmt.Errorf("%.1f %% of the ticks are missing beyond what the host took away", 100*s.Missing))
	}
	if torn := float64(s.Torn) / float64(max(1, s.Interpreted+s.Torn)); torn > mayBeTorn {
		errs = append(errs, fmt.Errorf("%.3f %% of the interpreted stacks were torn", 100*torn))
	}
	if s.Agree < s.Witnessed {
		errs = append(errs, fmt.Errorf("of %d parts the runtime's own profiler says otherwise for %d", s.Witnessed, s.Witnessed-s.Agree))
	}
	if s.Complete < Target {
		errs = append(errs, fmt.Errorf("only %.3f %% of the stacks are complete", 100*s.Complete))
	}
	if s.Right < Target {
		errs = append(errs, fmt.Errorf("only %.3f %% of the stacks look as the source says", 100*s.Right))
	}
	return errors.Join(errs...)
}
