// Package location has what an address means to a reader: the functions that are active
// there, with file and line, and their names as their author wrote them. All who read
// symbols, in whatever form, say it in this form.
//
// They are values.
package location

import "entelon/core/profile"

// Location is one function that is active at an address. Where functions are
// inlined, one address has several, the innermost first.
type Location struct {
	Name     string // for reading, demangled
	Linkage  string // the linker's name, "" where it is the same
	File     string // where the function is defined, "" if unknown
	Line     uint32 // the line being executed, 0 if unknown
	Start    uint32 // the line where the function begins, 0 if unknown
	Inlined  bool   // inlined into the next Location
	Unnamed  bool   // Name is module and offset because no table names the address
	Entry    bool   // nothing of the program called this function
	Kind     profile.ModuleKind
	Function uint64 // address where the function begins, 0 if unknown
}
