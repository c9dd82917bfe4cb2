package capture

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"entelon/capture/launch"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/diagnose"
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/linux/procfs"
	"entelon/linux/tracefs"
	"entelon/resolve"
)

// flushEvery is how often what was collected goes to the sink, and so the
// most that a killed collector can lose.
const flushEvery = time.Second

// session is one collection while it runs.
type session struct {
	o        Options
	sink     Sink
	target   *target
	command  *launch.Command // nil where a process was attached to
	exe      string
	builder  *profile.Builder
	resolver *resolve.Resolver
	machine  profile.Machine
	facts    profile.Facts
	began    time.Time
	stopped  atomic.Uint64 // monotonic time at which the take ended
	ownCPU   int64
	kernel   bool
	other    *bpf.StackReader // nil where other stacks are not read
	otherErr error            // why they are not
	starts   bool             // the event enables itself when the command begins
	pids     []int            // that are attached to, or the command's
	group    *os.File         // the folder of a control group, nil where none is sampled

	tracing *tracefs.List   // nil where no tracepoint is needed
	probes  *tracefs.Probes // nil where no function is

	chosen   *chosen   // nil: all samples are kept
	counting *counting // nil where samples are taken

	measures  []measure.Choice
	columns   []int        // of the profile, the first of each measure
	waits     *waits       // nil where waiting is not measured
	noWake    error        // why it is not known when waiting threads were woken
	syscalls  *systemCalls // nil where system calls are not measured
	lastCalls map[uint32]lastCall
	// unoptimised says how one sees that the program was not built for speed.
	unoptimised string
	before      procfs.Time // the machine's, when the take began
	usage       *usage
	slowed      slowed   // the machine's processors, when the take began
	absent      []string // files that the command names and that were not there
}

func newSession(o Options, sink Sink) *session {
	s := &session{o: o, sink: sink, builder: profile.NewBuilder(), ownCPU: ownCPU(), lastCalls: map[uint32]lastCall{}, usage: newUsage()}
	s.resolver = resolve.New(s.builder, &s.facts, o.Finder)
	return s
}

// Collect runs one collection until the process ends, the time in the
// settings is over, or ctx is cancelled. An error means that nothing was
// collected and the sink was not begun.
func Collect(ctx context.Context, o Options, sink Sink) (*Result, error) {
	return newSession(o, sink).collect(ctx)
}

func (s *session) collect(ctx context.Context) (*Result, error) {
	if err := s.prepare(); err != nil {
		return nil, errors.Join(err, s.abandon())
	}
	if err := s.identify(); err != nil {
		return nil, errors.Join(err, s.abandon())
	}
	s.chosen.program(s.o.Settings)
	s.machine = Machine()
	if err := s.sink.Begin(s.o.Settings, s.machine); err != nil {
		return nil, errors.Join(err, s.abandon())
	}
	drain, err := newDrainer(s.target)
	if err != nil {
		return nil, errors.Join(err, s.abandon())
	}
	s.before, _ = procfs.MachineTime() // where it cannot be read, nothing is said of it
	s.slowed, s.absent = readSlowed("/", s.pids), absentFiles(s.o.Settings)
	s.began = time.Now()
	s.resolver.Origin, s.resolver.Began, s.resolver.Round = perf.Now(), s.began, 1
	if err := s.begin(); err != nil {
		return nil, errors.Join(err, drain.finish(), drain.discard(), s.abandon())
	}
	return s.run(ctx, drain)
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
	if set.RateHz < 1 || set.RateHz > 1_000_000 {
		return fmt.Errorf("%d a second: %w", set.RateHz, ErrRate)
	}
	if err := s.chooseMeasures(); err != nil {
		return err
	}
	if err := s.choose(); err != nil {
		return err
	}
	if err := s.whom(); err != nil {
		return err
	}
	var names sync.WaitGroup
	names.Go(s.resolver.OpenKernel)
	defer names.Wait()
	s.openOther()
	for _, kernel := range []bool{true, false} {
		s.kernel = kernel
		c := perf.Clock{
			RateHz: set.RateHz, OnExec: s.starts, Kernel: kernel, StackBytes: set.StackBytes,
			Alone: s.command != nil && s.other != nil, Everyone: set.Machine || set.Group != "",
		}
		sources, err := s.plan(c)
		if err != nil {
			return err
		}
		if s.target, err = newTarget(s.other, sources, set.RateHz); err != nil {
			return err
		}
		if s.counting == nil {
			s.target.counters = newCounters(c)
		}
		if err = s.place(); err == nil {
			break
		}
		if !kernel || !errors.Is(err, ErrNotAllowed) {
			return fmt.Errorf("sampling %s: %w", s.whomText(), err)
		}
		if err := s.target.close(); err != nil { // try again without the kernel's part
			return err
		}
	}
	names.Wait()
	if !s.kernel {
		return s.resolver.WithoutKernel()
	}
	return nil
}

