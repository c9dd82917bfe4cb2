package capture

import (
	"fmt"
	"slices"

	"entelon/core/measure"
	"entelon/linux/procfs"
)

// A thread that is sampled by a clock of its own is seen first when it has run for a whole
// tick: of what starts and ends within one nothing is seen, and of no program its
// beginning. The processors' clocks tick whoever runs, so everything is seen as often as it
// takes time. A kernel program keeps the samples of those who are sampled, which only root
// may load.

// suitsProcessors reports whether processor time of a program is sampled by the clocks of
// the processors, where the kernel allows it.
func (s *terms) suitsProcessors() bool {
	return s.counting == nil && s.o.Settings.Event == EventClock && !s.wide() && procfs.SeesAll() &&
		slices.ContainsFunc(s.measures.Chosen, func(m measure.Choice) bool { return m.Row().Way == measure.ByClock })
}

// wide reports whether all that run somewhere are sampled, and not some processes.
func (s *terms) wide() bool { return s.o.Settings.Machine || s.o.Settings.Group != "" }

// try is a way to open the events.
type try struct {
	kernel     bool // the kernel's part is sampled
	processors bool // by the processors' clocks
	last       bool
}

// tries are the ways to open the events, the best first.
func (s *session) tries() (out []try) {
	if s.other != nil && s.suitsProcessors() {
		out = append(out, try{kernel: true, processors: true})
	}
	return append(out, try{kernel: true}, try{last: true})
}

// followMembers tells the kernel's programs who is sampled, where they ask for that.
func (s *session) followMembers() error {
	if s.other == nil || s.wide() || s.tally == nil && !s.facts.ByProcessors {
		return nil
	}
	for _, pid := range s.pids {
		if err := s.other.Members.Add(uint32(pid), s.command != nil); err != nil {
			return err
		}
	}
	if s.tally != nil {
		return nil // whose programs follow them
	}
	if err := s.other.Members.Follow(); err != nil {
		return fmt.Errorf("%w; --event %s does without it", err, EventThreadClock)
	}
	return nil
}
