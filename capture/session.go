package capture

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"entelon/capture/disturbance"
	"entelon/capture/pairing"
	"entelon/capture/programs"
	"entelon/capture/rings"
	"entelon/capture/sourcefiles"
	"entelon/capture/told"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/diagnose"
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/linux/procfs"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// session is one collection: how it is prepared, run and concluded.
type session struct {
	terms
	sink     pairing.Sink
	subject  // whom is sampled
	target   *rings.Target
	events   []*rings.Event
	world    *programs.World
	resolver *resolve.Resolver
	machine  profile.Machine
	facts    profile.Facts
	began    time.Time
	stopped  atomic.Uint64 // monotonic time at which the take ended
	ownCPU   int64
	kernel   bool             // its part of stacks is sampled
	other    *bpf.StackReader // nil where other stacks are not read
	lone     bool             // nobody said how much is copied, so that more is without it
	otherErr error            // why they are not
	adding
	tracing tracing
	filter  *pairing.Filter // nil: all samples are kept

	note   func(r *raw.Record, early bool) // see consumer
	noWake error                           // why it is not known when waiting threads were woken
	// unoptimised says how one sees that the program was not built for speed.
	unoptimised string
	before      procfs.Time // the machine's, when the take began
	beside      disturbance.Takes
	usage       *disturbance.Usage
	slowed      disturbance.Slowed // the machine's processors, when the take began
	absent      []string           // files that the command names and that were not there
}

func newSession(o Options, sink pairing.Sink) *session {
	s := &session{terms: terms{o: o}, sink: sink, world: programs.New(o.Finder), ownCPU: ownCPU(), usage: disturbance.NewUsage()}
	s.resolver = resolve.New(profile.NewBuilder(), &s.facts, s.world)
	return s
}

// Collect runs one collection until the process ends, the time in the
// settings is over, or ctx is cancelled. An error means that nothing was
// collected and the sink was not begun.
func Collect(ctx context.Context, o Options, sink pairing.Sink) (*Result, error) {
	return newSession(o, sink).collect(ctx)
}

func (s *session) collect(ctx context.Context) (*Result, error) {
	if err := s.prepare(); err != nil {
		return nil, errors.Join(err, s.abandon())
	}
	if err := s.identify(); err != nil {
		return nil, errors.Join(err, s.abandon())
	}
	s.filter.Program(s.o.Settings)
	s.machine = Machine()
	if err := s.sink.Begin(s.o.Settings, s.machine); err != nil {
		return nil, errors.Join(err, s.abandon())
	}
	src, err := rings.NewSource(s.target)
	if err != nil {
		return nil, errors.Join(err, s.abandon())
	}
	s.before, _ = procfs.MachineTime() // where it cannot be read, nothing is said of it
	s.beside.Begin()
	defer s.beside.End()
	s.slowed, s.absent = disturbance.ReadSlowed("/", s.pids), absentFiles(s.o.Settings)
	s.began = time.Now()
	s.resolver.Origin, s.world.Began = perf.Now(), s.began
	s.facts.OriginUnixNS = s.began.UnixNano()
	consumer := s.consumer()
	if err := s.begin(consumer); err != nil {
		return nil, errors.Join(err, src.Stop(), src.Discard(), s.abandon())
	}
	return s.run(ctx, src, consumer)
}

// prepare finds the program and puts the events in place.
func (s *session) prepare() (err error) {
	set := &s.o.Settings
	if err := s.chooseEvent(); err != nil {
		return err
	}
	if err := s.chooseUnwind(); err != nil {
		return err
	}
	if set.Unwind == UnwindTables {
		bpf.ReadAhead()
	}
	if most := perf.MaxRate(); set.RateHz < 1 || set.RateHz > most {
		return fmt.Errorf("%d samples a second: %w: 1 to %d", set.RateHz, ErrRate, most)
	}
	if s.measures, err = pairing.ChooseMeasures(set, s.resolver.Builder); err != nil {
		return err
	}
	if s.filter, err = pairing.NewFilter(set, s.resolver, s.measures.ColumnOf(measure.CPU), func() bool { return s.kernel }); err != nil {
		return err
	}
	if err := s.subject.find(&s.o); err != nil {
		return err
	}
	if s.command != nil {
		s.facts.RuntimeSet = s.command.Set
		s.world.Command, s.world.AskedMaps = uint32(s.pids[0]), s.command.Set != ""
	}
	var names sync.WaitGroup
	names.Go(s.world.OpenKernel)
	defer names.Wait()
	s.openOther()
	if err := s.openEvents(); err != nil {
		if !s.withoutOther() {
			return err
		}
		if err := s.openEvents(); err != nil {
			return err
		}
	}
	names.Wait()
	if !s.kernel {
		return s.world.WithoutKernel()
	}
	return nil
}

