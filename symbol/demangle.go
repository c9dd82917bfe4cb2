package symbol

import (
	"strings"

	"github.com/ianlancetaylor/demangle"
)

// demangled returns a C++ or Rust name as its author wrote it, without the
// return type and the hash that the Rust compiler adds; other names come
// back unchanged.
func demangled(name string) string {
	if !strings.HasPrefix(name, "_Z") && !strings.HasPrefix(name, "_R") && !strings.HasPrefix(name, "__Z") {
		return name
	}
	return demangle.Filter(name, demangle.NoClones)
}

// names returns a linker's name for reading, and the linker's name where that
// is another one.
func names(linkage string) (name, kept string) {
	name = demangled(linkage)
	if function, is := strings.CutSuffix(linkage, stubSuffix); is {
		name = demangled(function) + stubSuffix
	}
	if name == linkage {
		return name, ""
	}
	return name, linkage
}
