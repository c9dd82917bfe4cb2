package symbol

import (
	"strings"

	"entelon/core/profile"
)

// foreignDirs are where sources of others are: what a compiler or a package
// manager brought, and not the program's author.
var foreignDirs = []string{"/usr/include/", "/usr/lib/", "/usr/local/include/", "/rustc/"}

// foreignParts are in the paths of such sources wherever they are.
var foreignParts = []string{"/.cargo/registry/", "/.rustup/toolchains/", "/include/c++/"}

// whose tells whose code a function of the program's own object is. Templates
// and inlined functions of libraries become part of the program, but their
// source does not.
func whose(file string, kind profile.ModuleKind) profile.ModuleKind {
	if kind != profile.KindOwn {
		return kind
	}
	for _, d := range foreignDirs {
		if strings.HasPrefix(file, d) {
			return profile.KindLibrary
		}
	}
	for _, p := range foreignParts {
		if strings.Contains(file, p) {
			return profile.KindLibrary
		}
	}
	return kind
}
