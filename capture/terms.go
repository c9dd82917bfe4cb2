package capture

import (
	"fmt"

	"entelon/capture/pairing"
	"entelon/linux/perf"
)

// terms are what a take was asked to be, and what follows from that alone.
type terms struct {
	o        Options
	measures pairing.Measures
	counting *counting // nil where samples are taken
}

// chooseEvent decides what triggers a sample: cycles where the machine has
// them, else the clock. What runs on a whole machine or in a control group is
// always sampled by the clock, since such an event runs whether or not anything
// else does.
func (s *terms) chooseEvent() error {
	set := &s.o.Settings
	switch set.Event {
	case "":
		set.Event = EventClock
		if !s.wide() && perf.HaveCycles() == nil {
			set.Event = EventCycles
		}
	case EventClock, EventThreadClock:
	case EventCycles:
		if s.wide() {
			return fmt.Errorf("cycles trigger samples of programs only, not of a whole machine or control group: %w", ErrNoCycles)
		}
		return perf.HaveCycles()
	default:
		return fmt.Errorf("%q triggers no samples; choose %s, %s or %s", set.Event, EventClock, EventThreadClock, EventCycles)
	}
	return nil
}

// keepsIntervals reports whether waits and system calls are kept with their beginning and their
// end: of windows, which are folded, they are not.
func (s *terms) keepsIntervals() bool { return s.o.Every == 0 }
