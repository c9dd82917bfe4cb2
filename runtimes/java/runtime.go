package java

import (
	"path"
	"slices"
	"strings"

	"entelon/core/profile"
	"entelon/runtimes/arguments"
)

// Runtime is a Java machine.
type Runtime struct{}

// RuntimeName is that of the runtime.
const RuntimeName = "Java"

// Machine is the library that holds the machine.
const Machine = "libjvm.so"

// Name is what people call it.
func (Runtime) Name() string { return RuntimeName }

// Executable reports whether a file is the program that runs classes.
func (Runtime) Executable(file string) bool { return file == "java" }

// Library reports whether a file is part of the machine.
func (Runtime) Library(file string) bool {
	return slices.Contains([]string{Machine, "libjava.so", "libjli.so"}, file)
}

// Script finds the class, module or file that it will run.
func (Runtime) Script(args []string) (name, file string) {
	withValue := []string{"-cp", "-classpath", "--class-path", "-p", "--module-path", "--add-modules", "--add-opens", "--add-exports", "--add-reads", "--source"}
	first, ok := arguments.First(args, withValue, func(option string, rest []string) bool {
		switch {
		case len(rest) == 0:
		case option == "-m" || option == "--module":
			name = rest[0]
		case option == "-jar":
			file = rest[0]
		}
		return option == "-m" || option == "--module" || option == "-jar" && file != ""
	})
	if ok && path.Ext(first) == ".java" {
		return "", first
	} else if ok {
		return first[strings.LastIndexByte(first, '.')+1:], ""
	}
	return name, file
}

// Launch are the options that keep stacks walkable, and have the machine write down
// what it compiled when it ends.
func (Runtime) Launch(string) []string {
	return []string{"-XX:+PreserveFramePointer", "-XX:+UnlockDiagnosticVMOptions", "-XX:+DumpPerfMapAtExit"}
}

// KindOf says whose code a method is, by its name.
func (Runtime) KindOf(name string) profile.ModuleKind { return KindOf(name) }
