package profile

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"entelon/core/measure"
)

// Bounds of what a take may say. They are far beyond what can be measured, and
// small enough that sums over many takes stay numbers.
const (
	maxTime     = int64(10 * 365 * 24 * time.Hour)
	maxCount    = int64(1) << 48
	maxValue    = int64(1) << 60 // of a measure's values together
	maxWarnings = 1000
	maxUsage    = 1 << 20 // moments at which the use of memory was looked at
	maxCounters = 1000
	maxSay      = 64 << 10 // bytes of one text
	maxWords    = 8 << 20  // bytes of a command with its arguments
	maxMeasures = 200      // each of which is added up when a take comes
	longestUnit = 40       // bytes
)

// CheckBounds reports the first thing that a take says of itself that cannot be,
// or that could not be kept with others. A take that came from outside must pass
// before anything is done with it but reading.
func (t *Take) CheckBounds() error {
	return errors.Join(t.Settings.check(), t.Machine.check(), t.Facts.check(), t.Profile.checkMeasures(), t.Profile.checkValues())
}

// within checks numbers, each named, against what they can be.
func within(least, most int64, numbers map[string]int64) error {
	names := make([]string, 0, len(numbers))
	for name := range numbers {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		if v := numbers[name]; v < least || v > most {
			return fmt.Errorf("its %s is %d, which cannot be", name, v)
		}
	}
	return nil
}

func texts(most int, list map[string]string) error {
	for name, s := range list {
		if len(s) > most {
			return fmt.Errorf("its %s has more than %d bytes", name, most)
		}
	}
	return nil
}

func total(lists ...[]string) (n int) {
	for _, list := range lists {
		for _, s := range list {
			n += len(s) + 1
		}
	}
	return n
}

func (s *Settings) check() error {
	for name, text := range map[string]string{"program": s.Program, "build": s.Build, "series": s.Series} {
		if err := CheckName(text); err != nil {
			return fmt.Errorf("its %s: %w", name, err)
		}
	}
	if n := total(s.Command, s.Against, s.Env, s.Measures); n > maxWords {
		return fmt.Errorf("its command has more than %d MB", maxWords>>20)
	}
	if len(s.PIDs) > 100_000 {
		return errors.New("it names more than 100 000 processes")
	}
	return errors.Join(
		texts(maxSay, map[string]string{"folder": s.Dir, "note": s.Note, "user": s.User, "group": s.Group, "scope": s.Keep, "event": s.Event, "way of unwinding": s.Unwind, "side": s.Side, "expression for work": s.WorkFrom, "function that is counted": s.Inside, "cache": strings.Join(s.Caches, "")}),
		within(0, maxCount, map[string]int64{"number of calls to skip": s.After, "number of calls to count": s.Calls}),
		within(0, math.MaxInt32, map[string]int64{"rate": int64(s.RateHz), "stack size": int64(s.StackBytes), "turn": int64(s.Turn), "number of turns": int64(s.Turns)}),
		within(0, maxTime, map[string]int64{"time": s.ForNS}),
		finite(map[string]float64{"work": s.Work, "budget": s.Budget, "share of cut stacks": s.CutShare}),
	)
}

func finite(numbers map[string]float64) error {
	for name, v := range numbers {
		if math.IsNaN(v) || v < 0 || v > 1e15 {
			return fmt.Errorf("its %s is %v, which cannot be", name, v)
		}
	}
	return nil
}

func (m *Machine) check() error {
	if y := m.StartedAt.Year(); y < 1 || y > 2200 {
		return fmt.Errorf("it began in the year %d, which cannot be", y)
	}
	return errors.Join(
		texts(1<<10, map[string]string{"host": m.Host, "system": m.OS, "kernel": m.Kernel, "processor": m.Processor, "version": m.Entelon}),
		within(0, math.MaxInt32, map[string]int64{"number of processors": int64(m.Processors)}),
		within(0, 1<<60, map[string]int64{"memory": m.MemoryB}),
	)
}

