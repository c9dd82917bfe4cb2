package pairing

import (
	"strings"

	"golang.org/x/sys/unix"

	"entelon/capture/rings"
	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// happenings are events that the source wrote down one by one, with what they are about. Such a record
// comes before the sample that shows where the event was, if it has one: so they are held until that is
// there.
type happenings struct {
	held []happening
}

type happening struct {
	class raw.Class
	at    uint64
	out   resolve.Passed // without its stack
}

// heldNS is how long an event is held, of the records' own time. A sample is written in the same moment
// as the event before it, but a host may take the processor away between the two.
const heldNS = 5_000_000

// happened takes an event that was written down by itself.
func (ts *tallies) happened(rec *raw.Record) {
	x := rec.Happening
	if !ts.c.lives.keep || x.Class.Event < 0 || x.Class.Event >= len(ts.c.events) {
		return
	}
	e := ts.c.events[x.Class.Event]
	kind, ok := profile.EventsOf(e.Column)
	origin := ts.c.resolver.Origin
	if !ok || x.End < origin {
		return
	}
	out := resolve.Passed{Kind: kind, From: max(x.Begin, origin), To: x.End, More: ts.c.about(x, e)}
	out.Processor, out.HasProcessor = int64(x.Processor), e.Role != rings.RoleDisk // which is answered elsewhere
	ts.happenings.held = append(ts.happenings.held, happening{class: x.Class, at: x.End, out: out})
}

// release keeps what was held for long enough at a time.
func (ts *tallies) release(now uint64) {
	h := &ts.happenings
	n := 0
	for ; n < len(h.held) && h.held[n].at+heldNS <= now; n++ {
		ts.keepHappening(&h.held[n])
	}
	if n > 0 {
		h.held = h.held[:copy(h.held, h.held[n:])]
	}
}

// releaseOf keeps what is held of a class, which ends.
func (ts *tallies) releaseOf(k raw.Class) {
	h := &ts.happenings
	rest := h.held[:0]
	for i := range h.held {
		if h.held[i].class == k {
			ts.keepHappening(&h.held[i])
			continue
		}
		rest = append(rest, h.held[i])
	}
	h.held = rest
}

func (ts *tallies) keepHappening(x *happening) {
	t := ts.class(x.class)
	if !t.has {
		ts.unseen(t, x.class)
	}
	if t.left || t.nobody {
		return
	}
	ts.c.Counted.Intervals[ts.c.events[x.class.Event].Column]++
	x.out.Seen, x.out.Mark = t.last, t.mark
	ts.c.resolver.KeepInterval(x.out)
}

// about is what is known of an event beside when and where it was.
func (c *Consumer) about(x *raw.Happening, e *rings.Event) (out []resolve.Attribute) {
	switch {
	case e.Role == rings.RoleDisk:
		out = append(out, bytesMoved(x.Amount))
		if c.DeviceName != nil {
			out = append(out, textOf(profile.AttributeDevice, c.DeviceName(x.About)))
		}
	case e.Role == rings.RoleCall:
		if len(e.Size) > 0 {
			out = append(out, bytesMoved(x.Amount))
		}
		for i, a := range e.Arguments {
			if i < len(x.Arguments) {
				out = append(out, resolve.Attribute{Name: ownName(a.Name), Value: int64(x.Arguments[i])})
			}
		}
	case e.Point.Fields != nil:
		out = append(out, fieldsOf(e, x.Data)...)
	case x.Address != 0:
		out = append(out, resolve.Attribute{Name: profile.AttributeMemory, Type: profile.AttributeAddress, Value: int64(x.Address)})
		if f, ok := c.files.named(x.About); ok {
			out = append(out, textOf(profile.AttributeFile, f.Name))
		} else if x.Part != "" {
			out = append(out, textOf(profile.AttributeArea, x.Part))
		}
	}
	return out
}

func bytesMoved(n int64) resolve.Attribute {
	return resolve.Attribute{Name: profile.AttributeMoved, Type: profile.AttributeBytes, Value: n}
}

func textOf(name, text string) resolve.Attribute {
	return resolve.Attribute{Name: name, Type: profile.AttributeText, Text: text}
}

// ownName is the name of an attribute that somebody else has named: not one that means something here.
func ownName(name string) string {
	switch name {
	case profile.AttributeParent, profile.AttributeLink, profile.AttributeOpen, profile.AttributeProcessor, profile.AttributeResult, "kind", "duration", "name":
		return name + "_"
	}
	return name
}

// fieldsOf reads a tracepoint's own record by the kernel's description of it.
func fieldsOf(e *rings.Event, data []byte) (out []resolve.Attribute) {
	for _, f := range e.Point.Ordered() {
		if strings.HasPrefix(f.Name, "common_") || f.Array {
			continue
		}
		a := resolve.Attribute{Name: ownName(f.Name)}
		var ok bool
		switch {
		case f.Text:
			a.Type = profile.AttributeText
			a.Text, ok = f.String(data)
		case f.Pointer:
			a.Type = profile.AttributeAddress
			fallthrough
		default:
			a.Value, ok = f.Value(data)
		}
		if ok {
			out = append(out, a)
		}
	}
	return out
}

// files are what the source's numbers of files stand for.
type files struct {
	of    map[uint64]raw.File
	bytes int
	lost  int64 // how many found no room
}

// maxFileBytes bounds what names of files take together.
const maxFileBytes = 64 << 20

// filed takes what a number stands for.
func (c *Consumer) filed(x *raw.File) {
	const each = 100 // that an entry takes beside its text
	f := &c.files
	if f.bytes+len(x.Name)+each > maxFileBytes {
		f.lost++
		return
	}
	if f.of == nil {
		f.of = map[uint64]raw.File{}
	}
	if _, again := f.of[x.Number]; !again {
		f.bytes += len(x.Name) + each
	}
	f.of[x.Number] = *x
}

func (f *files) named(number uint64) (raw.File, bool) {
	x, ok := f.of[number]
	return x, ok
}

// aboutCall is what is known of a system call beside how long it took.
func (c *Consumer) aboutCall(x *raw.Interval) (out []resolve.Attribute) {
	if f, ok := c.files.named(x.File); ok {
		out = append(out, textOf(profile.AttributeFile, f.Name), textOf(profile.AttributeSort, f.Sort))
	}
	switch {
	case !x.Returned:
	case x.Result < 0 && x.Result >= -maxErrno:
		if name := unix.ErrnoName(unix.Errno(-x.Result)); name != "" {
			out = append(out, textOf(profile.AttributeError, name))
		} else if name := restarts[-x.Result]; name != "" {
			out = append(out, textOf(profile.AttributeError, name))
		}
	case x.Result >= 0 && moves[x.Class.What]:
		out = append(out, bytesMoved(x.Result))
	}
	return out
}

// maxErrno is the last number that a system call returns for an error.
const maxErrno = 4095

// restarts are what the kernel returns to itself where a signal interrupts a call that it begins again.
var restarts = map[int64]string{512: "ERESTARTSYS", 513: "ERESTARTNOINTR", 514: "ERESTARTNOHAND", 516: "ERESTART_RESTARTBLOCK"}
