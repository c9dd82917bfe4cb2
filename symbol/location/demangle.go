package location

import (
	"strings"

	"github.com/ianlancetaylor/demangle"
)

// Demangled returns a C++ or Rust name as its author wrote it, without the
// return type and the hash that the Rust compiler adds; other names come
// back unchanged.
func Demangled(name string) string {
	if !strings.HasPrefix(name, "_Z") && !strings.HasPrefix(name, "_R") && !strings.HasPrefix(name, "__Z") {
		return name
	}
	return demangle.Filter(name, demangle.NoClones)
}

// Names returns a linker's name for reading, and the linker's name where that
// is another one.
func Names(linkage string) (name, kept string) {
	name = Demangled(linkage)
	if function, is := strings.CutSuffix(linkage, StubSuffix); is {
		name = Demangled(function) + StubSuffix
	}
	if name == linkage {
		return name, ""
	}
	return name, linkage
}

// StubSuffix is behind the names of stubs. A program calls a function of another file through a stub: a jump to the address
// that the dynamic linker wrote into a slot. Stubs have no symbols of their own; a
// stub's name is that of the function whose relocation is at its slot, with this
// behind it, as disassemblers write it.
const StubSuffix = "@plt"
