// Package node knows how Node.js is started, what it runs, and whose code a script is.
//
// It holds nothing.
package node

import (
	"path"
	"strings"

	"entelon/core/profile"
	"entelon/runtimes/arguments"
)

// Runtime is Node.js.
type Runtime struct{}

// Name is that of the runtime.
const Name = "Node.js"

// Name is what people call it.
func (Runtime) Name() string { return Name }

// Executable reports whether a file is the program that runs scripts.
func (Runtime) Executable(file string) bool { return file == "node" || file == "nodejs" }

// Library reports whether a file is the runtime as a library.
func (Runtime) Library(file string) bool {
	ok, err := path.Match("libnode.so*", file)
	return ok && err == nil
}

// Script finds the file that it will run.
func (Runtime) Script(args []string) (name, file string) {
	file, _ = arguments.First(args, []string{"-r", "--require", "--import", "--loader", "-C", "--conditions", "--env-file"}, func(option string, _ []string) bool {
		return option == "-e" || option == "--eval" || option == "-p"
	})
	return "", file
}

// Named are the options that give functions names and let their stacks be walked.
var Named = []string{"--perf-basic-prof", "--interpreted-frames-native-stack"}

// Launch are Named, and those that keep what these make it write beside its map out of
// the current folder.
func (Runtime) Launch(log string) []string {
	return append(Named[:len(Named):len(Named)], "--no-logfile-per-isolate", "--logfile="+log)
}

// KindOf says whose code a script holds, by its file.
func (Runtime) KindOf(file string) profile.ModuleKind {
	switch {
	case strings.HasPrefix(file, "node:"), strings.HasPrefix(file, "internal/"):
		return profile.KindRuntime
	case strings.Contains(file, "/node_modules/"):
		return profile.KindLibrary
	}
	return profile.KindOwn
}
