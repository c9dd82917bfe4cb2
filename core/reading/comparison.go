package reading

import (
	"fmt"
	"math"

	"entelon/core/compare"
	"entelon/core/profile"
	"entelon/core/scales"
	"entelon/core/statistics"
)

// Said is a piece of a sentence about a comparison; Name is the full name of a
// function where it names one.
type Said struct {
	Text string
	Name string
}

// Sides are what a comparison's sides are called.
type Sides struct {
	Baseline, Candidate string // builds, or takes
	Measure             string // in words: "CPU time"
}

// maxTold bounds how many suspects the reading names.
const maxTold = 3

// Comparison says what a comparison shows: whether the whole changed and how
// sure that is, and what explains it.
func Comparison(r *compare.Result, suspects []compare.Suspect, s Sides) []Said {
	var out []Said
	say := func(format string, args ...any) { out = append(out, Said{Text: fmt.Sprintf(format, args...)}) }
	w := r.Whole
	interval := func() string {
		if r.Single {
			return ", give or take what single takes differ by"
		}
		low, high := statistics.Signed(w.RatioLow-1), statistics.Signed(w.RatioHigh-1)
		if r.Certain && low == high {
			return ""
		}
		return fmt.Sprintf(", %s to %s", low, high)
	}
	switch {
	case r.Scale == scales.ByShare:
		say("These are shares of each side's %s, which cannot tell whether the whole got slower.", s.Measure)
	case w.Baseline == 0 || w.Candidate == 0:
		say("One side has no %s in this scope.", s.Measure)
	case w.Verdict == statistics.Slower || w.Verdict == statistics.Faster:
		say("%s takes %s %s %s than %s%s.", s.Candidate, statistics.Change(w.Ratio, s.Measure), s.Measure, r.Scale.Words(), s.Baseline, interval())
	case w.Verdict == statistics.TooFew:
		say("There are too few takes to tell whether %s is slower than %s: it takes %s %s %s%s.", s.Candidate, s.Baseline, statistics.Change(w.Ratio, s.Measure), s.Measure, r.Scale.Words(), interval())
		switch {
		case r.Single:
			say(" Take each side several times, interleaved.")
		case w.Need > 0:
			say(" With %d takes a side a change of %.0f %% would be seen.", w.Need, 100*statistics.DefaultWorth)
		}
	case r.Certain:
		say("%s and %s do not differ in %s by more than runs of one of them do.", s.Baseline, s.Candidate, s.Measure)
	default:
		say("No change is shown between %s and %s; one of %.1f %% would have been seen.", s.Baseline, s.Candidate, 100*w.Seen)
	}
	told := 0
	for _, x := range suspects {
		if told == maxTold || x.Verdict != statistics.Slower && x.Verdict != statistics.Faster {
			continue
		}
		told++
		say(" ")
		share := fmt.Sprintf("%.0f %% of it is", 100*x.Share)
		if x.Share > 1.005 {
			share = fmt.Sprintf("More than all of it (%.0f %%) is", 100*x.Share) // other places gave some back
		}
		if shown := w.Verdict == statistics.Slower || w.Verdict == statistics.Faster; !shown || x.Share < 0 || math.Abs(x.Share) > 2 {
			share = "More is spent"
			if x.Difference < 0 {
				share = "Less is spent"
			}
		}
		out = append(out, because(r, x, share)...)
	}
	if told == 0 && len(suspects) > 0 {
		say(" No single place differs significantly.")
	}
	return out
}

// because says what a suspect is, after which share of the difference it has.
func because(r *compare.Result, x compare.Suspect, share string) []Said {
	out := why(r, x, share)
	for _, c := range x.Counts {
		out = append(out, called(r, c)...)
	}
	return out
}

