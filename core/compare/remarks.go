package compare

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"entelon/core/match"
	"entelon/core/scales"
	"entelon/core/statistics"
)

// Remark is something about the takes that a reader of their comparison must
// know, in a sentence, with what to do about it.
type Remark struct {
	Code   string
	Side   int // 0: baseline, 1: candidate
	Run    int // position of the take that it is about, -1 for the side
	Text   string
	Remedy string
}

const (
	// A take is far off if it is so many robust standard deviations from the
	// median of its side, and so much of it, too: of takes that agree within a
	// thousandth none is.
	farOff     = 5
	farOffAtAs = 0.05
	// minForOutlier is how many takes must agree for another to be far off.
	minForOutlier = 4
	// muchWider is from where on it is said that the order of takes makes intervals
	// wider.
	muchWider = 1.2
	// minForDrift and driftAt bound drifts that are said: so many takes, so
	// close to one after the other in their order.
	minForDrift = 6
	driftAt     = 0.8
)

// remarks finds takes that are far off and sides that drift. The robust
// deviation is 1.4826 times the median of the distances to the median, which is
// the standard deviation of normal values; the drift is Kendall's rank
// correlation with the order in which the takes were made.
func remarks(r *Result) []Remark {
	var out []Remark
	if a, b := workloads(r.a), workloads(r.b); len(a) > 0 && len(b) > 0 && (len(a) > 1 || len(b) > 1 || a[0] != b[0]) {
		out = append(out, Remark{"workloads", 0, -1, fmt.Sprintf("The takes are of different workloads: the baseline of %s, the candidate of %s. What differs may come from that.", inWords(a), inWords(b)),
			"Compare takes of one workload; if these are the same, merge the workloads in the ledger, or give them one name with take --workload."})
	}
	if r.Wider >= muchWider {
		out = append(out, Remark{"order", 0, -1, fmt.Sprintf("The takes of one side were made after those of the other, where a drift of the machine looks like a difference; the intervals are %.1f times as wide for it.", r.Wider),
			"Interleave both sides, with take --against or a baseline in New take, to see smaller changes."})
	}
	if slices.ContainsFunc(slices.Concat(r.a, r.b), func(x match.Run) bool { return x.Varies != nil && x.Varies.Once }) {
		out = append(out, Remark{"once", 0, -1, "An exact take was run once, so that it is not known which of its figures vary by themselves.",
			"Take it without --once where the program does not do the same each time."})
	}
	if y := r.Yardstick; y != nil && y.Apart != 1 {
		out = append(out, Remark{"two-groups", 0, -1, fmt.Sprintf("Two groups of functions kept their proportions, one at %.2f times the other; which of them did not change cannot be told, and every interval is wide enough for both.", y.Apart),
			"Make longer takes, or several, so that both sides do the same mix of work."})
	}
	for side, runs := range [][]match.Run{r.a, r.b} {
		if missing, takes := lost(runs); missing > 0 {
			out = append(out, Remark{"partial", side, -1, fmt.Sprintf("The totals of the %s are partial: %d events of %d of its %d takes are missing.", match.SideNames[side], missing, takes, len(runs)),
				"Collect as root, so that the kernel adds events up and loses none."})
		}
		x := make([]float64, len(runs))
		for i := range runs {
			x[i] = r.each[side][i]
			if r.Scale == scales.ByShare {
				x[i] = float64(runs[i].Total())
			}
		}
		name := match.SideNames[side]
		if len(x) >= minForOutlier {
			m := statistics.Median(x)
			d := make([]float64, len(x))
			for i, v := range x {
				d[i] = math.Abs(v - m)
			}
			deviation := 1.4826 * statistics.Median(d)
			for i, v := range x {
				if math.Abs(v-m) > farOff*deviation && math.Abs(v-m) > farOffAtAs*m {
					what := runs[i].Name
					if what == "" {
						what = fmt.Sprintf("take %d", i+1)
					}
					out = append(out, Remark{"far-off", side, i, fmt.Sprintf("Of the %s, %s is far off the others: %s.", name, what, statistics.Signed(v/m-1)),
						"See in its facts whether the machine was busy or hot, and leave it out or take it again."})
				}
			}
		}
		if len(x) >= minForDrift {
			if tau := kendall(x); math.Abs(tau) >= driftAt {
				word := "up"
				if tau < 0 {
					word = "down"
				}
				out = append(out, Remark{"drift", side, -1, fmt.Sprintf("The takes of the %s drift %s, one after the other.", name, word),
					"Interleave both sides, with take --against, so that a drift meets both alike."})
			}
		}
	}
	return out
}

// workloads are those of a side's runs, each once.
func workloads(runs []match.Run) (out []string) {
	for i := range runs {
		if w := runs[i].Workload; w != "" && !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	slices.Sort(out)
	return out
}

// inWords names a few workloads.
func inWords(names []string) string {
	const few = 3
	var out []string
	for _, n := range names[:min(few, len(names))] {
		out = append(out, fmt.Sprintf("“%s”", n))
	}
	text := strings.Join(out, ", ")
	if more := len(names) - few; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// lost is how many events are missing, and in how many of the runs.
func lost(runs []match.Run) (events int64, of int) {
	for i := range runs {
		if runs[i].Lost > 0 {
			events += runs[i].Lost
			of++
		}
	}
	return events, of
}

// kendall is the share of pairs that are in order less that of those that are not.
func kendall(x []float64) float64 {
	sum := 0
	for i := range x {
		for j := range i {
			switch {
			case x[i] > x[j]:
				sum++
			case x[i] < x[j]:
				sum--
			}
		}
	}
	return float64(sum) / float64(len(x)*(len(x)-1)/2)
}
