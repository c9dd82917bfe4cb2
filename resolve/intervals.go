package resolve

import "entelon/core/profile"

// Passed is a wait or a system call that has ended, or the life of a thread.
type Passed struct {
	Seen     // where the thread was; when that was seen does not matter
	Kind     profile.IntervalKind
	Mark     profile.FrameID // what it was for
	From, To uint64          // monotonic
	Ended    *Waker          // who ended it; nil: that is not known

	Processor    int64 // on which the thread went on
	HasProcessor bool
	Result       int64 // of a system call
	HasResult    bool
	Open         bool // of a span: it goes on when the take ends
	More         []Attribute
}

// Attribute is what else is known of an interval.
type Attribute struct {
	Name  string
	Type  profile.AttributeType
	Value int64
	Text  string // of AttributeText
}

// Waker is who ended a wait.
type Waker struct {
	Seen
	// Interrupt are the frames of the interrupt that did it, the innermost first, which came in
	// between what the thread was doing; nil: the thread did it itself.
	Interrupt []profile.FrameID
}

// KeepInterval adds an interval to the profile, where its stack has its names, or when it has.
func (r *Resolver) KeepInterval(x Passed) {
	if !x.Ready || x.Ended != nil && x.Ended.Interrupt == nil && !x.Ended.Ready {
		r.parkedIntervals = append(r.parkedIntervals, x)
		return
	}
	r.putInterval(&x)
}

func (r *Resolver) putInterval(x *Passed) {
	out := profile.Interval{
		Start: r.Since(x.From), Duration: int64(x.To - min(x.From, x.To)), Thread: x.Thread, Kind: x.Kind, Stack: r.marked(x.Stack, x.Mark),
	}
	if !r.keepsInterval(x, out.Stack) {
		return
	}
	if w := x.Ended; w != nil {
		out.Ended, out.By, out.ByStack = true, w.Thread, w.Stack
		if w.Interrupt != nil {
			out.By, out.ByStack = profile.NoThread, 0
			for i := len(w.Interrupt) - 1; i >= 0; i-- {
				out.ByStack = r.Builder.Push(out.ByStack, w.Interrupt[i])
			}
		}
	}
	r.Builder.Interval(out)
	if x.HasProcessor {
		r.Builder.Attribute(profile.AttributeProcessor, x.Processor)
	}
	if x.HasResult {
		r.Builder.Attribute(profile.AttributeResult, x.Result)
	}
	if x.Open {
		r.Builder.Attribute(profile.AttributeOpen, 1)
	}
	for _, a := range x.More {
		value := a.Value
		if a.Type == profile.AttributeText {
			value = int64(r.Builder.Intern(a.Text))
		}
		if !r.Builder.AttributeOf(a.Name, a.Type, value) {
			r.NoColumn++
		}
	}
}

// keepsInterval asks whoever decides that of samples.
func (r *Resolver) keepsInterval(x *Passed, stack profile.StackID) bool {
	if r.Keeper == nil {
		return true
	}
	r.Builder.Sample(r.Since(x.From), x.Thread, stack, r.Value(0)...)
	r.Builder.Labelled(x.labels)
	keeps := r.Keeper.Keeps(r.Builder.Profile().Samples.Len() - 1)
	r.Builder.TakeBack()
	return keeps
}

// nameIntervals gives names to the intervals that waited for them, where all of them are there;
// where wait is set, it waits.
func (r *Resolver) nameIntervals(wait bool) {
	for n := range r.parkedIntervals {
		x := &r.parkedIntervals[n]
		seen := []*Seen{&x.Seen}
		if x.Ended != nil && x.Ended.Interrupt == nil {
			seen = append(seen, &x.Ended.Seen)
		}
		for _, s := range seen {
			if s.Ready {
				continue
			}
			if coming(s) {
				if !wait {
					r.parkedIntervals = append([]Passed(nil), r.parkedIntervals[n:]...)
					return
				}
				await(s)
			}
			// Each stack is counted with its sample.
			r.quiet = true
			s.Stack, s.Ready = r.named(s), true
			r.quiet = false
		}
		r.putInterval(x)
	}
	r.parkedIntervals = nil
}
