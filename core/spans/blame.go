package spans

import (
	"errors"

	"entelon/core/lanes"
	"entelon/core/measure"
	"entelon/core/profile"
)

// ErrNoLane is the error about spans whose threads have no lanes, so that nothing is known of what
// they did.
var ErrNoLane = errors.New("nothing is known of what its threads did; measure waiting, too")

// Blame is what spans were slow for: their critical paths, added up.
type Blame struct {
	// Profile has a sample for each step of a critical path, with its time in nanoseconds as the one
	// measure. Its stacks begin with who it was: the span itself, or the thread that held it up.
	Profile *profile.Profile
	Spans   int   // whose critical paths they are
	Total   int64 // nanoseconds, which the samples add up to
	Rows    []lanes.Blame
}

// BlameMeasure is the measure of a Blame's profile.
const BlameMeasure = "blame"

// BlameOf adds up the critical paths of spans. The error is ErrNoLane, or lanes.ErrLongPath.
func BlameOf(p *profile.Profile, x *lanes.Index, name string, of []Span) (*Blame, error) {
	b := profile.NewBuilder()
	b.Column(measure.Column{Name: BlameMeasure, Label: "time of " + name, Unit: measure.Nanoseconds, Counted: true, Time: measure.Beginning})
	w := &blaming{p: p, x: x, b: b, carry: profile.Carry{From: p, To: b}, stacks: map[stackOf]profile.StackID{}, name: name}
	out := &Blame{Profile: b.Profile()}
	var steps []lanes.Step
	for _, s := range of {
		lane := x.LaneOf(s.Thread)
		if lane < 0 {
			continue
		}
		path, err := x.CriticalPath(lane, s.From, s.To)
		if err != nil {
			return nil, err
		}
		if steps = append(steps, path...); len(steps) > lanes.MaxPathSteps {
			return nil, lanes.ErrLongPath
		}
		for i := range path {
			out.Total += path[i].To - path[i].From
			w.add(lane, &path[i])
		}
		out.Spans++
	}
	if out.Spans == 0 && len(of) > 0 {
		return nil, ErrNoLane
	}
	out.Rows = x.BlameOf(steps)
	return out, nil
}

// blaming makes the profile of a Blame.
type blaming struct {
	p      *profile.Profile
	x      *lanes.Index
	b      *profile.Builder
	carry  profile.Carry
	name   string
	stacks map[stackOf]profile.StackID
}

// stackOf is a stack of the take under who it was.
type stackOf struct {
	stack profile.StackID
	lane  int // -1: the span itself
	ran   bool
}

// add adds a step of the path of a lane's span.
func (w *blaming) add(lane int, s *lanes.Step) {
	who := s.Lane
	if s.Lane == lane {
		who = -1
	}
	thread := w.carry.Thread(w.x.Lanes[s.Lane].Thread)
	put := func(stack profile.StackID, ran bool, ns int64) {
		w.b.Sample(s.From, thread, w.stack(stackOf{stack, who, ran}), ns)
	}
	if s.Interval >= 0 {
		put(w.p.Intervals.Stack[s.Interval], false, s.To-s.From)
		return
	}
	w.x.Share(s, func(stack profile.StackID, ns int64) { put(stack, true, ns) })
}

func (w *blaming) stack(of stackOf) profile.StackID {
	if id, ok := w.stacks[of]; ok {
		return id
	}
	who := w.name + " itself"
	if of.lane >= 0 {
		who = "held up by " + w.p.ThreadWords(w.x.Lanes[of.lane].Thread)
	}
	id := w.b.Push(0, w.b.Mark(profile.Group, who))
	var frames []profile.FrameID
	w.p.Walk(of.stack, func(f profile.FrameID) { frames = append(frames, f) })
	for i := len(frames) - 1; i >= 0; i-- {
		id = w.b.Push(id, w.carry.Frame(frames[i]))
	}
	if of.ran && of.stack == 0 {
		id = w.b.Push(id, w.b.Mark(profile.MarkOther, "ran, without a sample"))
	}
	w.stacks[of] = id
	return id
}
