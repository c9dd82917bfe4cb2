package compare

import (
	"fmt"
	"math"

	"entelon/core/profile"
	"entelon/core/scales"
	"entelon/core/scope"
	"entelon/core/statistics"
)

// Outcome is what a gate says.
type Outcome string

// The outcomes.
const (
	Pass    Outcome = "no regression"
	Fail    Outcome = "regression"
	Unknown Outcome = "could not tell"
)

// Limit is by how much something may become costlier.
type Limit struct {
	Pattern string  // names of functions, with * and ?; "" is the whole
	Rise    float64 // as a share of the baseline
}

// Accepted is a change that somebody has accepted: it does not count.
type Accepted struct {
	Pattern string  // as of a Limit
	Rise    float64 // up to this; 0 is any
	Note    string
}

// Rules are what a gate goes by. The first limit that fits a function counts.
type Rules struct {
	Limits   []Limit
	Accepted []Accepted
}

// Finding is one thing that a gate looked at.
type Finding struct {
	Name     string // full name of the function, "" for the whole
	Estimate statistics.Estimate
	Limit    float64
	Outcome  Outcome
	Note     string // why it was accepted
	Nothing  string // the pattern of a limit that fits no function, else ""
}

// Text says what was found, in a sentence. Figures are shares of the baseline.
func (f *Finding) Text(r *Result, measure string) string {
	if f.Nothing != "" {
		return fmt.Sprintf("No function is like %s, so that its limit guards nothing.", f.Nothing)
	}
	what := "The program"
	if f.Name != "" {
		what = profile.Short(f.Name)
	}
	e := &f.Estimate
	var out string
	switch {
	case e.Baseline == 0 && e.Candidate > 0:
		out = fmt.Sprintf("%s is new.", what)
	case e.Baseline == 0:
		return fmt.Sprintf("%s costs nothing.", what)
	case r.Scale == scales.ByShare && f.Name == "":
		return "Shares of the total cannot tell whether the whole got slower; compare by run, by work or by second."
	case e.Verdict == statistics.Slower || e.Verdict == statistics.Faster:
		out = fmt.Sprintf("%s takes %s %s %s%s.", what, statistics.Change(e.Ratio, measure), measure, r.Scale.Words(), e.Between())
	case e.Verdict == statistics.TooFew:
		out = fmt.Sprintf("%s: too few takes to tell; it changed by %s%s, and a change below %.1f %% would hardly have been seen.", what, statistics.Signed(e.Ratio-1), e.Between(), 100*e.Seen)
		if e.Need > 0 && e.Need < statistics.MaxTakes {
			out += fmt.Sprintf(" %d takes a side would do.", e.Need)
		}
	case r.Certain:
		out = fmt.Sprintf("%s: no change but for what runs of one build differ by.", what)
	default:
		out = fmt.Sprintf("%s: no change shown; one of %.1f %% would have been seen.", what, 100*e.Seen)
	}
	if f.Note != "" {
		out += " Accepted: " + f.Note + "."
	}
	return out
}

// Judge holds a comparison against rules. A regression is a rise that is told
// from chance and larger than its limit; where a larger one could have been
// missed, or where a limit fits no function, the gate could not tell. The worst finding stands first and decides.
func Judge(r *Result, rules Rules) (Outcome, []Finding) {
	var out []Finding
	for _, l := range rules.Limits {
		if l.Pattern == "" {
			out = append(out, judge(r, "", r.Whole, l.Rise, r.Scale == scales.ByShare, rules))
			break
		}
	}
	guards := make([]bool, len(rules.Limits))
	for i := range r.Rows {
		row := &r.Rows[i]
		judged := false
		for k, l := range rules.Limits {
			if l.Pattern == "" || !fits(l.Pattern, row.Name) {
				continue
			}
			guards[k] = true
			if !judged {
				judged = true
				out = append(out, judge(r, row.Name, row.Total, l.Rise, false, rules))
			}
		}
	}
	for k, l := range rules.Limits {
		if l.Pattern != "" && !guards[k] {
			out = append(out, Finding{Limit: l.Rise, Outcome: Unknown, Nothing: l.Pattern})
		}
	}
	worst := Pass
	var sorted []Finding
	for _, o := range []Outcome{Fail, Unknown, Pass} {
		for _, f := range out {
			if f.Outcome == o {
				if len(sorted) == 0 {
					worst = o
				}
				sorted = append(sorted, f)
			}
		}
	}
	return worst, sorted
}

func judge(r *Result, name string, e statistics.Estimate, limit float64, shares bool, rules Rules) Finding {
	f := Finding{Name: name, Estimate: e, Limit: limit, Outcome: Unknown}
	rise := math.Inf(1)
	if e.Baseline > 0 {
		rise = e.Ratio - 1
	}
	switch {
	case shares:
	case e.Verdict == statistics.Faster, e.Verdict == statistics.Slower && rise < limit, e.Baseline == 0 && e.Candidate == 0:
		f.Outcome = Pass
	case e.Verdict == statistics.Slower:
		f.Outcome = Fail
	case r.Single:
	case e.Seen <= limit || e.RatioHigh > 0 && e.RatioHigh-1 <= limit:
		f.Outcome = Pass
	case name != "" && e.Verdict == statistics.NoChange:
		f.Outcome = Pass // too small a part of the whole for its limit to matter
	}
	if f.Outcome == Fail {
		for _, a := range rules.Accepted {
			if (a.Pattern == "" && name == "" || a.Pattern != "" && name != "" && fits(a.Pattern, name)) && (a.Rise == 0 || rise <= a.Rise) {
				f.Outcome, f.Note = Pass, a.Note
				if f.Note == "" {
					f.Note = "without a note"
				}
				break
			}
		}
	}
	return f
}

// fits reports whether a pattern is a function's full or short name.
func fits(pattern, name string) bool {
	return scope.Fits(pattern, name) || scope.Fits(pattern, profile.Short(name))
}
