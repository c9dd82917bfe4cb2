package profile

import (
	"fmt"
	"slices"

	"entelon/core/measure"
)

// Merge returns one profile with the samples of all of from, in the order in
// which they are given. Tables are mapped once and then only integers are
// moved. Measures are matched by name and unit; it is an error if the
// profiles do not all have the same ones in the same order. Processes and
// threads with the same numbers become one. Times are kept as they are, so
// the profiles are laid over each other, not one after the other; where one has no
// times, the result has none. Levels are refused: those of two profiles that were not
// taken at the same times add up to nothing that ever was.
func Merge(from ...*Profile) (*Profile, error) {
	b := NewBuilder()
	for i, p := range from {
		if i == 0 {
			for m := range p.Measures {
				c := p.Words(m)
				if c.Combine == measure.Level && len(from) > 1 {
					return nil, fmt.Errorf("%s is a level: it cannot be merged", c.Name)
				}
				b.Column(c)
			}
		}
		if err := b.append(p); err != nil {
			return nil, fmt.Errorf("profile %d: %w", i+1, err)
		}
	}
	if slices.ContainsFunc(from, (*Profile).Folded) {
		b.p.Samples.Time = nil
	}
	return b.Profile(), nil
}

// BuilderOf returns a Builder that has all of a profile, to which more can be added.
func BuilderOf(p *Profile) (*Builder, error) {
	b := NewBuilder()
	for m := range p.Measures {
		b.Column(p.Words(m))
	}
	if err := b.append(p); err != nil {
		return nil, err
	}
	if p.Folded() {
		b.p.Samples.Time = nil
	}
	return b, nil
}

func (b *Builder) append(p *Profile) error {
	if len(p.Measures) != len(b.p.Measures) {
		return fmt.Errorf("has %d measures where the first has %d", len(p.Measures), len(b.p.Measures))
	}
	for i, m := range p.Measures {
		o := b.p.Measures[i]
		if p.Strings[m.Name] != b.p.Strings[o.Name] || p.Strings[m.Unit] != b.p.Strings[o.Unit] {
			return fmt.Errorf("measure %d is %s in %s where the first has %s in %s", i,
				p.Strings[m.Name], p.Strings[m.Unit], b.p.Strings[o.Name], b.p.Strings[o.Unit])
		}
	}
	str := make([]StringID, len(p.Strings))
	for i, s := range p.Strings {
		str[i] = b.Intern(s)
	}
	mod := make([]ModuleID, len(p.Modules))
	for i, m := range p.Modules {
		mod[i] = b.Module(Module{Path: str[m.Path], BuildID: str[m.BuildID], Kind: m.Kind})
	}
	fn := make([]FunctionID, len(p.Functions))
	for i, f := range p.Functions {
		f.Name, f.Linkage, f.File, f.Module = str[f.Name], str[f.Linkage], str[f.File], mod[f.Module]
		fn[i] = b.Function(f)
	}
	frame := make([]FrameID, len(p.Frames))
	for i, f := range p.Frames {
		f.Function = fn[f.Function]
		frame[i] = b.Frame(f)
	}
	stack := make([]StackID, p.Stacks.Len())
	for i := 1; i < p.Stacks.Len(); i++ {
		stack[i] = b.Push(stack[p.Stacks.Parent[i]], frame[p.Stacks.Frame[i]])
	}
	thread := make([]ThreadID, len(p.Threads))
	for i, t := range p.Threads {
		proc := p.Processes[t.Process]
		pid := b.Process(proc.PID)
		b.p.Processes[pid].Name = str[proc.Name]
		thread[i] = b.Like(pid, t)
		b.p.Threads[thread[i]].Name = str[t.Name]
	}
	labels := make([]LabelSetID, p.LabelSets.Len())
	for i := 1; i < len(labels); i++ {
		labels[i] = b.Label(labels[p.LabelSets.Parent[i]], p.Strings[p.LabelSets.Name[i]], p.Strings[p.LabelSets.Value[i]])
	}
	if err := b.appendIntervals(p, str, thread, stack); err != nil {
		return err
	}
	s := &b.p.Samples
	if p.Samples.Labels != nil && s.Labels == nil {
		s.Labels = make([]LabelSetID, s.Len())
	}
	for i := range p.Samples.Stack {
		if s.Labels != nil {
			set := LabelSetID(0)
			if p.Samples.Labels != nil {
				set = labels[p.Samples.Labels[i]]
			}
			s.Labels = append(s.Labels, set)
		}
		var t int64
		if p.Samples.Time != nil {
			t = p.Samples.Time[i]
		}
		s.Time = append(s.Time, t)
		s.Thread = append(s.Thread, thread[p.Samples.Thread[i]])
		s.Stack = append(s.Stack, stack[p.Samples.Stack[i]])
	}
	for m := range s.Values {
		s.Values[m] = append(s.Values[m], p.Samples.Values[m]...)
	}
	return nil
}

// appendIntervals adds the intervals of a profile whose threads and stacks are these here.
func (b *Builder) appendIntervals(p *Profile, str []StringID, thread []ThreadID, stack []StackID) error {
	from, to := &p.Intervals, &b.p.Intervals
	first := uint32(to.Len())
	to.Start, to.Duration, to.Kind = append(to.Start, from.Start...), append(to.Duration, from.Duration...), append(to.Kind, from.Kind...)
	for i := range from.Stack {
		to.Thread, to.Stack = append(to.Thread, thread[from.Thread[i]]), append(to.Stack, stack[from.Stack[i]])
	}
	for i, at := range from.Ended.Interval {
		l := &to.Ended
		by := from.Ended.Thread[i]
		if by != NoThread {
			by = thread[by]
		}
		l.Interval, l.Thread, l.Stack = append(l.Interval, first+at), append(l.Thread, by), append(l.Stack, stack[from.Ended.Stack[i]])
	}
	for _, a := range from.Attributes {
		name := str[a.Name]
		n := 0
		for n < len(to.Attributes) && (to.Attributes[n].Name != name || to.Attributes[n].Type != a.Type) {
			n++
		}
		if n == len(to.Attributes) {
			if n >= MaxAttributes {
				return fmt.Errorf("together there are more than %d attributes", MaxAttributes)
			}
			to.Attributes = append(to.Attributes, Attribute{Name: name, Type: a.Type})
		}
		positions := positional(p.Strings[a.Name])
		for i, at := range a.Interval {
			value := a.Value[i]
			switch {
			case positions:
				value += int64(first)
			case a.Type == AttributeText:
				value = int64(str[value])
			}
			to.Attributes[n].Interval, to.Attributes[n].Value = append(to.Attributes[n].Interval, first+at), append(to.Attributes[n].Value, value)
		}
	}
	return nil
}