// called says how often a function was called at a suspect.
func called(r *compare.Result, c compare.Count) []Said {
	full := r.Name(c.Function)
	at, there := Said{profile.Short(full), full}, " there"
	if c.Itself {
		at, there = Said{Text: "It"}, ""
	}
	often := ""
	switch t := c.Ratio(); {
	case c.Calls[0] == c.Calls[1]:
		often = "as often as before"
	case c.Calls[0] == 0:
		often = "now, and was not before"
	case c.Calls[1] == 0:
		often = "no longer"
	case t < 1:
		often = fmt.Sprintf("%.0f %% less often", 100*(1-t))
	case t < 1.1:
		often = fmt.Sprintf("%.1f %% more often", 100*(t-1))
	default:
		often = figure(t) + " times as often"
	}
	counted := "counted"
	if r.Scale != scales.ByShare {
		counted = fmt.Sprintf("%s → %s calls %s, counted", number(c.Calls[0]), number(c.Calls[1]), r.Scale.Words())
	}
	return []Said{{Text: " "}, at, {Text: fmt.Sprintf(" is called%s %s (%s).", there, often, counted)}}
}

// number writes a count with its thousands apart.
func number(x float64) string {
	if x < 100 && x != math.Trunc(x) {
		return fmt.Sprintf("%.1f", x)
	}
	s := fmt.Sprintf("%.0f", x)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + " " + s[i:]
	}
	return s
}

// why says in which way a suspect explains a difference.
func why(r *compare.Result, x compare.Suspect, share string) []Said {
	name := func(f int32) Said {
		full := r.Name(f)
		return Said{profile.Short(full), full}
	}
	at := name(x.Function())
	caller := Said{Text: "the start of the stack"}
	if c := r.Caller(x); c >= 0 {
		caller = name(c)
	}
	text := func(s string) Said { return Said{Text: s} }
	times := ""
	switch {
	case x.Enters > 0 && x.Enters < 1:
		times = ", " + statistics.Change(x.Enters, "")
	case x.Enters > 0:
		times = fmt.Sprintf(", %s times as much", figure(x.Enters))
	}
	switch x.Why {
	case compare.Throughout:
		return []Said{text("Everything in the program takes " + statistics.Change(x.Enters, "") + " alike: more work, or a slower machine.")}
	case compare.Newly:
		return []Said{text(share + " in "), at, text(", which is new, called by "), caller, text(".")}
	case compare.Away:
		return []Said{text(share + " in "), at, text(", which is gone; "), caller, text(" called it.")}
	case compare.Moved:
		return []Said{text(share + " in "), at, text(", which now runs under "), caller, text(" instead of elsewhere.")}
	case compare.Oftener:
		if x.Itself() {
			return []Said{text(share + " under "), at, text(times + ": "), caller, text(" calls it more often.")}
		}
		return []Said{text(share + " under "), at, text(times + " in all of its parts: "), caller, text(" calls it more often, or gives it more to do.")}
	case compare.Seldom:
		if x.Itself() {
			return []Said{text(share + " under "), at, text(times + ": "), caller, text(" calls it less often.")}
		}
		return []Said{text(share + " under "), at, text(times + " in all of its parts: "), caller, text(" calls it less often, or gives it less to do.")}
	case compare.Heavier:
		return []Said{text(share + " under "), at, text(times + " in all of its parts: it does more per call, made by "), caller, text(".")}
	case compare.Lighter:
		return []Said{text(share + " under "), at, text(times + " in all of its parts: it does less per call, made by "), caller, text(".")}
	case compare.Inlined:
		return []Said{text(share + " in "), at, text(", which is inlined now into "), caller, text(".")}
	case compare.Outline:
		return []Said{text(share + " in "), at, text(", which is inlined into "), caller, text(" no longer.")}
	case compare.Rewritten:
		via := ": it now calls "
		end := ", which is new."
		if row := r.Row(x.Via); row != nil && row.State == compare.Gone {
			via, end = ": it calls ", " no longer."
		}
		return []Said{text(share + " under "), at, text(times + via), name(x.Via), text(end)}
	case compare.OwnCode:
		return []Said{text(share + " in "), at, text("'s own code" + times + ", called by "), caller, text(".")}
	}
	if x.Function() < 0 {
		return []Said{text(share + " in many small places.")}
	}
	if x.Via >= 0 {
		return []Said{text(share + " in what "), at, text(" calls" + times + ", mostly in "), name(x.Via), text("; "), caller, text(" calls it.")}
	}
	return []Said{text(share + " in what "), at, text(" calls" + times + ", called by "), caller, text(".")}
}

func figure(x float64) string {
	if x < 10 {
		return fmt.Sprintf("%.1f", x)
	}
	return fmt.Sprintf("%.0f", x)
}
