// Package capture collects takes: it starts or attaches to a process, lets the kernel
// interrupt it many times a second, and turns what the kernel writes down into a
// profile while it runs.
//
// A sample's way: the kernel puts it into the ring of the processor on which it was
// taken; package rings drains these many times a second, puts the records of all into the
// order of time and hands them on as raw records; package pairing takes each for what it
// stands for; package resolve walks its stack and names its frames, asking package
// programs for what the records do not tell; and what the profile has gained goes to the
// Sink once a second.
//
// A sample carries the registers and a copy of the top of the stack, which package
// unwind walks by call-frame tables, and the kernel's own walk along frame pointers,
// which serves where the copy ends.
//
// A session is prepared and concluded by the goroutine that called Collect. While it runs,
// the consumer's goroutine owns the resolver, the profile and the facts; no lock guards
// them.
package capture

import (
	"errors"
	"io"
	"time"

	"entelon/capture/follow"
	"entelon/capture/launch"
	"entelon/capture/pairing"
	"entelon/capture/told"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/linux"
	"entelon/symbol"
)

// The ways to walk stacks, as they stand in the settings of a take.
const (
	UnwindTables        = "tables"
	UnwindFramePointers = "frame pointers"
)

// Version is Entelon's own, set when it is built.
var Version = "dev"

// Options say what to collect.
type Options struct {
	Settings profile.Settings
	Stdin    io.Reader // a launched command's streams; files are handed on as they are
	Stdout   io.Writer
	Stderr   io.Writer
	Progress func(Progress)                 // called a few times a second; may be nil
	Notice   func(string)                   // told, before the command begins, what was set for its runtime; may be nil
	Bare     *profile.Bare                  // how the command ran without being sampled; nil: it was not run
	Work     func() float64                 // the units of work that the program did, asked at the end; may be nil
	Told     func(ended bool) told.Received // what programs told of themselves meanwhile, asked at the end: whether they have ended; may be nil
	Tied     bool                           // a launched command is asked to end when this process is killed
	Given    []string                       // variables that a launched command gets, and the take does not keep
	Clean    bool                           // a launched command gets the environment of a login and a session of its own
	// Every is how long the windows of a long collection are; 0: there are none, and all
	// goes to the sink. Each window is handed to Window, and an error from that ends the
	// collection.
	Every  time.Duration
	Window func(pairing.Window) error
	Finder *symbol.Finder // for separate debug files; nil: none are used
}

// Launching is how the options have a command started.
func (o Options) Launching() launch.Options {
	return launch.Options{Settings: o.Settings, Stdin: o.Stdin, Stdout: o.Stdout, Stderr: o.Stderr, Tied: o.Tied, Clean: o.Clean, Given: o.Given}
}

// Progress is the state of a collection that is running.
type Progress struct {
	Elapsed time.Duration
	Samples int64
	Lost    int64
}

// Result is a finished collection.
type Result struct {
	Take    *profile.Take
	SinkErr error // why the sink ended the collection, nil if it did not
	CPUNS   int64 // of a launched command that ended, with the children that it waited for
	// Wait blocks until a launched command has ended and returns its exit
	// code; it returns 0 at once where a process was attached to.
	Wait func() int
	// Signal hands a signal on to a launched command.
	Signal func(sig int)
}

// The events that can trigger a sample of processor time, as they stand in the
// settings of a take.
const (
	EventClock       = profile.EventClock
	EventThreadClock = profile.EventThreadClock
	EventCycles      = profile.EventCycles
)

// Errors that Collect returns, wrapped with what was being done. Remedy tells
// what can be done about one.
var (
	ErrUnsupported = linux.ErrUnsupported
	ErrNotAllowed  = linux.ErrNotAllowed
	ErrNoProcess   = linux.ErrNoProcess
	ErrFiles       = linux.ErrFiles
	ErrUnwind      = errors.New("there is no such way to unwind stacks")
	ErrStackBytes  = errors.New("that much of a stack cannot be copied")
	ErrNoCycles    = linux.ErrNoCycles
	ErrRate        = linux.ErrRate
	ErrNoFunction  = follow.ErrNoFunction
	ErrProbe       = linux.ErrProbe
)

// Remedy is one sentence on what can be done about an error of Collect, or "".
func Remedy(err error) string {
	switch {
	case errors.Is(err, ErrNotAllowed):
		return "run as root, or ask the administrator for: sysctl kernel.perf_event_paranoid=1"
	case errors.Is(err, ErrNoProcess):
		return "it may have ended; look it up again and give the number of a running one"
	case errors.Is(err, launch.ErrNoCommand):
		return "give its path, or a name that PATH holds"
	case errors.Is(err, launch.ErrNoDir):
		return "give a directory that exists with --dir"
	case errors.Is(err, ErrFiles):
		return "raise the limit, for example with: ulimit -n 100000"
	case errors.Is(err, ErrUnwind):
		return "choose \"" + UnwindTables + "\" or \"" + UnwindFramePointers + "\""
	case errors.Is(err, ErrStackBytes):
		return "choose from 512 bytes to 62 KiB"
	case errors.Is(err, ErrNoFunction):
		return "look its name up with: entelon hot FILE --full"
	case errors.Is(err, measure.ErrUnknown):
		return "entelon take --help lists the measures"
	case errors.Is(err, ErrNoCycles):
		return "sample by the clock, with --event cpu-clock or without --event"
	case errors.Is(err, linux.ErrKernelThread), errors.Is(err, linux.ErrProtected):
		return "sample the whole machine, with --machine, and look at its process there"
	case errors.Is(err, linux.ErrEnded):
		return "give the ID of a running process"
	case errors.Is(err, ErrRate):
		return "give a lower --rate, or raise the limit: sysctl kernel.perf_event_max_sample_rate"
	}
	return ""
}