// openEvents opens the events of the plan on who is sampled, and has the program that reads other
// stacks run with them, which the kernel checks meanwhile.
func (s *session) openEvents() (err error) {
	for _, try := range s.tries() {
		kernel := try.kernel
		s.kernel, s.facts.ByProcessors = kernel, try.processors
		c := perf.Clock{
			RateHz: s.o.Settings.RateHz, OnExec: s.command != nil, Kernel: kernel, StackBytes: s.o.Settings.StackBytes,
			Alone: s.command != nil && s.other != nil, Everyone: s.wide(),
		}
		if s.events, err = s.plan(c); err != nil {
			return err
		}
		if s.target, err = rings.NewTarget(s.other, s.events, s.o.Settings.RateHz); err != nil {
			return err
		}
		s.target.Tally = s.tally
		if err := s.followMembers(); err != nil {
			return err
		}
		if s.counting == nil {
			s.target.Counters = rings.NewCounters(c, !slices.ContainsFunc(s.events, func(e *rings.Event) bool { return e.Timed }))
		}
		if err = s.subject.open(s.target, s.o.Settings, kernel); err == nil && s.other != nil {
			err = s.target.AttachOther()
		}
		if err == nil {
			return nil
		}
		if try.last || !errors.Is(err, ErrNotAllowed) {
			return fmt.Errorf("sampling %s: %w", s.subject.text(s.o.Settings), err)
		}
		err, s.target = s.target.Close(), nil
		if err != nil { // try again without the kernel's part
			return err
		}
	}
	return nil
}

// consumer makes what takes the records, once it is settled what they mean.
func (s *session) consumer() *pairing.Consumer {
	c := pairing.NewConsumer(s.events, &s.measures, s.resolver, &s.facts)
	c.Filter, c.Note = s.filter, s.note
	c.Every, c.Window = s.o.Every, s.o.Window
	c.KeepIntervals(s.keepsIntervals())
	c.Everyone = s.wide()
	c.DeviceName = diskNames()
	if c.Waits != nil {
		c.Waits.NoStacks = !s.kernel
	}
	if s.tally != nil && c.Waits != nil {
		event := slices.IndexFunc(s.events, func(e *rings.Event) bool { return e.Role == rings.RoleSwitch })
		c.Waits.Tell = func(pid, tid uint32) error { return s.tally.Waiting(pid, tid, event, s.resolver.Origin) }
	}
	return c
}

func (s *session) begin(c *pairing.Consumer) error {
	if s.counting != nil {
		if err := s.counting.begin(); err != nil {
			return err
		}
	}
	if s.tally != nil {
		if err := s.tally.Begin(s.resolver.Origin); err != nil {
			return err
		}
	}
	if s.command != nil {
		if err := s.target.EnableProcessors(); err != nil {
			return err
		}
		return s.command.Begin()
	}
	for _, pid := range s.pids {
		s.resolver.Processes.Get(uint32(pid))
		if c.Waits != nil {
			if err := c.Waits.Already(pid); err != nil {
				return err
			}
		}
	}
	return s.target.Enable()
}

// abandon undoes a beginning that failed.
func (s *session) abandon() error {
	var errs []error
	if s.command != nil && s.command.Cmd.ProcessState == nil {
		errs = append(errs, s.command.Abandon())
	}
	if s.target != nil {
		errs = append(errs, s.target.Close())
	}
	errs = append(errs, s.closeOther(), s.world.Close(), s.subject.close(), s.tracing.close())
	return errors.Join(errs...)
}

func (s *session) run(ctx context.Context, src raw.Source, c *pairing.Consumer) (*Result, error) {
	sinkBroke := make(chan error, 1)
	finished := make(chan error, 1)
	go func() { finished <- c.Consume(src, s.sink, s.began, s.look, s.stopped.Load, sinkBroke) }()
	var timer <-chan time.Time
	if d := time.Duration(s.o.Settings.ForNS); d > 0 {
		timer = time.After(d)
	}
	var sinkErr error
	var endedBy string
	select {
	case <-s.ended():
		endedBy = "exit"
	case <-timer:
		endedBy = "time"
	case <-ctx.Done():
		endedBy = "user"
	case sinkErr = <-sinkBroke:
		endedBy = "error"
	}
	duration := time.Since(s.began).Nanoseconds()
	s.stopped.Store(perf.Now())
	err := errors.Join(src.Stop(), <-finished)
	// Until here the facts were the consumer's.
	s.facts.EndedBy, s.facts.DurationNS = endedBy, duration
	if sinkErr == nil {
		select {
		case sinkErr = <-sinkBroke:
		default:
		}
	}
	return s.result(&c.Counted, err, sinkErr)
}

