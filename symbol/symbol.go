// Package symbol turns addresses into the functions, files and lines that a
// program's author wrote. It reads what compilers and linkers leave in an
// object: ELF symbol tables, the function tables of Go, DWARF line tables and
// the kernel's own list. Files are read when the first address in them is
// asked for, never before.
//
// An Object belongs to one goroutine at a time, but that Prepare may run beside it, which
// the others wait for; a lock guards what it says is missing. A Cache and a Finder may be
// used by many.
package symbol

import "entelon/symbol/location"

// Location is one function that is active at an address.
type Location = location.Location

// entryNames are functions that the kernel, the loader or a runtime starts a
// process or a thread in. A stack whose outer end is one of them is complete.
var entryNames = map[string]bool{
	"_start": true, "__libc_start_main": true, "__libc_start_main_impl": true, "__libc_start_call_main": true,
	"start_thread": true, "clone": true, "__clone": true, "clone3": true, "__clone3": true, "__clone_internal": true,
	"_dl_start": true, "_dl_start_user": true, "_rt0_amd64_linux": true,
	"runtime.goexit": true, "runtime.rt0_go": true, "runtime.mstart": true, "runtime.mstart0": true,
	"runtime.mstart1": true, "runtime.mcall": true,
}
