// Package raw holds what a source of samples hands over, as values: samples of threads
// before anything in them has a name, and what became of processes in between. A value
// can be written to a file and read again, and says the same on any machine.
//
// Slices in a Record may be the source's own memory: they are good until the source
// is asked for the next one.
package raw

import "entelon/unwind"

// Kind says what a record tells.
type Kind uint8

// The kinds of records.
const (
	Sampled     Kind = iota + 1 // Sample is set
	Mapped                      // a process has mapped code: Mapping is set
	Renamed                     // a thread, or by its first thread a process, has a name: Name is set
	Started                     // a thread or a process began: Parent is set
	Ended                       // a thread ended
	CodeRead                    // an interpreter's code object was read: Code is set
	SwitchedOut                 // a thread left the processor; Preempted where it could have gone on
	SwitchedIn                  // a thread came back
	SamplesLost                 // Count samples did not get here
	Throttled                   // the kernel made a pause, since sampling took too much time
	Tallied                     // Tally is all that was added up of a class so far; where Last, it stays at that
	GoingOn                     // Tally is what goes on in a thread when the collection ends: how long so far
	Passed                      // Interval is a wait, a system call or a span that has ended
	Scheduled                   // Routine is what came of a goroutine
	Happened                    // Happening is an event that was written down by itself
	Filed                       // File is what a number stands for from here on
	Labelled                    // Doing is what a goroutine does from here on
)

// Record is one thing that happened at a time.
type Record struct {
	Kind Kind
	PID  uint32 // the process
	TID  uint32 // the thread
	Time uint64 // monotonic, in nanoseconds

	Event     int     // of a sample: which of its source's events it comes from
	Kernel    bool    // of a sample: the kernel was interrupted, not the program
	Sample    *Sample // of a sample
	Mapping   *Mapping
	Name      string // the new one
	Exec      bool   // it has the name since another program has taken its place
	Parent    Parent
	Code      *Code
	Preempted bool
	Count     int64
	Tally     *Tally
	Last      bool
	Interval  *Interval
	Routine   *Routine
	Happening *Happening
	File      *File
	Doing     *Doing
}

// Parent is the thread that started another one.
type Parent struct{ PID, TID uint32 }

// Mapping is executable code in a process's memory.
type Mapping struct {
	Start, End   uint64
	Offset       uint64 // in the file
	Inode        uint64 // of the file, 0 where it is none or not known
	Major, Minor uint32 // of its device
	Name         string // as the kernel has it
}

// Class is a class of events that the source adds up itself, since they may come faster
// than it can hand them over: those of one thread that are mostly of one stack.
type Class struct {
	PID, TID uint32
	Event    int    // which of the source's events
	IP, SP   uint64 // where the program was, and its stack
	Caller   uint64 // of a function that is called, where it returns to
	What     uint32 // number of a system call, kind of a request to a disk, hash of the kernel's stack of a wait
	Before   bool   // it began before the collection did
	Coarse   bool   // all of the thread and the kind for which there was no room in classes of their own
}

// Tally is what was added up of a class since the collection began.
type Tally struct {
	Class Class
	Count int64
	Sum   int64 // bytes or nanoseconds, of events that have any
	Run   int64 // of waits, nanoseconds that were waited for a processor: Sum is the rest
}

// Interval is a wait or a system call, from its beginning to its end, of a class that the
// source adds up. Times are monotonic nanoseconds.
type Interval struct {
	Class      Class
	Begin, End uint64
	Woken      uint64 // of a wait: from when on the thread waited for a processor, within Begin and End
	Result     int64  // of a call: what it returned,
	Returned   bool   // if it did: the last one of a thread does not
	Processor  uint32 // on which the thread went on
	Waker      Class  // of a wait: who woke the thread, as a class of its own;
	HasWaker   bool   // it is known
	Open       bool   // it goes on when the collection ends: the processor is not known
	Goroutine  uint64 // of a span, whose it is; 0: the thread's own
	File       uint64 // of a call, the number of what it was about; 0: nothing, or not known
}

// Happening is an event that was written down by itself, of a class that the source adds up. Times are
// monotonic nanoseconds.
type Happening struct {
	Class      Class
	Begin, End uint64
	Amount     int64  // bytes, where its measure is of those
	About      uint64 // the number of a file, or a disk's device; 0: nothing
	Address    uint64 // in the program's memory; 0: none
	Part       string // of the memory, which that is in, where it is of no file; "": not known
	Processor  uint32
	Arguments  []uint64 // of a function, those that its event asks for, in that order
	Data       []byte   // of a tracepoint, its own record
}

// Doing is what a goroutine does, as its program says.
type Doing struct {
	Goroutine uint64
	Name      string // "": nothing that has a name
}

// File is what a descriptor stands for.
type File struct {
	Number uint64
	Name   string // a path, or who is at the other end
	Sort   string // "file", "folder", "socket", "pipe", "device"
}

// Routine is what came of a goroutine since a thread took it up: that carried it, and then it waited,
// or was put aside for another one. Times are monotonic nanoseconds.
type Routine struct {
	Number  uint64
	Carrier uint32   // the thread
	Carried uint64   // since when it carried it; 0: none did
	Left    uint64   // since when it carried another one, though the goroutine could have gone on; 0: it did not
	Wait    Interval // Begin is 0 where it did not wait; its waker is the thread that carried who ended it
	By      uint64   // the goroutine that ended the wait; 0: the runtime itself did
}

// Sample is what was known of a thread at one moment.
type Sample struct {
	Period uint64 // how much of what its event counts it stands for
	Ran    uint64 // for how long the thread has run since its sample before, in nanoseconds, where the event tells
	Data   []byte // the event's own record, where it has one

	Tally *Tally // where the source adds up the sample's event: all of its class before it

	Kernel []uint64 // addresses in the kernel, the innermost first; all but the first are where a call returns to
	Chain  []uint64 // of the program, as the kernel followed its frame pointers; likewise

	Copied    bool // registers and memory were asked for
	Known     bool // the registers are there
	Registers unwind.Registers
	Memory    unwind.Memory // windows of the stack; the first begins at the stack pointer
	Full      bool          // the first window is as long as was asked for
	Go        unwind.GoStacks
	Labels    []Label
	Labelled  int      // how many labels the thread has; there may be more than Labels
	Python    []Frames // of CPython, by state of a thread; one state may have several in a row
}

// Label is a name with a text that a program has set on what it does. Texts may be cut:
// lengths are those in the program's memory.
type Label struct {
	Name, Text             []byte
	NameLength, TextLength uint64
}

// Frames are frames of CPython as they lay in memory.
type Frames struct {
	State   uint64 // address of the interpreter's state of the thread
	More    bool   // the chain goes on beyond them
	Entries []byte // see package runtimes/python
}

// Code is a code object of CPython as it lay in memory. The first four tell it from
// others that have its address after it.
type Code struct {
	Address, Filename, Qualname, LineTable uint64
	FirstLine                              uint32
	Bytes                                  []byte // its name, its file and its table of lines
}
