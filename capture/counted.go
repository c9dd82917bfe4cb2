package capture

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"entelon/capture/pairing"
	"entelon/capture/rings"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/linux/bpf"
)

// tellCounted says of each measure whose events are counted how many there were, how many
// of them have a sample of their own, and how many are missing in the total.
func (s *session) tellCounted(c *pairing.Counted) error {
	if s.counting != nil {
		return nil
	}
	lost, exact, err := s.target.Lost()
	if !exact {
		lost = make([]int64, len(s.events))
	}
	s.facts.Counted = nil
	samplesLost := int64(0)
	for i, e := range s.events {
		if !e.Tallied {
			samplesLost += lost[i]
		}
	}
	if exact {
		s.facts.Lost = samplesLost
	}
	var state bpf.TallyControl
	if s.tally != nil {
		var stateErr error
		state, stateErr = s.tally.State()
		err = errors.Join(err, stateErr)
		for i, e := range s.events {
			if e.Tallied {
				lost[i] = int64(state.Full[i])
			}
		}
	}
	if s.other != nil {
		missed, missedErr := s.other.Members.Missed()
		err = errors.Join(err, missedErr)
		if missed > 0 {
			s.facts.Warn("missed", fmt.Sprintf("What %d processes did is missing: too many ran at a time.", missed), "Choose fewer of them.")
		}
	}
	for _, x := range []struct {
		n    int64
		code string
		text string
	}{
		{c.NoName, "no-file-names", "There was no room for the names of %d files and sockets: calls that were about these do not say so."},
		{c.NoRoom, "no-label-spans", "There was no room for %d spans that labels name."},
		{c.NoColumn, "no-columns", "What is known of events was left out %d times: a take has room for 250 columns."},
	} {
		if x.n > 0 {
			s.facts.Warn(x.code, fmt.Sprintf(x.text, x.n), "Choose fewer processes, or fewer measures.")
		}
	}
	if s.tallyErr != nil {
		s.facts.Warn("one-by-one", "Events were recorded one by one, not added up in the kernel: "+s.tallyErr.Error()+".", "If they came too fast for that, the total says how many are missing.")
	}
	for i, m := range s.measures.Chosen {
		if m.Row().Way == measure.ByClock {
			continue
		}
		column := s.measures.Columns[i]
		x := profile.Counting{Measure: m.String(), Events: c.Events[column], Singly: c.Singly[column], Intervals: c.Intervals[column]}
		for n, e := range s.events {
			if e.Column == column && e.Counts() && !e.Beside() {
				x.Lost += lost[n]
				if s.tally != nil {
					x.Thinned += int64(state.Thinned[n&(bpf.MaxTallied-1)])
					x.Unwritten += int64(state.Unwritten[n&(bpf.MaxTallied-1)])
				}
			}
		}
		s.facts.Counted = append(s.facts.Counted, x)
	}
	return err
}

// tellOwn says how much of the program's processor time was our own: where events are
// counted by programs in the kernel, they run in its threads. What their samples stand for
// was set aside, and the clock's interrupt is not handed on within them at all, so that all
// that is missing was theirs.
func (s *session) tellOwn(c *pairing.Counted) {
	column := s.measures.ColumnOf(measure.CPU)
	if column < 0 {
		return
	}
	s.facts.OwnNS = c.OwnNS
	if s.filter != nil || !slices.ContainsFunc(s.events, func(e *rings.Event) bool { return e.Tallied }) {
		return
	}
	tick := int64(1e9) / int64(s.o.Settings.RateHz)
	missing := s.facts.CPUNS - s.resolver.Builder.Profile().Total(column) - s.facts.Lost*tick
	// What is missing by chance, or at the end of each thread, was nobody's. Where the
	// processors' clocks tick, whether a tick meets a thread is chance alone.
	chance := 2.0
	if s.facts.ByProcessors {
		chance = 3
	}
	if noise := tick * int64(5+chance*math.Sqrt(float64(s.facts.Samples))); missing > noise {
		s.facts.OwnNS = max(s.facts.OwnNS, missing)
	}
}
