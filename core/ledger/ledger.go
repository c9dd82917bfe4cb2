// Package ledger judges the builds of a program, each by its takes against those of the build
// before: which of them made it slower, which fixed that, and where its cost took a step for
// good. It has no state.
package ledger

import (
	"entelon/core/scales"
	"entelon/core/statistics"
)

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
	Mean, Low, High float64             // of its takes, with a 95 % interval
	Change          statistics.Estimate // against the build before; of the first one, and of shares, nothing is said
	Mark            BuildMark
	// Sound is the position of the last build without an open regression before this one,
	// where a regression is open here, and Since what the takes say against that; else -1.
	Sound int
	Since statistics.Estimate
}

// Judge judges the builds of a program, given in their order. exact says that the measure
// counts every event. Each is judged against the build before; a regression that this shows
// stays open until a build is as cheap as the last one before it, within what is worth
// knowing. Shares of a whole are not judged: the whole of each is the same.
func Judge(builds []statistics.Group, scale scales.Scale, exact bool) []BuildVerdict {
	out := make([]BuildVerdict, len(builds))
	sound := -1 // the last build before a regression that is not fixed yet
	shared := 0.0
	for k := range builds {
		b := &out[k]
		b.Sound = -1
		b.Mean, b.Low, b.High = statistics.Mean(builds[k].Value)
		if k == 0 || scale == scales.ByShare {
			continue
		}
		b.Change = statistics.Totals(&builds[k-1], &builds[k], exact)
		slower := b.Change.Verdict == statistics.Slower && b.Change.Ratio-1 >= statistics.DefaultWorth
		switch {
		case slower:
			b.Mark = Regression
			if sound < 0 {
				sound, shared = k-1, 0
			}
		case b.Change.Verdict == statistics.Faster && sound >= 0:
			b.Mark = Fixed
			if b.Mean <= (1+statistics.DefaultWorth)*out[sound].Mean {
				sound = -1 // nothing is left of it for a later build to fix
			}
		}
		if sound >= 0 {
			// Each step from the sound build on adds what it is measured by.
			shared += builds[k].Shared
			with := builds[k]
			with.Shared = shared
			b.Sound, b.Since = sound, statistics.Totals(&builds[sound], &with, exact)
		}
	}
	return out
}
