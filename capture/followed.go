package capture

import (
	"fmt"

	"entelon/capture/follow"
	"entelon/capture/rings"
	"entelon/core/measure"
)

// followed are the events of a measure that follows functions, or goroutines, from their beginning to
// their end.
func followed(s *session, m measure.Choice) ([]*rings.Event, error) {
	files, err := s.files(nil)
	if err != nil {
		return nil, err
	}
	if len(files) == 0 {
		return nil, fmt.Errorf("%s: follow a process or a command, not %s: %w", m, s.subject.text(s.o.Settings), ErrProbe)
	}
	if m.Kind == measure.Goroutines {
		return follow.Goroutines(files, s.keepsIntervals())
	}
	find := follow.Functions
	if m.Kind == measure.Probe {
		find = follow.Probes
	}
	e, warnings, err := find(files, m.Of)
	if err != nil {
		return nil, err
	}
	for _, w := range warnings {
		s.facts.Warn(w.Code, w.Text, w.Remedy)
	}
	return []*rings.Event{e}, nil
}
