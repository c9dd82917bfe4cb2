package capture

import (
	"entelon/symbol/elfimage"
	"errors"

	"entelon/capture/follow"
	"entelon/linux/tracefs"
)

// tracing is what a collection uses of the kernel's tracing: opened when it is first
// needed.
type tracing struct {
	points *tracefs.List   // nil where no tracepoint was needed yet
	probes *tracefs.Probes // nil where no function was
}

// list returns the kernel's list of tracepoints.
func (t *tracing) list() (_ *tracefs.List, err error) {
	if t.points == nil {
		t.points, err = tracefs.Open()
	}
	return t.points, err
}

// probe puts a probe into a file.
func (t *tracing) probe(p follow.Entry) (tracefs.Tracepoint, error) {
	if t.probes == nil {
		points, err := t.list()
		if err != nil {
			return tracefs.Tracepoint{}, err
		}
		if t.probes, err = tracefs.NewProbes(points); err != nil {
			return tracefs.Tracepoint{}, err
		}
	}
	f, err := elfimage.OpenRegular(p.Path)
	if err != nil {
		return tracefs.Tracepoint{}, err
	}
	defer f.Close()
	return t.probes.Add(f, p.Offset)
}

// close removes the probes, whose events must be closed before.
func (t *tracing) close() error {
	var errs []error
	if t.probes != nil {
		errs = append(errs, t.probes.Close())
	}
	if t.points != nil {
		errs = append(errs, t.points.Close())
	}
	return errors.Join(errs...)
}
