package capture

import (
	"fmt"

	"golang.org/x/sys/unix"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// chosen decides which samples are kept: first by what is known before the
// stack is walked, which saves the walk, and else when it has its names.
type chosen struct {
	scope  scope.Scope
	late   func(i int) bool // of the profile's samples
	about  scope.About
	r      *resolve.Resolver
	kernel func() bool // the kernel's part of stacks is sampled
	column int         // of processor time, -1 if that is not measured
	left   int64       // samples that were not kept
	tick   int64       // of the clock, in nanoseconds
	clock  int64       // processor time that they stand for, in nanoseconds
	unseen bool        // the kernel did not hand over all of those
}

// choose reads which samples are to be kept.
func (s *session) choose() error {
	text := s.o.Settings.Keep
	sc, err := scope.Parse(text)
	if err != nil {
		return fmt.Errorf("the samples to keep, %s: %w", text, err)
	}
	s.o.Settings.Keep = sc.String()
	if sc.All() {
		return nil
	}
	s.chosen = &chosen{scope: sc, r: s.resolver, column: s.measures.columnOf(measure.CPU), tick: int64(1e9) / int64(s.o.Settings.RateHz), kernel: func() bool { return s.kernel }}
	s.resolver.Keeper = s.chosen
	return nil
}

// program tells which program and build the take is of.
func (c *chosen) program(set profile.Settings) {
	if c == nil {
		return
	}
	c.about = scope.About{Program: set.Program, Build: set.Build}
}

// turn begins to count anew, with another profile.
func (c *chosen) turn() {
	c.left, c.clock = 0, 0
	c.late = nil
}

// modes has the kernel itself leave out the samples of the program, or its own.
func (c *chosen) modes(a *unix.PerfEventAttr) {
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
	c.unseen = c.unseen || !user || !kernel
}

// early reports whether a sample is not kept, whatever its stack is.
func (c *chosen) early(rec *raw.Record, e *event) (out bool) {
	ps := c.r.Processes
	p := ps.Get(rec.PID)
	known := scope.Early{
		Program: c.about.Program, Build: c.about.Build, Process: p.Name(), Thread: ps.ThreadName(rec.PID, rec.TID),
		PID: rec.PID, TID: rec.TID, Time: c.r.Since(rec.Time), Kernel: c.kernel() && rec.Kernel,
	}
	if c.scope.Early(known) != scope.Out {
		return false
	}
	c.left++
	if e.clock {
		c.clock += c.tick
	}
	return true
}

// Keeps reports whether a sample of the profile is kept.
func (c *chosen) Keeps(i int) bool {
	if c.late == nil {
		c.late = c.scope.Of(c.about).Contains(c.r.Builder.Profile())
	}
	return c.late(i)
}

// Leave notes what a sample that was not kept stood for.
func (c *chosen) Leave(values []int64) {
	c.left++
	if c.column >= 0 {
		c.clock += values[c.column]
	}
}