// chooseMeasures gives each measure its columns in the profile.
func (s *session) chooseMeasures() (err error) {
	set := &s.o.Settings
	if s.measures, err = measure.ParseAll(set.Measures); err != nil {
		return err
	}
	set.Measures = nil
	for _, m := range s.measures {
		set.Measures = append(set.Measures, m.String())
		s.columns = append(s.columns, len(s.builder.Profile().Measures))
		for _, c := range m.Columns() {
			s.builder.Column(c)
		}
		if m.Kind == measure.CPU && set.Event == EventCycles {
			s.builder.Column(measure.Cycles)
		}
		switch m.Kind {
		case measure.Waiting:
			s.waits = newWaits(s.resolver, s.columns[len(s.columns)-1])
		case measure.Syscalls:
			s.syscalls = newSystemCalls(s.resolver)
		}
	}
	return nil
}

// columnOf returns the first column of a kind of measure, -1 where it was not
// chosen.
func (s *session) columnOf(kind string) int {
	for i, m := range s.measures {
		if m.Kind == kind {
			return s.columns[i]
		}
	}
	return -1
}

func (s *session) begin() error {
	if s.counting != nil {
		if err := s.counting.begin(); err != nil {
			return err
		}
	}
	if s.command != nil {
		return s.command.Begin()
	}
	for _, pid := range s.pids {
		s.resolver.Processes.Get(uint32(pid))
		if s.waits != nil {
			s.waits.already(pid)
		}
	}
	return s.target.enable()
}

// abandon undoes a beginning that failed.
func (s *session) abandon() error {
	var errs []error
	if s.command != nil && s.command.Cmd.ProcessState == nil {
		errs = append(errs, s.command.Abandon())
	}
	if s.target != nil {
		errs = append(errs, s.target.close())
	}
	errs = append(errs, s.closeOther(), s.resolver.Close(), s.closeGroup(), s.closeTracing())
	return errors.Join(errs...)
}

func (s *session) run(ctx context.Context, drain *drainer) (*Result, error) {
	sinkBroke := make(chan error, 1)
	finished := make(chan error, 1)
	go func() { finished <- s.consume(drain, sinkBroke) }()
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
	err := s.target.disable()
	err = errors.Join(err, drain.finish(), <-finished)
	// Until here the facts were the consumer's.
	s.facts.EndedBy, s.facts.DurationNS = endedBy, duration
	if sinkErr == nil {
		select {
		case sinkErr = <-sinkBroke:
		default:
		}
	}
	return s.result(err, sinkErr)
}

