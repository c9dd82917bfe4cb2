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

// Sample is what was known of a thread at one moment.
type Sample struct {
	Period uint64 // how much of what its event counts it stands for
	Ran    uint64 // for how long the thread has run since its sample before, in nanoseconds, where the event tells
	Data   []byte // the event's own record, where it has one

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
