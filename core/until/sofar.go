package until

import (
	"fmt"
	"math"
	"time"

	"entelon/core/calltree"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/statistics"
)

// SoFar is what the takes of a row have told, until enough is known: of a command, or of
// both sides of a comparison. As JSON it goes from one take of a row to the next.
type SoFar struct {
	Of    [2]statistics.Group `json:"of"` // the second one is empty where there is one side
	Exact bool                `json:"exact"`
}

// Add takes in a take that was made, on a side.
func (s *SoFar) Add(u *Rule, side int, t *profile.Take) error {
	tr := calltree.New(t.Profile)
	whole := tr.Cost(0, scope.Scope{})
	value, samples := float64(whole.Total(0)), whole.TotalSamples(0)
	if u.Function != "" {
		sc, err := scope.Of(u.Function)
		if err != nil {
			return err
		}
		c := tr.Cost(0, sc)
		value, samples = float64(c.Total(0)), c.TotalSamples(0)
		if !t.Settings.Launched() && whole.Total(0) > 0 {
			value /= float64(whole.Total(0)) // a share: its takes are of what happened to be done
		}
	}
	if t.Facts.Work > 0 {
		value /= t.Facts.Work
	}
	s.Exact = t.Profile.Words(0).Counted
	s.Of[side].Add(value, samples, t.Machine.StartedAt)
	return nil
}

// turns is how many takes, or pairs of them, there are.
func (s *SoFar) turns() int {
	if n := len(s.Of[1].Value); n > 0 {
		return min(n, len(s.Of[0].Value))
	}
	return len(s.Of[0].Value)
}

// Said is how far a row of takes is.
type Said struct {
	Text string // one sentence, "" while there is nothing to be said
	Done bool   // enough is known
}

// Say says what is known, and how long it will take besides; lasted is how long it took so
// far.
func (s *SoFar) Say(u *Rule, lasted time.Duration) (Said, error) {
	if len(s.Of[1].Value) > 0 {
		return s.sayOfBoth(u, lasted)
	}
	turn := s.turns()
	p := u.Sure(&s.Of[0])
	if mean, _, _ := statistics.Mean(s.Of[0].Value); mean == 0 && turn >= MinLooks {
		return Said{}, fmt.Errorf("%s has no cost in %d takes", u.what(), turn)
	}
	text := fmt.Sprintf("%s is known to ±%.1f %% after %d takes", u.what(), 100*p.Half, turn)
	switch {
	case p.Half == 0 && !p.Done: // takes that are all alike leave nothing open
		return Said{}, nil
	case p.Done:
		text += ", which is enough"
	case turn >= u.Most:
		text += fmt.Sprintf("; ±%.3g %% was wanted, and no more takes were allowed", 100*u.Within)
	default:
		text += s.ahead(p.Left, u.Most, "take", lasted)
	}
	return Said{text, p.Done}, nil
}

// sayOfBoth says what is known of two sides, or of their difference.
func (s *SoFar) sayOfBoth(u *Rule, lasted time.Duration) (Said, error) {
	turn := s.turns()
	if !u.Decided {
		a, b := u.Sure(&s.Of[0]), u.Sure(&s.Of[1])
		half := math.Max(a.Half, b.Half)
		text := fmt.Sprintf("%s is known to ±%.1f %% on both sides after %d pairs", u.what(), 100*half, turn)
		switch {
		case half == 0 && !(a.Done && b.Done):
			return Said{}, nil
		case a.Done && b.Done:
			return Said{text + ", which is enough", true}, nil
		case turn >= u.Most:
			return Said{Text: text + fmt.Sprintf("; ±%.3g %% was wanted, and no more pairs were allowed", 100*u.Within)}, nil
		}
		return Said{Text: text + s.ahead(max(a.Left, b.Left), u.Most, "pair", lasted)}, nil
	}
	p := u.Decide(&s.Of[0], &s.Of[1], s.Exact)
	if p.Half == 0 {
		return Said{}, nil
	}
	e := &p.Estimate
	text := fmt.Sprintf("%s: %s%s after %d pairs", u.what(), statistics.Signed(e.Ratio-1), e.Between(), turn)
	switch {
	case p.Done && e.Verdict == statistics.NoChange:
		text += fmt.Sprintf(": decided, no change of %.3g %%", 100*u.Within)
	case p.Done:
		text += ": decided, " + string(e.Verdict)
	case turn >= u.Most:
		text += ": not decided, and no more pairs were allowed"
	default:
		text += s.ahead(p.Left, u.Most, "pair", lasted)
	}
	return Said{text, p.Done}, nil
}

// what something is known of, in words.
func (u *Rule) what() string {
	if u.Function != "" {
		return u.Function
	}
	return "the whole"
}

// ahead says how many more it will take, and how long, from the takes so far.
func (s *SoFar) ahead(left, most int, each string, lasted time.Duration) string {
	several := func(n int) string {
		if n == 1 {
			return "1 " + each
		}
		return fmt.Sprintf("%d %ss", n, each)
	}
	turn := s.turns()
	switch {
	case left == 0:
		return fmt.Sprintf("; at most %s more", several(most-turn))
	case left > most-turn:
		return fmt.Sprintf("; it would take about %s more, and %d may be made", several(left), most-turn)
	}
	wait := time.Duration(left) * lasted / time.Duration(turn)
	return fmt.Sprintf("; about %s more, %v", several(left), wait.Round(time.Second))
}