// consume resolves rounds until the drainer ends. After the sink has failed
// it goes on emptying the queue, so that the drainer can end.
func (s *session) consume(d *drainer, broke chan<- error) error {
	// Files are read where they are mapped; one that is cut short meanwhile is
	// then an error of that file, not the end of the collector.
	debug.SetPanicOnFault(true)
	var o order
	var bad error
	var held []round
	pairs := make([]bpf.Pairing, len(s.target.rings))
	for i := range pairs {
		pairs[i] = bpf.Pairing{}
	}
	failed := false
	flushed := time.Now()
	visit := func(r perf.Record) {
		if err := s.record(r); err != nil && bad == nil {
			bad = err
		}
	}
	for {
		r, ok := d.next()
		if !ok {
			break
		}
		var records []perf.Record
		keep := func(x perf.Record) { records = append(records, x) }
		for i, b := range r.rings {
			if err := perf.SplitRecords(b, s.target.isOther, func(x perf.Record) {
				if x.Kind == perf.RecordOther && bpf.KindOf(x.Body) == bpf.KindCode {
					s.resolver.LearnCode(x) // of use to all later samples, whatever becomes of its own
					return
				}
				if x.Kind == perf.RecordMmap2 {
					if err := s.resolver.Processes.Glance(x); err != nil && bad == nil {
						bad = err
					}
				}
				pairs[i].Visit(x, keep)
			}); err != nil && bad == nil {
				bad = fmt.Errorf("reading a ring: %w", err)
			}
		}
		o.add(records, r.at, visit)
		// A round's last records are handed on with the one after the next.
		if held = append(held, r); len(held) > 2 {
			d.done(held[0])
			held = held[1:]
		}
		if s.o.Progress != nil {
			s.o.Progress(Progress{time.Since(s.began), s.facts.Samples, s.facts.Lost})
		}
		s.usage.look(time.Now(), s.began, s.resolver.Processes)
		s.resolver.Round++
		s.resolver.NameParked(false)
		if time.Since(flushed) >= flushEvery && !failed {
			flushed = time.Now()
			if err := s.flush(); err != nil {
				failed = true
				broke <- err
			}
		}
	}
	o.flush(visit)
	s.settle()
	s.resolver.NameParked(true)
	if !failed {
		if err := s.sink.Append(s.builder.Profile()); err != nil {
			broke <- err
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.dropped > 0 {
		s.facts.Warn("dropped", fmt.Sprintf("%d MB of samples came faster than they could be named and were dropped.", d.dropped>>20), "Collect at a lower rate.")
	}
	return errors.Join(bad, d.err)
}

func (s *session) flush() error {
	if err := s.sink.Append(s.builder.Profile()); err != nil {
		return err
	}
	f := s.facts
	f.CutOff = s.resolver.CutOff()
	if s.chosen != nil {
		f.LeftOut = s.chosen.left
	}
	f.DurationNS = time.Since(s.began).Nanoseconds()
	return s.sink.Facts(f)
}

func (s *session) record(r perf.Record) error {
	switch r.Kind {
	case perf.RecordSample:
		if s.target.doubled(r) {
			return nil
		}
		return s.sampled(r)
	case perf.RecordLost, perf.RecordLostSamples:
		// LOST has the event's number before the count; LOST_SAMPLES only the count.
		if n := len(r.Body); n >= 8 {
			s.facts.Lost += int64(perf.Word(r.Body[n-8:]))
		}
	case perf.RecordThrottle:
		s.facts.Throttled++
	case perf.RecordSwitch, perf.RecordSwitchAny:
		if s.waits != nil {
			s.waits.switched(r)
		}
	case perf.RecordExit:
		s.gone(r)
		s.resolver.Processes.Apply(r)
	default:
		s.resolver.Processes.Apply(r)
	}
	return nil
}

// sampled takes one sample for what it stands for.
func (s *session) sampled(r perf.Record) error {
	src := s.target.byID[r.ID]
	if src == nil {
		return fmt.Errorf("a sample of an event that was not opened")
	}
	if s.chosen != nil && src.role != roleWake && src.role != roleLeave && s.chosen.early(r, src) {
		return nil
	}
	switch src.role {
	case roleSwitch:
		return s.waits.left(r, src)
	case roleWake:
		if tid, ok := wokenThread(r, src.point); ok {
			s.waits.woke(tid, r.Time)
		}
		return nil
	case roleEnter:
		return s.syscalls.enter(r, src)
	case roleLeave:
		s.syscalls.leave(r, src)
		return nil
	case roleDisk:
		return s.disk(r, src)
	case roleCall:
		return s.called(r, src)
	}
	x, err := s.resolver.See(r, src.form())
	if err != nil {
		return err
	}
	period := int64(s.resolver.Sample.Period)
	if src.cycles {
		s.resolver.Keep(x, 0, s.resolver.Value(src.column, int64(s.resolver.RunTime.Since(r, s.resolver.Sample.Running)), period))
		return nil
	}
	s.resolver.Keep(x, 0, s.resolver.Value(src.column, period))
	return nil
}

// gone settles what a thread that has ended was in.
func (s *session) gone(r perf.Record) {
	tid, ok := exited(r)
	if !ok {
		return
	}
	delete(s.lastCalls, tid)
	s.resolver.RunTime.Gone(tid, s.target.cpus)
	if s.waits != nil {
		s.waits.gone(tid)
	}
	if s.syscalls != nil {
		s.syscalls.gone(tid, r.Time)
	}
}

// settle counts what was going on when the take ended.
func (s *session) settle() {
	at := s.stopped.Load()
	if s.waits != nil {
		s.waits.finish(at)
	}
	if s.syscalls != nil {
		s.syscalls.finish(at)
	}
}

func (s *session) result(err, sinkErr error) (*Result, error) {
	if s.counting != nil {
		err = errors.Join(err, s.counting.finish(s))
	}
	if c := s.target.counters; c != nil {
		var countErr error
		s.facts.Counters, s.facts.NotCounted, countErr = c.read()
		err = errors.Join(err, countErr)
	}
	if len(s.usage.series.TimeNS) > 1 {
		s.facts.Usage = &s.usage.series
	}
	s.facts.Bare = s.o.Bare
	if s.o.Work != nil {
		s.facts.Work = s.o.Work()
	}
	cpu, cpuErr := s.target.counted()
	err = errors.Join(err, cpuErr, s.target.close(), s.closeOther(), s.closeGroup(), s.closeTracing(), s.resolver.Processes.TellErr)
	s.facts.CPUNS = cpu
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
			s.facts.ExitCode = &code
		}
	}
	if s.chosen != nil {
		s.facts.LeftOut = s.chosen.left
	}
	s.facts.CutOff = s.resolver.CutOff()
	unreadable := s.resolver.Unreadable()
	err = errors.Join(err, s.resolver.Close())
	s.facts.CollectorNS = ownCPU() - s.ownCPU
	diagnose.Warn(&s.facts, s.evidence(unreadable))
	if err != nil {
		s.facts.Warn("fault", "The collector met a fault: "+err.Error()+".", "Take it again; if it happens again, report it.")
	}
	var sources []profile.Source
	if s.o.Settings.WithSource {
		sources = s.sources()
		for i := 0; i < len(sources) && sinkErr == nil; i++ {
			sinkErr = s.sink.Source(sources[i])
		}
		res.SinkErr = sinkErr
	}
	if sinkErr == nil {
		res.SinkErr = s.sink.Facts(s.facts)
	}
	res.Take = &profile.Take{Settings: s.o.Settings, Machine: s.machine, Facts: s.facts, Profile: s.builder.Profile(), Sources: sources, Whole: res.SinkErr == nil}
	return res, nil
}