// look is what is done at each round of records, beside taking them.
func (s *session) look() {
	if s.o.Progress != nil {
		s.o.Progress(Progress{time.Since(s.began), s.facts.Samples, s.facts.Lost})
	}
	s.usage.Look(time.Now(), s.began, s.resolver.Processes)
	s.world.NextRound()
}

func (s *session) closeOther() error {
	err := s.closeTally()
	if s.other != nil {
		err = errors.Join(err, s.other.Close())
	}
	return err
}

func (s *session) result(counted *pairing.Counted, err, sinkErr error) (*Result, error) {
	if s.counting != nil {
		err = errors.Join(err, s.counting.finish(s))
	}
	if c := s.target.Counters; c != nil {
		var countErr error
		s.facts.Counters, s.facts.NotCounted, countErr = c.Read()
		err = errors.Join(err, countErr)
	}
	err = errors.Join(err, s.usage.Close())
	if len(s.usage.Series.TimeNS) > 1 {
		s.facts.Usage = &s.usage.Series
	}
	if s.o.Work != nil {
		s.facts.Work = s.o.Work()
	}
	cpu, cpuErr := s.target.Counted()
	if c := s.target.Counters; c != nil && cpuErr == nil && cpu == 0 {
		cpu, cpuErr = c.Clock()
	}
	err = errors.Join(err, cpuErr, s.tellCounted(counted), s.target.Close(), s.closeOther(), s.subject.close(), s.tracing.close(), s.resolver.Processes.TellErr)
	s.facts.CPUNS = cpu
	s.tellOwn(counted)
	res := &Result{SinkErr: sinkErr, Wait: func() int { return 0 }, Signal: func(int) {}}
	if s.command != nil {
		c := s.command
		if rm := os.Remove(c.Log); rm != nil && !errors.Is(rm, os.ErrNotExist) {
			err = errors.Join(err, rm)
		}
		res.Wait = func() int { <-c.Done; return c.Code }
		res.Signal = func(sig int) {
			// The command may just have ended, which Wait will tell.
			_ = c.Cmd.Process.Signal(syscall.Signal(sig))
		}
		if s.facts.EndedBy == "exit" {
			code := res.Wait()
			s.facts.ExitCode, s.facts.EndSignal = &code, c.Signal
			if st := c.Cmd.ProcessState; st != nil {
				res.CPUNS = (st.UserTime() + st.SystemTime()).Nanoseconds()
			}
			if s.o.Bare != nil {
				compareBare(s.o.Bare, s.facts.DurationNS, res.CPUNS)
			}
		}
	}
	s.facts.Bare = s.o.Bare
	if s.filter != nil {
		s.facts.LeftOut = s.filter.Left
	}
	s.facts.CutOff = s.resolver.CutOff()
	unreadable := s.world.Unreadable()
	err = errors.Join(err, s.world.Close())
	s.facts.CollectorNS = ownCPU() - s.ownCPU
	diagnose.Warn(&s.facts, s.evidence(unreadable))
	if b := s.resolver.Builder; s.o.Told != nil && sinkErr == nil && told.Add(s.o.Told(s.facts.EndedBy == "exit"), b, &s.facts, s.machine.Host, s.wide()) {
		sinkErr = s.sink.Append(b.Profile())
	}
	if err != nil {
		s.facts.Warn("fault", "The collector hit a fault: "+err.Error()+".", "Take it again; if it happens again, report it.")
	}
	var sources []profile.Source
	if s.o.Settings.WithSource {
		sources = sourcefiles.Read(s.resolver.Builder.Profile(), s.o.Settings.Dir, &s.facts)
		for i := 0; i < len(sources) && sinkErr == nil; i++ {
			sinkErr = s.sink.Source(sources[i])
		}
	}
	res.SinkErr = sinkErr
	if sinkErr == nil {
		res.SinkErr = s.sink.Facts(s.facts)
	}
	res.Take = &profile.Take{Settings: s.o.Settings, Machine: s.machine, Facts: s.facts, Profile: s.resolver.Builder.Profile(), Sources: sources, Whole: res.SinkErr == nil}
	return res, nil
}
