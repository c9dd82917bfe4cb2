package rings

import (
	"github.com/cilium/ebpf"
	"golang.org/x/sys/unix"

	"entelon/linux/bpf"
	"entelon/linux/tracefs"
)

// Role says what a sample of an event stands for.
type Role uint8

// What samples stand for.
const (
	RoleCount   Role = iota // as much of its column as the event's period says
	RoleSwitch              // a thread leaves the processor
	RoleWake                // a thread may run again
	RoleEnter               // a system call begins
	RoleLeave               // and ends
	RoleDisk                // a request to a disk
	RoleCall                // a call of a function, one of whose arguments may be a size
	RoleSpan                // a function is called, and returns
	RolePark                // a goroutine waits
	RoleReadied             // another one lets it go on
	RoleWritten             // what programs say that write samples themselves: of another event without one of its own
)

// Event is one event that is opened on every thread, with what its samples
// mean.
type Event struct {
	Attr   *unix.PerfEventAttr // nil: programs see to it, and its samples come by RoleWritten
	Role   Role
	Column int  // of the profile, the measure's first
	Clock  bool // its samples stand for processor time
	Timed  bool // its count is processor time, of those who are sampled
	// Processors: it is opened once for each processor, whoever runs there; a kernel
	// program keeps the samples of those who are sampled.
	Processors bool
	Cycles     bool // its count is cycles, and the time that it ran is processor time
	Raw        bool // the tracepoint's own record comes with the sample
	Copied     bool // registers and a copy of the stack come with it
	Reader     bool // the kernel program that reads other stacks runs with it
	Point      tracefs.Tracepoint
	// Of a call: which arguments are multiplied to the size, counted from 1; of
	// none, only calls are counted.
	Size      []int
	Arguments []Argument // of a call, those that are kept with it
	// Allocator: of the C library, whose functions call each other
	Allocator bool
	Program   *ebpf.Program // runs with each event of a tracepoint or a probe, whoever's; nil: none
	Handler   *ebpf.Program // runs with each sample of another event, instead of the reader; nil: none
	Tallied   bool          // the programs add it up; its samples are some of its events
	Spans     *Spans        // of functions that are followed from their beginning to their end
	Routines  *Routines     // of goroutines
	Samples   *ebpf.Map     // where its files go, by processor, since the programs write its samples; nil: they do not
}

// Argument is an argument of a function, with the register that it is in when that is called, by its
// number in DWARF.
type Argument struct {
	Name     string
	Register int
}

// Counts reports whether its samples are counted events, and not ticks of a clock.
func (x *Event) Counts() bool { return !x.Clock && !x.Timed }

// Beside reports whether its samples say more of those of another event, and are none themselves.
func (x *Event) Beside() bool {
	return x.Wakes() || x.Role == RoleLeave || x.Role == RoleWritten
}

// Wakes reports whether its samples say who ended waits.
func (x *Event) Wakes() bool { return x.Role == RoleWake || x.Role == RoleReadied }

// Spans are functions of a file, or what is between its static probes, followed from their beginning to
// their end.
type Spans struct {
	Path         string
	Names        []string // by number
	Begins, Ends []bpf.SpanPoint
	Pairs        bool // they are not functions, but pairs of static probes
}

// Routines are where a file's runtime lets goroutines wait and run.
type Routines struct {
	Path   string
	Points bpf.RoutinePoints
}

// Bare reports whether nothing but the tracepoint's own record comes with its samples.
func (x *Event) Bare() bool { return x.Beside() && !x.Tallied }
