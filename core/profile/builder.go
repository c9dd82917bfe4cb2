package profile

import "entelon/core/measure"

// Builder makes a Profile by adding to it. Equal things are kept once: adding
// a module, function, frame or stack that is there already returns the
// identifier that it has.
//
// A Builder is not safe for use by several goroutines.
type Builder struct {
	p         *Profile
	strings   map[string]StringID
	modules   map[Module]ModuleID
	functions map[Function]FunctionID
	frames    map[Frame]FrameID
	stacks    map[stackKey]StackID
	processes map[uint32]ProcessID
	threads   map[threadKey]ThreadID
	labels    map[labelKey]LabelSetID
}

type stackKey struct {
	parent StackID
	frame  FrameID
}

type threadKey struct {
	process   ProcessID
	tid       uint32
	goroutine bool
}

type labelKey struct {
	parent      LabelSetID
	name, value StringID
}

// NewBuilder returns a Builder with the reserved entries in place.
func NewBuilder() *Builder {
	b := &Builder{
		p:         &Profile{},
		strings:   map[string]StringID{},
		modules:   map[Module]ModuleID{},
		functions: map[Function]FunctionID{},
		frames:    map[Frame]FrameID{},
		stacks:    map[stackKey]StackID{},
		processes: map[uint32]ProcessID{},
		threads:   map[threadKey]ThreadID{},
		labels:    map[labelKey]LabelSetID{},
	}
	b.Intern("")
	b.Module(Module{})
	b.Function(Function{})
	b.Frame(Frame{})
	b.p.Stacks.Parent = append(b.p.Stacks.Parent, 0)
	b.p.Stacks.Frame = append(b.p.Stacks.Frame, 0)
	return b
}

// Profile returns the profile under construction. It goes on growing while
// the Builder is used.
func (b *Builder) Profile() *Profile { return b.p }

func add[K comparable, I ~uint32](known map[K]I, column *[]K, v K) I {
	if id, ok := known[v]; ok {
		return id
	}
	id := I(len(*column))
	*column = append(*column, v)
	known[v] = id
	return id
}

// Intern returns the identifier of a text.
func (b *Builder) Intern(s string) StringID { return add(b.strings, &b.p.Strings, s) }

// Module returns the identifier of a module.
func (b *Builder) Module(m Module) ModuleID { return add(b.modules, &b.p.Modules, m) }

// Function returns the identifier of a function.
func (b *Builder) Function(f Function) FunctionID { return add(b.functions, &b.p.Functions, f) }

// Frame returns the identifier of a frame.
func (b *Builder) Frame(f Frame) FrameID { return add(b.frames, &b.p.Frames, f) }

// Push returns the stack in which frame was called from parent.
func (b *Builder) Push(parent StackID, frame FrameID) StackID {
	k := stackKey{parent, frame}
	if id, ok := b.stacks[k]; ok {
		return id
	}
	id := StackID(len(b.p.Stacks.Parent))
	b.p.Stacks.Parent = append(b.p.Stacks.Parent, parent)
	b.p.Stacks.Frame = append(b.p.Stacks.Frame, frame)
	b.stacks[k] = id
	return id
}

// Label returns a set of labels with one more.
func (b *Builder) Label(set LabelSetID, name, value string) LabelSetID {
	k := labelKey{set, b.Intern(name), b.Intern(value)}
	if id, ok := b.labels[k]; ok {
		return id
	}
	s := &b.p.LabelSets
	if s.Len() == 0 {
		*s = LabelSets{Parent: []LabelSetID{0}, Name: []StringID{0}, Value: []StringID{0}}
	}
	id := LabelSetID(s.Len())
	s.Parent, s.Name, s.Value = append(s.Parent, set), append(s.Name, k.name), append(s.Value, k.value)
	b.labels[k] = id
	return id
}

// Process returns the identifier of a process by its number.
func (b *Builder) Process(pid uint32) ProcessID {
	if id, ok := b.processes[pid]; ok {
		return id
	}
	id := ProcessID(len(b.p.Processes))
	b.p.Processes = append(b.p.Processes, Process{PID: pid})
	b.processes[pid] = id
	return id
}

// Thread returns the identifier of a thread of a process by its number.
func (b *Builder) Thread(process ProcessID, tid uint32) ThreadID {
	return b.thread(threadKey{process, tid, false})
}

// Goroutine returns the identifier of a goroutine of a process by its number.
func (b *Builder) Goroutine(process ProcessID, number uint32) ThreadID {
	return b.thread(threadKey{process, number, true})
}

// Like returns the identifier of a thread, or a goroutine, of a process, with the number of another
// profile's.
func (b *Builder) Like(process ProcessID, t Thread) ThreadID {
	return b.thread(threadKey{process, t.TID, t.Goroutine})
}

func (b *Builder) thread(k threadKey) ThreadID {
	if id, ok := b.threads[k]; ok {
		return id
	}
	id := ThreadID(len(b.p.Threads))
	b.p.Threads = append(b.p.Threads, Thread{TID: k.tid, Process: k.process, Goroutine: k.goroutine})
	b.threads[k] = id
	return id
}

// FindThread returns the identifier of a thread that was added before.
func (b *Builder) FindThread(process ProcessID, tid uint32) (ThreadID, bool) {
	id, ok := b.threads[threadKey{process, tid, false}]
	return id, ok
}

// NameProcess gives a process its name; the last one given is kept.
func (b *Builder) NameProcess(id ProcessID, name string) { b.p.Processes[id].Name = b.Intern(name) }

// NameThread gives a thread its name; the last one given is kept.
func (b *Builder) NameThread(id ThreadID, name string) { b.p.Threads[id].Name = b.Intern(name) }

// Measure adds a measure; all must be added before the first sample.
func (b *Builder) Measure(name, unit string, combine measure.Combine) int {
	return b.Column(measure.Column{Name: name, Unit: unit, Combine: combine})
}

// Column adds a measure's column; all must be added before the first sample.
func (b *Builder) Column(c measure.Column) int {
	b.p.Measures = append(b.p.Measures, Measure{Name: b.Intern(c.Name), Unit: b.Intern(c.Unit), Combine: c.Combine, Counted: c.Counted, Time: c.Time})
	b.p.Samples.Values = append(b.p.Samples.Values, nil)
	return len(b.p.Measures) - 1
}

// TakeBack removes the sample that was added last.
func (b *Builder) TakeBack() {
	s := &b.p.Samples
	n := s.Len() - 1
	s.Time, s.Thread, s.Stack = s.Time[:n], s.Thread[:n], s.Stack[:n]
	if s.Labels != nil {
		s.Labels = s.Labels[:n]
	}
	for i := range s.Values {
		s.Values[i] = s.Values[i][:n]
	}
}

// Sample adds one sample. time is in nanoseconds since the take began; values
// has one value for each measure, in their order.
func (b *Builder) Sample(time int64, thread ThreadID, stack StackID, values ...int64) {
	s := &b.p.Samples
	s.Time = append(s.Time, time)
	s.Thread = append(s.Thread, thread)
	s.Stack = append(s.Stack, stack)
	for i := range s.Values {
		s.Values[i] = append(s.Values[i], values[i])
	}
	if s.Labels != nil {
		s.Labels = append(s.Labels, 0)
	}
}

// Labelled gives the sample that was added last its labels.
func (b *Builder) Labelled(set LabelSetID) {
	s := &b.p.Samples
	if s.Labels == nil && set != 0 {
		s.Labels = make([]LabelSetID, s.Len())
	}
	if s.Labels != nil {
		s.Labels[s.Len()-1] = set
	}
}
