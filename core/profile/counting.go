package profile

import (
	"fmt"

	"entelon/core/measure"
)

// Counting is how the total of a measure came to be whose events are counted.
type Counting struct {
	Measure string `json:"measure"`        // as it was chosen
	Events  int64  `json:"events"`         // that the total holds
	Singly  int64  `json:"singly"`         // those with a sample of their own; the others are added up with these
	Lost    int64  `json:"lost,omitempty"` // more that happened: the total is then partial
	// Intervals is how many of them are kept with their beginning and their end. Thinned and
	// Unwritten are how many more there were: short ones that came too fast to be kept, and such
	// as found no room.
	Intervals int64 `json:"intervals,omitempty"`
	Thinned   int64 `json:"thinned,omitempty"`
	Unwritten int64 `json:"unwritten,omitempty"`
}

// CountingOf returns how a column of the profile was counted; ok is false where its events
// are sampled, or nothing is known of it.
func (t *Take) CountingOf(column int) (c Counting, ok bool) {
	chosen, err := measure.ParseAll(t.Settings.Measures)
	if err != nil {
		return c, false
	}
	at := 0
	for _, m := range chosen {
		at += len(m.Columns())
		if m.Kind == measure.CPU && t.Settings.Event == EventCycles {
			at++
		}
		if column >= at {
			continue
		}
		for _, c := range t.Facts.Counted {
			if c.Measure == m.String() {
				return c, true
			}
		}
		break
	}
	return c, false
}

// Missing is how many events are not in the total of a column, which is then partial.
func (t *Take) Missing(column int) int64 {
	c, _ := t.CountingOf(column)
	return c.Lost
}

// Partial says behind a total that events are missing in it, "" where none are.
func Partial(missing int64) string {
	if missing == 0 {
		return ""
	}
	return fmt.Sprintf(" (partial: %d events are missing)", missing)
}
