package measure

// Subject is what a measure may be of.
type Subject uint8

// The subjects.
const (
	OfNothing     Subject = iota
	OfAnAllocator         // a function and which of its arguments is the size; or nothing, for the C library's
	OfATracepoint         // GROUP:NAME
	OfAFunction
	OfAProbe // PROVIDER:NAME, of which either may have a *
)

// Way is how a measure is counted.
type Way uint8

// The ways.
const (
	ByClock       Way = iota // the processor is interrupted at a rate
	BySoftware               // each time that the kernel's software event Event happens
	ByTracepoint             // each time that the tracepoint Event is passed, or the one that the measure is of
	BySwitches               // from leaving the processor to coming back to it
	BySystemCalls            // from entering the kernel to leaving it
	ByDisk                   // at each request to a disk
	ByCalls                  // at each call of a function
	ByReturns                // from each call of a function to its return
	ByGoroutines             // from a goroutine's leaving its thread to another thread's taking it up
)

// Kind is a row of the table.
type Kind struct {
	Word  string // that chooses it: "-m cpu"
	Title string // for a chooser: "CPU time"
	Of    Subject
	Means string // whole sentences
	Cost  string // of one sample or event
	Note  string // what is counted and what that costs, for a chooser
	Way   Way
	Event string // that Way names

	Columns []ColumnRow // that a take gets, first what it is mostly chosen for
}

// Words that code refers to.
const (
	CPU         = "cpu"
	Waiting     = "waiting"
	Faults      = "faults"
	Syscalls    = "syscalls"
	Disk        = "disk"
	Allocations = "allocations"
	Tracepoint  = "tracepoint"
	Function    = "function"
	Span        = "span"
	Probe       = "probe"
	Goroutines  = "goroutines"
)

