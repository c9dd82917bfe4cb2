// Package runtimes tells programs that a language runtime runs from others: which file
// is a runtime's, which script it was told to run, what it has to be started with so
// that its functions have names. Each runtime is a folder below, behind one interface.
//
// Nothing here holds anything; all may be called by many goroutines.
package runtimes

import (
	"entelon/core/profile"
	"entelon/runtimes/erlang"
	"entelon/runtimes/java"
	"entelon/runtimes/node"
	"entelon/runtimes/python"
)

// Runtime is a language runtime.
type Runtime interface {
	// Name is what people call it.
	Name() string
	// Executable reports whether a file of this name, without its folder, is the
	// program that runs others.
	Executable(file string) bool
	// Library reports whether a file of this name holds code of the runtime besides.
	Library(file string) bool
	// Script finds in the arguments of the executable what it will run: the name of a
	// module or class, or a file; neither where it is not known.
	Script(args []string) (name, file string)
	// Launch are the options without which its functions have no names or its stacks
	// cannot be walked; a word that is no option is the value of the one before it. log
	// is a file for what these make it write.
	Launch(log string) []string
	// KindOf says whose code a function is, by what the runtime calls it: its file, or
	// the function itself.
	KindOf(name string) profile.ModuleKind
}

// All are the runtimes that are known.
var All = []Runtime{python.Runtime{}, node.Runtime{}, java.Runtime{}, erlang.Runtime{}}

// Of returns the runtime whose executable has a name; nil where there is none.
func Of(file string) Runtime {
	for _, r := range All {
		if r.Executable(file) {
			return r
		}
	}
	return nil
}

// Holding returns the runtime that a file of a name holds, as its executable or a
// library; nil where there is none.
func Holding(file string) Runtime {
	for _, r := range All {
		if r.Executable(file) || r.Library(file) {
			return r
		}
	}
	return nil
}
