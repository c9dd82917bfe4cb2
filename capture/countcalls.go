package capture

import (
	"context"
	"errors"
	"fmt"
	"math"
	"reflect"
	"runtime"
	"sort"
	"time"

	"golang.org/x/sys/unix"

	"entelon/capture/follow"
	"entelon/capture/rings"
	"entelon/core/profile"
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/unwind"
)

// counting is what a session does that counts calls instead of sampling.
type counting struct {
	o        CountOptions
	counter  *bpf.Counter
	probes   []follow.Entry
	out      *Counts
	finished chan struct{} // closed when the counting is over
}

// NoSink keeps nothing.
type NoSink struct{}

func (NoSink) Begin(profile.Settings, profile.Machine) error { return nil }
func (NoSink) Append(*profile.Profile) error                 { return nil }
func (NoSink) Facts(profile.Facts) error                     { return nil }
func (NoSink) Source(profile.Source) error                   { return nil }

// Count counts calls until the process ends, the time is over, the number of
// calls is reached, or ctx is cancelled.
func Count(ctx context.Context, o CountOptions) (*Counts, error) {
	if len(o.Functions) == 0 {
		return nil, fmt.Errorf("no function is named: %w", ErrNoFunction)
	}
	o.Settings.RateHz, o.Settings.Measures, o.Settings.Unwind = 1, nil, UnwindFramePointers
	s := newSession(o.Options, NoSink{})
	s.counting = &counting{o: o, out: &Counts{}, finished: make(chan struct{})}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	if o.Calls > 0 {
		go s.counting.watch(cancel)
	}
	defer close(s.counting.finished)
	res, err := s.collect(ctx)
	if c := s.counting.counter; c != nil {
		err = errors.Join(err, c.Close())
	}
	if err != nil {
		return nil, err
	}
	out := s.counting.out
	out.DurationNS, out.CPUNS, out.ExitCode = s.facts.DurationNS, s.facts.CPUNS, s.facts.ExitCode
	out.Wait, out.Signal = res.Wait, res.Signal
	for _, w := range s.facts.Warnings {
		if w.Code == "fault" || w.Code == "failed" {
			out.Warnings = append(out.Warnings, w)
		}
	}
	if cost := float64(out.Calls) * out.HitNS; cost > 0 {
		// The hits are part of the program's time; what they cost elsewhere may differ a little.
		out.Slowdown = cost / math.Max(float64(out.CPUNS)/10, float64(out.CPUNS)-cost)
	}
	return out, nil
}

// watch ends the counting when the number of calls is reached.
func (c *counting) watch(end func()) {
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-c.finished:
			return
		case <-tick.C:
			if c.counter == nil {
				continue
			}
			if s, err := c.counter.State(); err == nil && s.Limit > 0 && s.Calls >= c.o.Calls {
				end()
				return
			}
		}
	}
}

// plan finds the functions and puts a probe at each.
func (c *counting) plan(s *session, k perf.Clock) ([]*rings.Event, error) {
	if c.counter == nil {
		types, err := kernelTypes(s.o.Finder)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrNotAllowed, err)
		}
		counter, err := bpf.NewCounter(types)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrNotAllowed, err)
		}
		if err := c.find(s); err != nil {
			return nil, errors.Join(err, counter.Close())
		}
		c.counter = counter
	}
	counted := func(kind uint32, config uint64) *unix.PerfEventAttr {
		a := k.EveryOne(kind, config)
		a.Sample, a.Sample_type = 0, 0
		a.Bits &^= perf.SideBits
		return a
	}
	// The first one counts nothing and tells of mappings; its ring is the only one that is used.
	told := perf.SideEvent(k.Kernel)
	if k.Everyone {
		told.Bits &^= unix.PerfBitInherit
	}
	out := []*rings.Event{
		{Attr: told},
		{Attr: counted(unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_TASK_CLOCK), Timed: true},
	}
	for i, p := range c.probes {
		point, err := s.tracing.probe(p)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p.Name, err)
		}
		program, err := c.counter.Program(i)
		if err != nil {
			return nil, err
		}
		out = append(out, &rings.Event{Attr: counted(unix.PERF_TYPE_TRACEPOINT, point.ID), Program: program})
	}
	return out, nil
}

// find looks all functions up before the first probe is set.
func (c *counting) find(s *session) error {
	files, err := s.files(nil)
	if err != nil {
		return err
	}
	if len(files) == 0 {
		return fmt.Errorf("functions are counted in processes or in a command, not in %s: %w", s.subject.text(s.o.Settings), ErrProbe)
	}
	seen := map[string]bool{}
	for _, name := range c.o.Functions {
		found, warning, err := probesOf(files, name)
		if err != nil {
			return err
		}
		if warning != nil {
			c.out.Warnings = append(c.out.Warnings, *warning)
		}
		for _, p := range found {
			if key := fmt.Sprint(p.Path, p.Offset); !seen[key] {
				seen[key] = true
				c.probes = append(c.probes, p)
			}
		}
	}
	return nil
}

