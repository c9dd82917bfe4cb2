package main

import (
	"errors"
	"fmt"
	"math"
	"time"

	"entelon/core/calltree"
	"entelon/core/compare"
	"entelon/core/profile"
	"entelon/core/scope"
)

// soFar are the takes that were made until enough is known, of the command or of both sides.
type soFar struct {
	of    [2]compare.Group
	exact bool
	err   error
	began time.Time
}

// mostSure is how many takes are made at most until something is sure.
const mostSure = 30

// readUntil reads when enough was made, and sets at most how many takes there are.
func (f *takeFlags) readUntil() error {
	if f.settings.Until == "" {
		return nil
	}
	u, err := compare.ParseUntil(f.settings.Until)
	if err != nil {
		return err
	}
	switch {
	case u.Decided && f.against == "":
		return errors.New("a difference is decided to a baseline; give it with --against")
	case len(f.settings.Command) == 0 && f.during == 0:
		return errors.New("what runs already is taken several times; say how long each with --for")
	case len(f.settings.Command) == 0 && u.Function == "":
		return errors.New("how long a take lasts says nothing of what runs already; name a function, such as 'slur.Route sure 5%'")
	}
	if f.repeat == 1 {
		if f.repeat = mostSure; f.against != "" {
			f.repeat = compare.MostPairs
		}
	}
	u.Most, f.settings.Until, f.until = f.repeat, u.String(), &u
	return nil
}

// add returns what takes in each take that was made, on a side.
func (s *soFar) add(u *compare.Until, side int) func(*profile.Take) {
	s.began = time.Now()
	return func(t *profile.Take) {
		tr := calltree.New(t.Profile)
		whole := tr.Cost(0, scope.Scope{})
		value, samples := float64(whole.Total(0)), whole.TotalSamples(0)
		if u.Function != "" {
			sc, err := scope.Of(u.Function)
			if err != nil {
				s.err = err
				return
			}
			c := tr.Cost(0, sc)
			value, samples = float64(c.Total(0)), c.TotalSamples(0)
			if len(t.Settings.PIDs) > 0 && whole.Total(0) > 0 {
				value /= float64(whole.Total(0)) // a share: its takes are of what happened to be done
			}
		}
		if t.Facts.Work > 0 {
			value /= t.Facts.Work
		}
		s.exact = t.Profile.Words(0).Counted
		s.of[side].Add(value, samples, t.Machine.StartedAt)
	}
}

// what is known of, in words.
func what(u *compare.Until) string {
	if u.Function != "" {
		return u.Function
	}
	return "the whole"
}

// ahead says how long it will take besides, from the takes so far.
func (s *soFar) ahead(left, turn, most int, each string) string {
	several := func(n int) string {
		if n == 1 {
			return "1 " + each
		}
		return fmt.Sprintf("%d %ss", n, each)
	}
	switch {
	case left == 0:
		return fmt.Sprintf("; at most %s more", several(most-turn))
	case left > most-turn:
		return fmt.Sprintf("; it would take about %s more, and %d may be made", several(left), most-turn)
	}
	wait := time.Duration(left) * time.Since(s.began) / time.Duration(turn)
	return fmt.Sprintf("; about %s more, %v", several(left), wait.Round(time.Second))
}

// sure says how well something is known, and whether that is enough.
func (s *soFar) sure(u *compare.Until, turn int, say func(string)) (done bool, err error) {
	if s.err != nil {
		return true, s.err
	}
	p := u.Sure(&s.of[0])
	mean, _, _ := compare.Mean(s.of[0].Value)
	if mean == 0 && turn >= 3 {
		return true, fmt.Errorf("--until: %s has no cost in %d takes", what(u), turn)
	}
	text := fmt.Sprintf("%s is known to ±%.1f %% after %d takes", what(u), 100*p.Half, turn)
	switch {
	case p.Half == 0:
		return false, nil
	case p.Done:
		say(text + ", which is enough")
	case turn == u.Most:
		say(text + fmt.Sprintf("; ±%.3g %% was wanted. More takes can be allowed with --repeat", 100*u.Within))
	default:
		say(text + s.ahead(p.Left, turn, u.Most, "take"))
	}
	return p.Done, nil
}

// decided says what is known of a difference, and whether it is decided.
func (s *soFar) decided(u *compare.Until, turn int, say func(string)) (done bool, err error) {
	if s.err != nil {
		return true, s.err
	}
	if !u.Decided {
		a, b := u.Sure(&s.of[0]), u.Sure(&s.of[1])
		half := math.Max(a.Half, b.Half)
		if a.Done && b.Done {
			say(fmt.Sprintf("%s is known to ±%.1f %% on both sides after %d pairs, which is enough", what(u), 100*half, turn))
			return true, nil
		}
		if half > 0 {
			say(fmt.Sprintf("%s is known to ±%.1f %% after %d pairs%s", what(u), 100*half, turn, s.ahead(max(a.Left, b.Left), turn, u.Most, "pair")))
		}
		return false, nil
	}
	p := u.Decide(&s.of[0], &s.of[1], s.exact)
	if p.Half == 0 {
		return false, nil
	}
	e := &p.Estimate
	text := fmt.Sprintf("%s: %s%s after %d pairs", what(u), compare.Signed(e.Ratio-1), e.Between(), turn)
	switch {
	case p.Done && e.Verdict == compare.NoChange:
		say(text + fmt.Sprintf(": decided, no change of %.3g %%", 100*u.Within))
	case p.Done:
		say(text + ": decided, " + string(e.Verdict))
	case turn == u.Most:
		say(text + ": not decided. More pairs can be allowed with --repeat")
	default:
		say(text + s.ahead(p.Left, turn, u.Most, "pair"))
	}
	return p.Done, nil
}
