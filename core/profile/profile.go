// Package profile is the data model that every other room works on: who ran
// (processes, threads), what the code is (modules, functions, frames), which
// call stacks were seen (a prefix tree), and the samples themselves.
//
// Everything is kept in columns. A take of ten million samples is a handful
// of integer slices; a stack is one index into a prefix tree in which every
// entry is (parent, frame). Identifiers are indexes into the slices of the
// same Profile and mean nothing outside it. Index 0 of Strings, Modules,
// Functions, Frames and Stacks is reserved: the empty string, the unknown
// module, function and frame, and the root of the prefix tree.
//
// A Profile is a value that many goroutines may read; a Builder belongs to one.
package profile

import "entelon/core/measure"

// Identifiers are positions in the columns of one Profile.
type (
	StringID   uint32
	ModuleID   uint32
	FunctionID uint32
	FrameID    uint32
	StackID    uint32
	ThreadID   uint32
	ProcessID  uint32
	LabelSetID uint32
)

// ModuleKind tells whose code a module holds.
type ModuleKind uint8

// The kinds of module. The order is part of the take file format.
const (
	KindUnknown     ModuleKind = iota // no mapping was known for the address
	KindOwn                           // the program's own executable or the objects beside it
	KindLibrary                       // a shared object, or code of a package that is not the program's
	KindRuntime                       // a language runtime
	KindKernel                        // the kernel and its modules
	KindInterpreter                   // functions of an interpreted program
	KindJIT                           // code made at run time
	KindMark                          // not code: a mark that Entelon put into a stack, such as "cut off"
)

var kindNames = [...]string{"unknown", "own", "library", "runtime", "kernel", "interpreter", "jit", "mark"}

// String returns the kind's name as the API and the interface use it.
func (k ModuleKind) String() string {
	if int(k) < len(kindNames) {
		return kindNames[k]
	}
	return "unknown"
}

// Valid reports whether k is one of the kinds above.
func (k ModuleKind) Valid() bool { return int(k) < len(kindNames) }

// Runs tells how the code of a module of this kind is run: "native",
// "interpreted", or "made at run time". Whose code a function of it is, its own
// kind tells.
func (k ModuleKind) Runs() string {
	switch k {
	case KindInterpreter:
		return "interpreted"
	case KindJIT:
		return "made at run time"
	}
	return "native"
}

// Module is a file, or another thing that holds code, mapped by a process.
type Module struct {
	Path    StringID // as the process saw it; "[kernel]" and the like for what is no file
	BuildID StringID // lower-case hexadecimal, "" where the file has none
	Kind    ModuleKind
}

// Function is one function of one module.
type Function struct {
	Name    StringID // for reading, demangled
	Linkage StringID // the linker's name, "" where it is the same as Name
	Module  ModuleID
	File    StringID // where it is defined, "" if unknown
	Line    uint32   // where it begins, 0 if unknown
	Kind    ModuleKind
	Mark    Mark // what it says, where it is not code
	Entry   bool // a stack that ends here at its outer end is complete
}

// Frame is one entry of a call stack: a place in a function.
type Frame struct {
	Function FunctionID
	Line     uint32 // the line being executed, 0 if unknown
	Address  uint64 // in the module's own address space, 0 if none
	Inlined  bool   // the function was inlined into the frame below it (towards the root)
	Found    Found  // how the walk got here; of an inlined frame, to the frame that it is part of
}

// Found says how the walk of a stack got to a frame.
type Found uint8

// The ways to a frame. The order is part of the take file format.
const (
	FoundUnstated     Found = iota
	FoundCounter            // by the program counter at the moment of the sample
	FoundTables             // by call-frame tables of the function that it called
	FoundFramePointer       // by the frame pointer
	FoundGoTables           // by the Go linker's stack tables of the function that it called
	FoundKernelWalk         // by the kernel's own walk along frame pointers
	FoundSignal             // from the registers that the kernel saved for a signal handler
	FoundTopOfStack         // by a return address on the stack, as the rest of the walk confirmed
	FoundInterpreter        // in the interpreter's own chain of frames, at the moment of the sample
	FoundInstructions       // by what the function's own instructions did to the stack
)

var foundNames = [...]string{"unstated", "counter", "tables", "frame-pointer", "go-tables", "kernel-walk", "signal", "top-of-stack", "interpreter", "instructions"}