// probesOf finds where calls of a function can be counted, with what there is to
// say of those that cannot.
func probesOf(files []string, name string) ([]follow.Entry, *profile.Warning, error) {
	found, err := follow.Entries(files, name)
	inlined := 0
	if len(files) > 0 {
		inlined = follow.InlinedSites(files[0], name)
	}
	switch {
	case errors.Is(err, ErrNoFunction) && inlined > 0:
		return nil, nil, fmt.Errorf("%q is inlined wherever it is called (%s), so there is nothing to count; build it without inlining: %w", name, follow.Places(inlined), ErrProbe)
	case err != nil || inlined == 0:
		return found, nil, err
	}
	return found, &profile.Warning{
		Code:   "inlined",
		Text:   fmt.Sprintf("%s is inlined in %s, whose calls are not counted.", name, follow.Places(inlined)),
		Remedy: "Build it without inlining to count all of them.",
	}, nil
}

// begin lets the counting begin.
func (c *counting) begin() error { return c.counter.Begin(c.o.Calls) }

// finish reads the counts and names the callers, while the processes are known.
func (c *counting) finish(s *session) error {
	state, err := c.counter.End()
	if err != nil {
		return err
	}
	time.Sleep(time.Millisecond) // for one that is being counted at this moment
	counts, err := c.counter.Read()
	if err != nil {
		return err
	}
	byName := map[string]map[string]int64{}
	for _, p := range c.probes {
		byName[p.Name] = map[string]int64{}
	}
	for k, n := range counts {
		if int(k.Function) < len(c.probes) {
			byName[c.probes[k.Function].Name][callerAt(s, k)] += n
			c.out.Calls += n
		}
	}
	for name, callers := range byName {
		f := FunctionCalls{Name: name, Callers: []CallerCalls{}}
		for caller, n := range callers {
			f.Calls += n
			f.Callers = append(f.Callers, CallerCalls{caller, n})
		}
		sort.Slice(f.Callers, func(i, j int) bool {
			a, b := f.Callers[i], f.Callers[j]
			return a.Calls > b.Calls || a.Calls == b.Calls && a.Name < b.Name
		})
		c.out.Functions = append(c.out.Functions, f)
	}
	sort.Slice(c.out.Functions, func(i, j int) bool {
		a, b := c.out.Functions[i], c.out.Functions[j]
		return a.Calls > b.Calls || a.Calls == b.Calls && a.Name < b.Name
	})
	c.out.Bounded = c.o.Calls > 0 && state.Calls >= c.o.Calls
	if state.Full > 0 {
		c.out.Warnings = append(c.out.Warnings, profile.Warning{
			Code: "full", Text: fmt.Sprintf("%d calls came from more places than can be told apart, and are not in the counts.", state.Full), Remedy: "Count fewer functions at a time.",
		})
	}
	done, stepped, err := c.hitCosts(&s.tracing)
	if err != nil {
		return err
	}
	for k, n := range counts {
		if int(k.Function) < len(c.probes) && c.probes[k.Function].Emulated {
			c.out.HitNS += done * float64(n) / float64(c.out.Calls)
		} else {
			c.out.HitNS += stepped * float64(n) / float64(c.out.Calls)
		}
	}
	return nil
}

// callerAt names the function that a call came from.
func callerAt(s *session, k bpf.CallKey) string {
	const unknown = "[unknown]"
	if k.ReturnAddress == 0 {
		return unknown
	}
	p := s.resolver.Processes.Get(k.Pid)
	frame := s.resolver.Innermost(p, unwind.Step{Address: k.ReturnAddress - 1, How: unwind.Counter}, perf.Now())
	if frame == 0 {
		return unknown
	}
	prof := s.resolver.Builder.Profile()
	return prof.FunctionName(prof.Frames[frame].Function)
}

// hitCosts measures in nanoseconds what one count costs, on functions of this
// program's own: where the kernel can do the probed instruction itself, and
// where it has to have it done by the processor, which is a second interrupt.
func (c *counting) hitCosts(t *tracing) (done, stepped float64, err error) {
	if done, err = c.hitCost(t, bpf.ProbedFrame); err == nil {
		stepped, err = c.hitCost(t, bpf.ProbedLeaf)
	}
	if err != nil {
		return 0, 0, fmt.Errorf("measuring what a count costs: %w", err)
	}
	return done, stepped, nil
}

// hitCost is the median of several rounds, less the same without a probe.
func (c *counting) hitCost(t *tracing, call func(int64) int64) (ns float64, err error) {
	const rounds, calls = 9, 300
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	found, err := follow.Entries([]string{"/proc/self/exe"}, runtime.FuncForPC(reflect.ValueOf(call).Pointer()).Name())
	if err != nil {
		return 0, err
	}
	point, err := t.probe(found[0])
	if err != nil {
		return 0, err
	}
	program, err := c.counter.Program(len(c.probes))
	if err != nil {
		return 0, err
	}
	round := func() float64 {
		var each []float64
		for range rounds {
			begin := time.Now()
			for range calls {
				call(1)
			}
			each = append(each, float64(time.Since(begin).Nanoseconds())/calls)
		}
		sort.Float64s(each)
		return each[rounds/2]
	}
	bare := round()
	a := perf.Clock{RateHz: 1, Kernel: true}.EveryOne(unix.PERF_TYPE_TRACEPOINT, point.ID)
	a.Sample, a.Sample_type = 0, 0
	a.Bits &^= perf.SideBits | unix.PerfBitInherit
	fd, err := perf.Open(a, 0, -1, 0)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, unix.Close(fd)) }()
	if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_SET_BPF, program.FD()); err != nil {
		return 0, err
	}
	if err := c.counter.Begin(0); err != nil {
		return 0, err
	}
	probed := round()
	return math.Max(0, probed-bare), nil
}
