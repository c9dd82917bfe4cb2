package profile

// Carry takes things of one profile over into another, such as what is still going on
// when a window of a long collection ends.
type Carry struct {
	From *Profile
	To   *Builder
}

// Frame is a frame of From in To.
func (c Carry) Frame(id FrameID) FrameID {
	if id == 0 {
		return 0
	}
	f := c.From.Frames[id]
	fn := c.From.Functions[f.Function]
	m := c.From.Modules[fn.Module]
	text := func(s StringID) StringID { return c.To.Intern(c.From.Strings[s]) }
	m.Path, m.BuildID = text(m.Path), text(m.BuildID)
	fn.Name, fn.Linkage, fn.File, fn.Module = text(fn.Name), text(fn.Linkage), text(fn.File), c.To.Module(m)
	f.Function = c.To.Function(fn)
	return c.To.Frame(f)
}

// Stack is a stack of From in To.
func (c Carry) Stack(id StackID) StackID {
	var frames []FrameID
	for ; id != 0; id = c.From.Stacks.Parent[id] {
		frames = append(frames, c.From.Stacks.Frame[id])
	}
	out := StackID(0)
	for i := len(frames) - 1; i >= 0; i-- {
		out = c.To.Push(out, c.Frame(frames[i]))
	}
	return out
}

// Labels is a set of labels of From in To.
func (c Carry) Labels(id LabelSetID) LabelSetID {
	if id == 0 {
		return 0
	}
	s := &c.From.LabelSets
	return c.To.Label(c.Labels(s.Parent[id]), c.From.Strings[s.Name[id]], c.From.Strings[s.Value[id]])
}

// Thread is a thread of From in To, with its process and their names.
func (c Carry) Thread(id ThreadID) ThreadID {
	t := c.From.Threads[id]
	p := c.From.Processes[t.Process]
	process := c.To.Process(p.PID)
	c.To.NameProcess(process, c.From.Strings[p.Name])
	out := c.To.Like(process, t)
	c.To.NameThread(out, c.From.Strings[t.Name])
	return out
}

// NewBuilderLike returns a Builder with the measures of a profile, and nothing else.
func NewBuilderLike(p *Profile) *Builder {
	b := NewBuilder()
	for i := range p.Measures {
		b.Column(p.Words(i))
	}
	return b
}
