package profile

import "strings"

// Mark is what a frame says that is not code. The zero Mark is a function like any
// other. The order is part of the take file format.
type Mark uint8

// The marks.
const (
	NoMark Mark = iota
	// MarkOther is a mark of which nothing more is known.
	MarkOther

	// Of stacks whose outer part is unknown, why.
	CutDeeper     // deeper than the copied stack
	CutOtherStack // the walk went to a stack that was not copied
	CutNoTable    // code without call-frame tables
	CutNoCode     // a return address that is not in code
	CutNoMemory   // the stack could not be read
	CutCircle     // the stack does not get shorter
	CutTooMany    // more frames than are kept
	CutTorn       // the interpreter was changing its frames

	// Of waits, what for.
	WaitLock
	WaitSleep
	WaitDisk
	WaitNetwork
	WaitEvents
	WaitInput
	WaitProcess
	WaitMemory
	WaitProcessor
	WaitUnknown
	// Of a wait, or a system call, whose beginning was not seen.
	WaitedBefore
	BeganBefore

	// SystemCall is one by name, which is the function's.
	SystemCall

	// Of requests to disks.
	DiskRead
	DiskWrite
	DiskDiscard
	DiskFlush
	DiskOther

	// Group is what stands at the root of stacks that are grouped, by its name.
	Group

	// WaitChannel is a wait of a goroutine for another one, on a channel.
	WaitChannel
	// Span is a span by name, which is the function's.
	Span

	marksEnd
)

// markRow is a mark's key, which is its name in takes, databases, scopes and links
// and never changes, and its words, which are shown.
type markRow struct{ key, words string }

var marks = [marksEnd]markRow{
	CutDeeper:     {"cut off: deeper than the copied stack", "cut off: deeper than the copied stack"},
	CutOtherStack: {"cut off: went to a stack that was not copied", "cut off: continues on a stack that was not copied"},
	CutNoTable:    {"cut off: code without call-frame tables", "cut off: code without call-frame tables"},
	CutNoCode:     {"cut off: called from what is no code", "cut off: the caller is not code"},
	CutNoMemory:   {"cut off: the stack could not be read", "cut off: the stack could not be read"},
	CutCircle:     {"cut off: the stack does not get shorter", "cut off: the walk does not advance"},
	CutTooMany:    {"cut off: more frames than are kept", "cut off: more frames than are kept"},
	CutTorn:       {"cut off: the interpreter was changing its frames", "cut off: the interpreter was changing its frames"},
	WaitLock:      {"waits for a lock", "waits for a lock"},
	WaitSleep:     {"sleeps", "sleeps"},
	WaitDisk:      {"waits for the disk", "waits for the disk"},
	WaitNetwork:   {"waits for the network", "waits for the network"},
	WaitEvents:    {"waits for events", "waits for events"},
	WaitInput:     {"waits for input", "waits for input"},
	WaitProcess:   {"waits for another process", "waits for another process"},
	WaitMemory:    {"waits for memory", "waits for memory"},
	WaitProcessor: {"waits for a processor", "waits for a processor"},
	WaitUnknown:   {"waits for something else", "waits for something else"},
	WaitedBefore:  {"waited before the take began", "was waiting before the take began"},
	BeganBefore:   {"began before the take", "began before the take"},
	DiskRead:      {"disk: read", "disk: read"},
	DiskWrite:     {"disk: write", "disk: write"},
	DiskDiscard:   {"disk: discard", "disk: discard"},
	DiskFlush:     {"disk: flush", "disk: flush"},
	DiskOther:     {"disk: other request", "disk: other request"},
	WaitChannel:   {"waits for a channel", "waits for a channel"},
}

var markByKey = func() map[string]Mark {
	out := map[string]Mark{}
	for m, row := range marks {
		if row.key != "" {
			out[row.key] = Mark(m)
		}
	}
	return out
}()

// Valid reports whether m is one of the marks above.
func (m Mark) Valid() bool { return m < marksEnd }

// CutOff reports whether the mark says that the outer part of a stack is unknown.
func (m Mark) CutOff() bool { return m >= CutDeeper && m <= CutTorn }

// Idle reports whether it is a wait for something to do, and not for something that
// is needed to go on.
func (m Mark) Idle() bool {
	return m == WaitSleep || m == WaitEvents || m == WaitInput || m == WaitProcess || m == WaitChannel
}

