package resolve

import (
	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/runtimes/python"
	"entelon/symbol"
	"entelon/symbol/instructions"
	"entelon/symbol/jit"
	"entelon/unwind"
)

// World answers what raw records do not tell: what is in the files that processes have
// mapped, and what the system knows of those that no record announced. Package
// capture/programs has that of a running machine, package resolve/replay a recorded one.
type World interface {
	// Mappings are those of a process that is running, none where it has ended.
	Mappings(pid uint32) []raw.Mapping
	// ThreadName is how the system names a thread, "" where it has ended.
	ThreadName(pid, tid uint32) string
	// Module is what a process has just mapped. It is asked for each once.
	Module(pid uint32, m *raw.Mapping) Module
	// Leave lets go of a module that nobody has mapped any more.
	Leave(Module)
	// Kernel names an address of the kernel, and the part of the kernel that it is in.
	Kernel(address uint64) (l symbol.Location, module string)
	// MadeCode is the code that a process makes at run time; asks says that its
	// runtime has to be asked for the names.
	MadeCode(pid uint32, asks bool) MadeCode
	// Memory reads so much of a process's memory, less where no more is there.
	Memory(pid uint32, address uint64, n int) []byte
}

// Module is a file, or another thing that holds code, which all processes share that
// have mapped it.
type Module interface {
	Name() string
	Kind() profile.ModuleKind
	BuildID() string
	// Readable reports whether the rest can be had; where not, only Name and Kind are
	// of use.
	Readable() bool
	// Address is where a place in the file is in the module's own address space.
	Address(offset uint64) (address uint64, ok bool)
	// Locate names an address of that, the innermost of inlined functions first.
	Locate(address uint64) []symbol.Location
	// Table is for walking stacks, nil where it has none.
	Table() *unwind.Table
	// Instructions is its machine code, for walking where there is no table; nil where it
	// cannot be had.
	Instructions() *instructions.Code
	// Go is where the Go runtime keeps what belongs to a thread, nil where it is none.
	Go() *symbol.GoRuntime
	// Python is the interpreter CPython, nil where it is none.
	Python() *python.Interpreter
	// Coming reports whether its names are on their way, Await waits for them.
	Coming() bool
	Await()
}

// MadeCode names code that a process has made at run time.
type MadeCode interface {
	// Find returns the name of what was at an address at a time, and where it began.
	Find(address, at uint64) (name string, start uint64, ok bool)
	// Coming reports whether the names of a time are on their way, Await waits for them.
	Coming(at uint64) bool
	Await(at uint64)
	// SourceMap is that of a script, nil where it has none.
	SourceMap(script string) *jit.SourceMap
	// Leave ends it when the process has ended, or another program has taken its place.
	Leave()
}
