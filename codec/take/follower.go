package take

import (
	"errors"
	"io"
	"slices"

	"entelon/core/profile"
)

// Follower reads a take while it is being written: each time what is new, and nothing
// twice. It is not for several goroutines at once.
type Follower struct {
	d    *reader
	head bool   // the file's header was read
	over *Error // where it is broken, and what was before is to be had; nil: nowhere
}

// NewFollower returns a Follower of a take of which nothing was read. name stands in its
// errors, which are of type *Error unless a reader failed.
func NewFollower(name string, o Options) *Follower {
	o.Limits = o.Limits.OrDefault()
	d := &reader{name: name, o: o, take: &profile.Take{Profile: &profile.Profile{}}}
	d.room = allowance{left: o.Limits.Memory, deepest: o.Limits.Depth}
	return &Follower{d: d}
}

// Offset is where in the file the first byte is that was not read yet.
func (f *Follower) Offset() int64 { return f.d.offset }

// Feed reads all whole blocks of r, which begins at Offset. A block that has come in part
// only is left for the next time, also where r fails. After an error of type *Error the
// Follower is of no use any more.
func (f *Follower) Feed(r io.Reader) error {
	d := f.d
	if d.r = r; f.over != nil {
		return nil
	}
	partly := func(err error) error {
		var e *Error
		if errors.As(err, &e) && (e.Reason == CutOff || e.Reason == Empty) {
			return nil
		}
		return err
	}
	if !f.head {
		if err := d.fileHeader(); err != nil {
			return partly(err)
		}
		f.head = true
	}
	if d.dec == nil {
		if err := d.unpack(); err != nil {
			return err
		}
	}
	for {
		unpacked := d.unpacked
		ended, err := d.block()
		if err != nil {
			d.unpacked = unpacked
			var broken *Error
			if errors.As(err, &broken) && broken.Reason == Damaged && d.o.Salvage && d.usable() {
				f.over = broken
				return nil
			}
			return partly(err)
		}
		if ended {
			return nil
		}
	}
}

// Take is what has come so far; it stays as it is when more is read.
func (f *Follower) Take() (*profile.Take, error) {
	t, p := *f.d.take, *f.d.take.Profile
	// All columns only grow, so that what is there now may be shared; names of processes
	// and threads are replaced, and labels come after the samples that have them; so do attributes.
	p.Processes, p.Threads = slices.Clone(p.Processes), slices.Clone(p.Threads)
	p.Samples.Values, p.Samples.Labels = slices.Clone(p.Samples.Values), slices.Clone(p.Samples.Labels)
	p.Intervals.Attributes = slices.Clone(p.Intervals.Attributes)
	t.Facts.Warnings = slices.Clone(t.Facts.Warnings)
	t.Profile = &p
	if f.over != nil {
		t.Facts.Warn("salvaged", salvaged(f.over), "Make the take again.")
	}
	return f.d.finish(&t)
}