// threadStates are the states of threads, with the marks of waits that stand for them; what runs has
// none.
var threadStates = []struct {
	mark Mark
	name string
}{
	{NoMark, "running"}, {WaitProcessor, "ready"}, {WaitLock, "lock"}, {WaitDisk, "disk"}, {WaitNetwork, "network"}, {WaitSleep, "timer"},
	{WaitEvents, "events"}, {WaitInput, "input"}, {WaitProcess, "process"}, {WaitMemory, "memory"}, {WaitUnknown, "other"}, {WaitChannel, "channel"},
}

// State is the state of a thread whose stack ends in the mark, by name: "lock", "ready"; that of
// code is "running", and of a mark that is no wait "".
func (m Mark) State() string {
	for _, s := range threadStates {
		if s.mark == m {
			return s.name
		}
	}
	return ""
}

// ThreadStates are the names of all states.
func ThreadStates() (names []string) {
	for _, s := range threadStates {
		names = append(names, s.name)
	}
	return names
}

// Key is what the mark is called wherever it is kept. That of a system call is made
// from the call's name.
func (m Mark) Key() string {
	if m.Valid() {
		return marks[m].key
	}
	return ""
}

// Words is how the mark is shown.
func (m Mark) Words() string {
	if m.Valid() {
		return marks[m].words
	}
	return ""
}

// cutOff begins the keys of marks for stacks that are cut off.
const cutOff = "cut off: "

// Cut is a reason for which stacks are cut off, with how many are.
type Cut struct {
	Reason string `json:"reason"` // the mark's key without what all of these begin with
	Stacks int64  `json:"stacks"`
}

// CutBy says that so many stacks end in a mark.
func CutBy(m Mark, stacks int64) Cut { return Cut{strings.TrimPrefix(m.Key(), cutOff), stacks} }

// Mark is the mark that the stacks end in.
func (c Cut) Mark() Mark { return MarkNamed(cutOff + c.Reason) }

// Words is the reason as it is shown.
func (c Cut) Words() string {
	if w := c.Mark().Words(); w != "" {
		return strings.TrimPrefix(w, cutOff)
	}
	return c.Reason
}

// systemCall begins the key of a system call.
const systemCall = "system call "

// span begins the key of a span.
const span = "span "

// SpanKey is the key of a span by its name.
func SpanKey(name string) string { return span + name }

// SpanNameOf is the name of a span by its function, whose mark is Span.
func SpanNameOf(p *Profile, f FunctionID) string {
	return strings.TrimSuffix(strings.TrimPrefix(p.Strings[p.Functions[f].Name], "["+span), "]")
}

// SystemCallKey is the key of a system call by its name.
func SystemCallKey(name string) string { return systemCall + name }

// MarkNamed returns the mark that a function of takes before Version7 is, by its
// name, which was all that those kept.
func MarkNamed(name string) Mark {
	key := strings.TrimSuffix(strings.TrimPrefix(name, "["), "]")
	if m, ok := markByKey[key]; ok {
		return m
	}
	if strings.HasPrefix(key, systemCall) {
		return SystemCall
	}
	return MarkOther
}

// Mark returns the frame of a mark with a key, which is the mark's own except for
// those that have names.
func (b *Builder) Mark(m Mark, key string) FrameID {
	mod := b.Module(Module{Path: b.Intern("[mark]"), Kind: KindMark})
	return b.Frame(Frame{Function: b.Function(Function{Name: b.Intern("[" + key + "]"), Module: mod, Kind: KindMark, Mark: m})})
}

// shownMark is a mark's name as it is shown, given the one by which it is kept.
func shownMark(name string) string {
	if m, ok := markByKey[strings.TrimSuffix(strings.TrimPrefix(name, "["), "]")]; ok {
		return "[" + marks[m].words + "]"
	}
	return name
}

// disk begins the keys of requests to disks.
const disk = "disk: "

// MarkValue is what a mark says beside what kind of mark it is, such as the name of a system call or of a
// span; of other functions it is the short name.
func MarkValue(p *Profile, f FunctionID) string {
	name := p.Strings[p.Functions[f].Name]
	if p.Functions[f].Mark == NoMark {
		return Short(p.FunctionName(f))
	}
	name = strings.TrimSuffix(strings.TrimPrefix(name, "["), "]")
	for _, begin := range []string{systemCall, span, disk} {
		if of, is := strings.CutPrefix(name, begin); is {
			return of
		}
	}
	return name
}
