package pairing

import "entelon/core/profile"

// Window is a stretch of a long collection, with a profile of its own.
type Window struct {
	Begin, End int64 // in nanoseconds since the collection began
	Profile    *profile.Profile
	Facts      profile.Facts
}

// turn ends a window at a time and begins the next one. What is going on counts in each
// window with its part of the time; a call counts in the one in which it ends.
func (c *Consumer) turn(at uint64) Window {
	if c.Waits != nil {
		c.Waits.part(at)
	}
	if c.syscalls != nil {
		c.syscalls.part(at)
	}
	w := Window{Begin: c.windowBegan, End: c.resolver.Since(at), Facts: *c.facts}
	w.Facts.CutOff = c.resolver.CutOff()
	w.Facts.DurationNS = w.End - w.Begin
	if c.Filter != nil {
		w.Facts.LeftOut = c.Filter.Left
		c.Filter.turn()
	}
	var carry profile.Carry
	w.Profile, carry = c.resolver.Turn()
	if c.Waits != nil {
		c.Waits.carry(carry)
	}
	c.tallies.carry(carry)
	if c.syscalls != nil {
		c.syscalls.carry(carry)
	}
	clear(c.lastCalls)
	if c.own != nil {
		clear(c.own.is)
	}
	*c.facts = profile.Facts{Executable: w.Facts.Executable, BuildID: w.Facts.BuildID, Revision: w.Facts.Revision, RuntimeSet: w.Facts.RuntimeSet}
	c.windowBegan = w.End
	return w
}

// turnIfDue ends a window if it is long enough, or if the last one is asked for. It ends at
// a time up to which all records have come: of what is still on its way nobody knows yet
// what it ends.
func (c *Consumer) turnIfDue(at uint64, last bool) error {
	if c.Every <= 0 || !last && c.resolver.Since(at)-c.windowBegan < c.Every.Nanoseconds() {
		return nil
	}
	return c.Window(c.turn(at))
}