func (f *Facts) check() error {
	if len(f.Warnings) > maxWarnings || len(f.Counters) > maxCounters || len(f.NotCounted) > maxCounters || len(f.Counted) > maxCounters || f.Bare != nil && len(f.Bare.Pairs) > maxCounters || len(f.CutOff) > maxCounters {
		return errors.New("its lists of warnings or counters are too long")
	}
	for _, w := range f.Warnings {
		if err := texts(maxSay, map[string]string{"warning": w.Text, "remedy": w.Remedy, "warning's code": w.Code}); err != nil {
			return err
		}
	}
	for _, c := range f.Counted {
		if err := errors.Join(texts(maxSay, map[string]string{"measure": c.Measure}), within(0, maxCount, map[string]int64{"number of events": c.Events, "number of single events": c.Singly, "number of lost events": c.Lost, "number of intervals": c.Intervals, "number of intervals left out": c.Thinned, "number of lost intervals": c.Unwritten})); err != nil {
			return err
		}
	}
	if u := f.Usage; u != nil {
		if n := len(u.TimeNS); n > maxUsage || len(u.ResidentBytes) != n || len(u.CPUNS) != n {
			return errors.New("its columns of memory and processor time differ in length, or are too long")
		}
	}
	if x := f.Exact; x != nil {
		if len(x.Varied) > MaxVaried || len(x.Totals) > maxCounters {
			return errors.New("its lists of what varied are too long")
		}
		for _, v := range x.Varied {
			if err := errors.Join(texts(maxSay, map[string]string{"function that varied": v.Function}), within(0, maxCount, map[string]int64{"number of instructions": v.Instructions[1], "number of calls": v.Calls[1]})); err != nil {
				return err
			}
		}
	}
	numbers := map[string]int64{
		"number of samples": f.Samples, "number of lost samples": f.Lost, "number of samples left out": f.LeftOut, "number of throttled samples": f.Throttled,
		"number of stacks": f.UserStacks, "number of whole stacks": f.Complete, "number of interpreted stacks": f.Interpreted,
		"number of labelled samples": f.Labelled, "number of unread labels": f.Unlabelled, "number of torn stacks": f.Torn, "number of samples without a name": f.Unnamed,
	}
	return errors.Join(
		within(0, maxCount, numbers),
		within(0, maxTime, map[string]int64{"duration": f.DurationNS}),
		within(0, math.MaxInt64/4, map[string]int64{"time of its beginning": f.OriginUnixNS}),
		within(0, 20*maxTime, map[string]int64{"processor time": f.CPUNS, "collector's time": f.CollectorNS, "counting's own time": f.OwnNS}), // of many processors
		texts(maxSay, map[string]string{"build's number": f.BuildID, "revision": f.Revision, "executable": f.Executable, "end": f.EndedBy, "signal": f.EndSignal, "runtime's options": f.RuntimeSet}),
		finite(map[string]float64{"work": f.Work}),
	)
}

// checkMeasures bounds what is added up, and how long it is called.
func (p *Profile) checkMeasures() error {
	if n := len(p.Measures); n > maxMeasures {
		return fmt.Errorf("it has %d measures, and a take has %d at most", n, maxMeasures)
	}
	for i, m := range p.Measures {
		if len(p.Strings[m.Name]) > maxSay || len(p.Strings[m.Unit]) > longestUnit {
			return fmt.Errorf("measure %d has a name of %d bytes and a unit of %d", i, len(p.Strings[m.Name]), len(p.Strings[m.Unit]))
		}
	}
	return nil
}

// checkValues bounds what a measure adds up to, so that no sum overflows, and
// refuses times before the beginning.
func (p *Profile) checkValues() error {
	for m, values := range p.Samples.Values {
		var sum int64
		for i, v := range values {
			if v < 0 && p.Measures[m].Combine != measure.Level || v < -maxValue || v > maxValue {
				return fmt.Errorf("sample %d has the value %d, which cannot be", i, v)
			}
			if sum += max(v, -v); sum > maxValue {
				return fmt.Errorf("its values add up to more than can be counted")
			}
		}
	}
	for i, t := range p.Samples.Time {
		if t < 0 || t > maxTime {
			return fmt.Errorf("sample %d was taken at %d ns, which cannot be", i, t)
		}
	}
	return nil
}