// Kinds is the table.
var Kinds = []Kind{
	{
		Word: CPU, Title: "CPU time", Way: ByClock,
		Means:   "Processor time: the program is interrupted many times a second, and each sample stands for the time since the one before.",
		Cost:    "about 10 µs a sample",
		Note:    "samples, about 10 µs each",
		Columns: []ColumnRow{{Column: Column{Name: "cpu", Label: "CPU time", Unit: Nanoseconds, Time: End}}},
	},
	{
		Word: Waiting, Title: "Waiting", Way: BySwitches,
		Means:   "Time off the processor, from being switched out to being switched in, under the stack that waited, split by what it waited for: a lock, the disk, the network, a timer, input, another process, or a processor that was taken. Every wait is measured.",
		Cost:    "about 3 µs a wait, and 5 µs more for each with a sample of its own",
		Note:    "every wait, about 3 µs each",
		Columns: []ColumnRow{{Column: Column{Name: "waiting", Label: "waiting time", Unit: Nanoseconds, Counted: true, Time: Beginning}}},
	},
	{
		Word: Syscalls, Title: "System calls", Way: BySystemCalls,
		Means: "System calls by name, with the time from entering the kernel to leaving it, waiting included. Every call is measured.",
		Cost:  "about 1.5 µs a call, and 5 µs more for each with a sample of its own",
		Note:  "every call, about 1.5 µs each",
		Columns: []ColumnRow{
			{Column: Column{Name: "syscall-time", Label: "time in system calls", Unit: Nanoseconds, Counted: true, Time: Beginning}},
			{Column: Column{Name: "syscalls", Label: "system calls", Unit: Count, Counted: true, Time: Beginning}},
		},
	},
	{
		Word: Faults, Title: "Page faults", Way: BySoftware, Event: "page-faults",
		Means:   "Page faults: touching memory that the kernel had to provide first. Every fault is counted.",
		Cost:    "about 3 µs a fault, under 1 µs where they come fast",
		Note:    "every fault, about 3 µs each",
		Columns: []ColumnRow{{Column: Column{Name: "faults", Label: "page faults", Unit: Count, Counted: true}}},
	},
	{
		Word: Disk, Title: "Disk requests", Way: ByDisk,
		Means: "Requests to disks that the program itself makes, with their size. What the kernel writes later, or reads ahead by itself, is not the program's.",
		Cost:  "about 5 µs a request, under 1 µs where they come fast",
		Note:  "about 5 µs each",
		Columns: []ColumnRow{
			{Column: Column{Name: "disk-bytes", Label: "bytes to and from disks", Unit: Bytes, Counted: true}},
			{Column: Column{Name: "disk-requests", Label: "requests to disks", Unit: Count, Counted: true}},
		},
	},
	{
		Word: Allocations, Title: "Allocations", Of: OfAnAllocator, Way: ByCalls,
		Means: "Calls of the C library's allocator and the bytes that they ask for; or of the program's function FUNCTION, whose argument number N (1 if not given) is the size. Every call is counted.",
		Cost:  "about 5 µs a call, under 1 µs where they come fast",
		Note:  "C library, about 5 µs each",
		Columns: []ColumnRow{
			{Column: Column{Name: "allocated", Label: "allocated bytes", Unit: Bytes, Counted: true}},
			{Column: Column{Name: "allocations", Label: "allocations", Unit: Count, Counted: true}},
		},
	},
	{
		Word: Tracepoint, Title: "Tracepoint", Of: OfATracepoint, Way: ByTracepoint,
		Means:   "A kernel tracepoint, each time that the program passes it.",
		Cost:    "about 5 µs each, under 1 µs where they come fast",
		Note:    "every pass, about 5 µs each",
		Columns: []ColumnRow{{Column: Column{Name: "tracepoint", Label: "passes", Unit: Count, Counted: true}, LabelOf: "passes of"}},
	},
	{
		Word: Function, Title: "Calls of a function", Of: OfAFunction, Way: ByCalls,
		Means:   "Calls of a function of the program or of a library, with the stack of each.",
		Cost:    "about 5 µs a call, under 1 µs where they come fast",
		Note:    "every call, about 5 µs each",
		Columns: []ColumnRow{{Column: Column{Name: "function", Label: "calls", Unit: Count, Counted: true}, LabelOf: "calls of"}},
	},
	{
		Word: Span, Title: "Spans of a function", Of: OfAFunction, Way: ByReturns,
		Means: "Calls of a function from beginning to end, waiting included, each with its times: Go, C, C++ and Rust, with nothing built in. In Go they belong to the goroutine. A * in the name stands for anything. Every call is measured.",
		Cost:  "about 15 µs a call",
		Note:  "every call, about 15 µs each",
		Columns: []ColumnRow{
			{Column: Column{Name: "span-time", Label: "time in spans", Unit: Nanoseconds, Counted: true, Time: Beginning}, LabelOf: "time in"},
			{Column: Column{Name: "spans", Label: "spans", Unit: Count, Counted: true, Time: Beginning}, LabelOf: "spans of"},
		},
	},
	{
		Word: Probe, Title: "Static probes", Of: OfAProbe, Way: ByReturns,
		Means: "What a program or a library says of its own work by static probes, which it describes in a note of its file: from a probe whose name ends in start, begin, entry or enter to the one of the same name that ends in done, end, return, exit, stop or finish. NAME is what comes before that; a * stands for anything. Every pair is measured.",
		Cost:  "about 15 µs a pair",
		Note:  "every pair, about 15 µs each",
		Columns: []ColumnRow{
			{Column: Column{Name: "probe-time", Label: "time between probes", Unit: Nanoseconds, Counted: true, Time: Beginning}, LabelOf: "time in"},
			{Column: Column{Name: "probes", Label: "pairs of probes", Unit: Count, Counted: true, Time: Beginning}, LabelOf: "spans of"},
		},
	},
	{
		Word: Goroutines, Title: "Goroutines", Way: ByGoroutines,
		Means:   "Time in which goroutines wait, by what for, under the stack that waited, with who ended it: locks, channels, timers and the network, which no thread shows, since it runs other goroutines meanwhile. In Lanes each goroutine has a lane, and what a program names by its label span is a span. Every wait is measured.",
		Cost:    "about 8 µs a wait",
		Note:    "Go programs, every wait, about 8 µs each",
		Columns: []ColumnRow{{Column: Column{Name: "parked", Label: "time goroutines wait", Unit: Nanoseconds, Counted: true, Time: Beginning}}},
	},
}

// Form is how the measure is written.
func (k Kind) Form() string {
	switch k.Of {
	case OfAnAllocator:
		return k.Word + "[:FUNCTION[@N]]"
	case OfATracepoint:
		return k.Word + ":GROUP:NAME"
	case OfAProbe:
		return k.Word + ":PROVIDER:NAME"
	case OfAFunction:
		return k.Word + ":NAME"
	}
	return k.Word
}

// Units are those of the kind's columns, in words: "s and count".
func (k Kind) Units() string {
	text := ""
	for i, c := range k.Columns {
		if i > 0 {
			text += " and "
		}
		if c.Unit == Nanoseconds {
			text += "s"
		} else {
			text += c.Unit
		}
	}
	return text
}

// takes reports whether the measure can be of this; "" is nothing.
func (k Kind) takes(of string) bool {
	switch k.Of {
	case OfNothing:
		return of == ""
	case OfAnAllocator:
		return true
	}
	return of != ""
}
