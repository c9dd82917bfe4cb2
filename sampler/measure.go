package sampler

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"entelon/core/profile"
)

// ErrMeasure is wrapped by what ParseMeasure says of a measure that there is not.
var ErrMeasure = errors.New("there is no such measure")

// The kinds of measure, by the word that chooses one.
const (
	MeasureCPU         = "cpu"
	MeasureWaiting     = "waiting"
	MeasureFaults      = "faults"
	MeasureSyscalls    = "syscalls"
	MeasureDisk        = "disk"
	MeasureAllocations = "allocations"
	MeasureTracepoint  = "tracepoint"
	MeasureFunction    = "function"
)

// Measure is what a take adds up, as it is chosen: "cpu", "waiting",
// "allocations:score_alloc@2", "tracepoint:sched:sched_process_fork",
// "function:slur.Route".
type Measure struct {
	Kind     string
	Of       string // the function or the tracepoint, "" where the kind needs none
	Argument int    // of an allocating function: which argument is the size, counted from 1
}

// MeasureInfo says what a kind of measure means.
type MeasureInfo struct {
	Kind  string
	Form  string // how it is written
	Unit  string
	Means string
	Cost  string // what it costs the program
}

// MeasureKinds are all kinds of measure.
func MeasureKinds() []MeasureInfo {
	return []MeasureInfo{
		{MeasureCPU, "cpu", "s", "Processor time: the program is interrupted many times a second and each sample stands for the time since the one before.", "some 10 µs a sample"},
		{MeasureWaiting, "waiting", "s", "Time off the processor, from being switched out to being switched in, under the stack that waited, split by what it waited for: a lock, the disk, the network, a timer, input, another process, or a processor that was taken. Every wait is measured.", "some 5 µs a wait"},
		{MeasureFaults, "faults", "count", "Page faults: touching memory that the kernel had to provide first. Every fault is counted.", "some 3 µs a fault"},
		{MeasureSyscalls, "syscalls", "s and count", "System calls by name, with the time from entering the kernel to leaving it, waiting included. Every call is measured.", "some 5 µs a call"},
		{MeasureDisk, "disk", "bytes and count", "Requests to disks that the program itself makes, with their size. What the kernel writes later, or reads ahead by itself, is not the program's.", "some 5 µs a request"},
		{MeasureAllocations, "allocations[:FUNCTION[@N]]", "bytes and count", "Calls of the C library's allocator and the bytes that they ask for; or of the program's function FUNCTION, whose argument number N (1 if not said) is the size. Every call is counted.", "some 5 µs a call"},
		{MeasureTracepoint, "tracepoint:GROUP:NAME", "count", "A tracepoint of the kernel, each time that the program passes it.", "some 5 µs each"},
		{MeasureFunction, "function:NAME", "count", "Calls of a function of the program or of a library, with the stack of each.", "some 5 µs a call"},
	}
}

// ParseMeasure reads a measure as it is chosen.
func ParseMeasure(text string) (Measure, error) {
	kind, of, has := strings.Cut(text, ":")
	m := Measure{Kind: kind, Of: of}
	fail := func(why string) (Measure, error) { return Measure{}, fmt.Errorf("%q: %s: %w", text, why, ErrMeasure) }
	switch kind {
	case MeasureCPU, MeasureWaiting, MeasureFaults, MeasureSyscalls, MeasureDisk:
		if has {
			return fail(kind + " is not of anything")
		}
	case MeasureAllocations:
		if !has {
			return m, nil
		}
		m.Argument = 1
		if name, n, numbered := strings.Cut(of, "@"); numbered {
			arg, err := strconv.Atoi(n)
			if err != nil || arg < 1 || arg > 6 {
				return fail("the number of the argument is from 1 to 6")
			}
			m.Of, m.Argument = name, arg
		}
		if m.Of == "" {
			return fail("write allocations:FUNCTION")
		}
	case MeasureTracepoint:
		group, name, _ := strings.Cut(of, ":")
		if !plain(group) || !plain(name) {
			return fail("write tracepoint:GROUP:NAME")
		}
	case MeasureFunction:
		if of == "" {
			return fail("write function:NAME")
		}
	default:
		return fail("choose from " + strings.Join(measureNames(), ", "))
	}
	return m, nil
}

// plain reports whether s is a name of the kernel's, which becomes part of a path.
func plain(s string) bool {
	for _, c := range s {
		if c != '_' && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
			return false
		}
	}
	return s != ""
}

func measureNames() []string {
	var out []string
	for _, k := range MeasureKinds() {
		out = append(out, k.Kind)
	}
	return out
}

// ParseMeasures reads several measures and leaves out those that are there
// already; none at all is processor time.
func ParseMeasures(texts []string) ([]Measure, error) {
	var out []Measure
	for _, t := range texts {
		m, err := ParseMeasure(strings.TrimSpace(t))
		if err != nil {
			return nil, err
		}
		known := false
		for _, o := range out {
			known = known || o == m
		}
		if !known {
			out = append(out, m)
		}
	}
	if out == nil {
		out = []Measure{{Kind: MeasureCPU}}
	}
	return out, nil
}

// String returns the measure as it is chosen.
func (m Measure) String() string {
	switch {
	case m.Kind == MeasureAllocations && m.Of != "" && m.Argument > 1:
		return fmt.Sprintf("%s:%s@%d", m.Kind, m.Of, m.Argument)
	case m.Of != "":
		return m.Kind + ":" + m.Of
	}
	return m.Kind
}

// Column is one column of values that a measure has in a take.
type Column struct {
	Name, Unit string
	Counted    bool // every event is in it, so that it has no sampling error
}

// Columns returns the measure's columns: first what it is mostly chosen for.
func (m Measure) Columns() []Column {
	of := ""
	if m.Of != "" {
		of = ":" + m.Of
	}
	switch m.Kind {
	case MeasureCPU:
		return []Column{{"cpu", "ns", false}}
	case MeasureWaiting:
		return []Column{{"waiting", "ns", true}}
	case MeasureSyscalls:
		return []Column{{"syscall-time", "ns", true}, {"syscalls", "count", true}}
	case MeasureDisk:
		return []Column{{"disk-bytes", "bytes", true}, {"disk-requests", "count", true}}
	case MeasureAllocations:
		return []Column{{"allocated" + of, "bytes", true}, {"allocations" + of, "count", true}}
	}
	return []Column{{m.String(), "count", true}}
}

// addTo adds the measure's columns to a profile and returns the first one's number.
func (m Measure) addTo(b *profile.Builder) int {
	first := len(b.Profile().Measures)
	for _, c := range m.Columns() {
		b.Column(profile.Measure{Name: b.Intern(c.Name), Unit: b.Intern(c.Unit), Combine: profile.Sum, Counted: c.Counted})
	}
	return first
}
