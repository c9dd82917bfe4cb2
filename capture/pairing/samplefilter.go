package pairing

import (
	"fmt"

	"golang.org/x/sys/unix"

	"entelon/capture/rings"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// Filter decides which samples are kept: first by what is known before the
// stack is walked, which saves the walk, and else when it has its names.
type Filter struct {
	scope  scope.Scope
	late   func(i int) bool // of the profile's samples
	about  scope.About
	r      *resolve.Resolver
	kernel func() bool // the kernel's part of stacks is sampled
	column int         // of processor time, -1 if that is not measured
	Left   int64       // samples that were not kept
	tick   int64       // of the clock, in nanoseconds
	Clock  int64       // processor time that they stand for, in nanoseconds
	Unseen bool        // the kernel did not hand over all of those
}

// NewFilter reads which samples are to be kept; nil is all of them. column is that of
// processor time, -1 if it is not measured; kernel tells whether the kernel's part is
// sampled.
func NewFilter(set *profile.Settings, r *resolve.Resolver, column int, kernel func() bool) (*Filter, error) {
	sc, err := scope.Parse(set.Keep)
	if err != nil {
		return nil, fmt.Errorf("the samples to keep, %s: %w", set.Keep, err)
	}
	if sc.During() {
		return nil, fmt.Errorf("the samples to keep, %s: which spans go on is known once a take is over; use it as a scope then", set.Keep)
	}
	set.Keep = sc.String()
	if sc.All() {
		return nil, nil
	}
	c := &Filter{scope: sc, r: r, column: column, tick: int64(1e9) / int64(set.RateHz), kernel: kernel}
	r.Keeper = c
	return c, nil
}

// Program tells which program and build the take is of.
func (c *Filter) Program(set profile.Settings) {
	if c == nil {
		return
	}
	c.about = scope.About{Program: set.Program, Build: set.Build, Workload: set.Workload}
}

// turn begins to count anew, with another profile.
func (c *Filter) turn() {
	c.Left, c.Clock = 0, 0
	c.late = nil
}

// Modes has the kernel itself leave out the samples of the program, or its own.
func (c *Filter) Modes(a *unix.PerfEventAttr) {
	if c == nil {
		return
	}
	user, kernel := c.scope.Modes()
	if !user {
		a.Bits |= unix.PerfBitExcludeUser
	}
	if !kernel {
		a.Bits |= unix.PerfBitExcludeKernel
	}
	c.Unseen = c.Unseen || !user || !kernel
}

// early reports whether a sample is not kept, whatever its stack is, and counts it.
func (c *Filter) early(rec *raw.Record, e *rings.Event) (out bool) {
	if !c.leavesOut(rec) {
		return false
	}
	c.Left++
	if e.Clock {
		c.Clock += c.tick
	}
	return true
}

// leavesOut reports whether a sample is not kept, whatever its stack is.
func (c *Filter) leavesOut(rec *raw.Record) bool {
	ps := c.r.Processes
	p := ps.Get(rec.PID)
	known := scope.Early{
		Program: c.about.Program, Build: c.about.Build, Process: p.Name(), Thread: ps.ThreadName(rec.PID, rec.TID),
		PID: rec.PID, TID: rec.TID, Time: c.r.Since(rec.Time), Kernel: c.kernel() && rec.Kernel,
	}
	return c.scope.Early(known) == scope.Out
}

// Keeps reports whether a sample of the profile is kept.
func (c *Filter) Keeps(i int) bool {
	if c.late == nil {
		c.late = c.scope.Of(c.about).Contains(c.r.Builder.Profile())
	}
	return c.late(i)
}

// Leave notes what a sample that was not kept stood for.
func (c *Filter) Leave(values []int64) {
	c.Left++
	if c.column >= 0 {
		c.Clock += values[c.column]
	}
}
