// Package told adds the spans that programs told of themselves to a take.
package told

import (
	"errors"
	"fmt"

	"entelon/core/profile"
	"entelon/core/spans"
)

// Received are the spans that arrived while a take was made, and what is to be said of how they came.
type Received struct {
	Spans    []spans.Told
	Warnings []profile.Warning
	Others   bool // some may be of programs that have nothing to do with the take
}

// Add adds them to the profile of a host once all else is in it, and says in the facts what became of them. everyone
// says that the take is of all programs. It reports whether the profile has gained something.
func Add(told Received, b *profile.Builder, f *profile.Facts, host string, everyone bool) bool {
	f.Warnings = append(f.Warnings, told.Warnings...)
	if len(told.Spans) == 0 {
		return false
	}
	if told.Others && !everyone {
		pids := map[uint32]bool{}
		for _, p := range b.Profile().Processes {
			pids[p.PID] = true
		}
		if told.Spans = spans.Related(told.Spans, host, pids); len(told.Spans) == 0 {
			return false
		}
	}
	clocks := spans.Align(told.Spans)
	added, err := spans.AddTo(b, host, f.OriginUnixNS, f.DurationNS, told.Spans)
	switch {
	case errors.Is(err, spans.ErrOutside):
		f.Warn("told-outside", fmt.Sprintf("None of the %d spans that were sent is in the time of the take.", len(told.Spans)), "Set the clocks of both sides by one source.")
		return false
	case err != nil:
		f.Warn("told-outside", "The spans that were sent are not in the take: "+err.Error()+".", "Have the program send fewer of them.")
		return false
	}
	if left := added.Left(); left != "" {
		f.Warn("told-left", "Of the spans that were sent some are left out: "+left+".", "")
	}
	for _, c := range clocks {
		f.Warn("told-clock", c.String(), "Set the clocks of both sides by one source.")
	}
	return true
}
