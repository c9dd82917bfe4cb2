package compare

import "math"

// BuildMark says what a build is in the history of its program.
type BuildMark string

// The marks.
const (
	NoBuildMark BuildMark = ""
	Regression  BuildMark = "regression" // it is slower than the build before, by as much as is worth knowing
	Fixed       BuildMark = "fixed"      // it is faster, and an earlier regression is what went away
)

// BuildVerdict is what the takes of a build say against those of the build before.
type BuildVerdict struct {
	Mean, Low, High float64  // of its takes, with a 95 % interval
	Change          Estimate // against the build before; of the first one, and of shares, nothing is said
	Mark            BuildMark
}

// Ledger judges the builds of a program, given in their order. exact says that the measure
// counts every event. Shares of a whole are not judged: the whole of each is the same.
func Ledger(builds []Group, scale Scale, exact bool) []BuildVerdict {
	out := make([]BuildVerdict, len(builds))
	open := false // a regression that is not fixed yet
	// The cheapest build so far is what things were like without an open regression.
	sound := math.Inf(1)
	for k := range builds {
		b := &out[k]
		b.Mean, b.Low, b.High = Mean(builds[k].Value)
		if k > 0 && scale != ByShare {
			b.Change = Totals(&builds[k-1], &builds[k], exact)
			switch {
			case b.Change.Verdict == Slower && b.Change.Ratio-1 >= DefaultWorth:
				b.Mark, open = Regression, true
			case b.Change.Verdict == Faster && open:
				b.Mark = Fixed
				open = b.Mean > (1+DefaultWorth)*sound // what is left of it may be fixed by a later build
			}
		}
		sound = math.Min(sound, b.Mean)
	}
	return out
}