// String returns the name as the API and the interface use it.
func (f Found) String() string {
	if int(f) < len(foundNames) {
		return foundNames[f]
	}
	return "unstated"
}

// Valid reports whether f is one of the ways above.
func (f Found) Valid() bool { return int(f) < len(foundNames) }

// Stacks is a prefix tree. Entry i is the stack Parent[i] with Frame[i] called
// from it; Parent[i] < i for every i > 0. Entry 0 is the empty stack.
type Stacks struct {
	Parent []StackID
	Frame  []FrameID
}

// Len returns the number of entries, the empty stack included.
func (s *Stacks) Len() int { return len(s.Parent) }

// LabelSets is a prefix tree of what the program itself said of its work. Entry i
// is the set Parent[i] with the label Name[i], which has Value[i]; Parent[i] < i
// for every i > 0. Entry 0 is the empty set; a profile without labels may lack it. A label further down takes the place
// of one with its name further up.
type LabelSets struct {
	Parent []LabelSetID
	Name   []StringID
	Value  []StringID
}

// Len returns the number of entries, the empty set included.
func (s *LabelSets) Len() int { return len(s.Parent) }

// SpanLabel is the name of the label that says in which span the work is.
const SpanLabel = "span"

// Process is one process that was sampled, under its last name.
type Process struct {
	PID  uint32
	Name StringID
}

// Thread is one thread that was sampled, under its last name, or a goroutine, which one thread
// after another carries.
type Thread struct {
	TID       uint32 // of a goroutine, the number that the runtime gave it
	Process   ProcessID
	Name      StringID
	Goroutine bool
}

// Measure is one thing that every sample carries a value of; a sample that
// was not taken for it has 0.
type Measure struct {
	Name    StringID // "cpu"
	Unit    StringID // "ns", "bytes", "count"
	Combine measure.Combine
	Counted bool           // every event is in it, so that its values have no sampling error
	Time    measure.TimeIs // what its samples' times are
}

// Samples are columns of equal length.
type Samples struct {
	Time   []int64 // nanoseconds since the take began, or nil in a folded profile
	Thread []ThreadID
	Stack  []StackID
	Labels []LabelSetID // nil where no sample has any
	Values [][]int64    // one column a measure, each as long as Stack
}

// Len returns the number of samples.
func (s *Samples) Len() int { return len(s.Stack) }

// Profile is the whole of what was seen.
type Profile struct {
	Strings   []string
	Modules   []Module
	Functions []Function
	Frames    []Frame
	Stacks    Stacks
	Processes []Process
	Threads   []Thread
	Measures  []Measure
	LabelSets LabelSets
	Samples   Samples
	Intervals Intervals

	measuresOfEvents []Measure // of a profile whose samples are intervals, where those have none
}

// String returns the text of an identifier.
func (p *Profile) String(id StringID) string { return p.Strings[id] }

// FunctionName returns the name for reading of a function.
func (p *Profile) FunctionName(id FunctionID) string { return p.Strings[p.Functions[id].Name] }

// HasFunction reports whether there is a function of a name for reading.
func (p *Profile) HasFunction(name string) bool {
	for i := range p.Functions {
		if i > 0 && p.FunctionName(FunctionID(i)) == name {
			return true
		}
	}
	return false
}

// ModulePath returns the path of the module that holds a function.
func (p *Profile) ModulePath(id FunctionID) string {
	return p.Strings[p.Modules[p.Functions[id].Module].Path]
}

// FunctionOf returns the function at the inner end of a stack.
func (p *Profile) FunctionOf(s StackID) FunctionID { return p.Frames[p.Stacks.Frame[s]].Function }

// Span returns the times of the first and the last sample in nanoseconds
// since the take began; both are 0 where there are none.
func (p *Profile) Span() (first, last int64) {
	for i, t := range p.Samples.Time {
		if i == 0 || t < first {
			first = t
		}
		if i == 0 || t > last {
			last = t
		}
	}
	return first, last
}

// Walk calls visit for every frame of a stack, the inner end first.
func (p *Profile) Walk(s StackID, visit func(FrameID)) {
	for ; s != 0; s = p.Stacks.Parent[s] {
		visit(p.Stacks.Frame[s])
	}
}
