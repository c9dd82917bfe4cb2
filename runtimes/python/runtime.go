package python

import (
	"path"

	"entelon/core/profile"
	"entelon/runtimes/arguments"
)

// Runtime is CPython.
type Runtime struct{}

// Name is what people call it.
func (Runtime) Name() string { return Name }

// Name is that of the runtime.
const Name = "CPython"

// Executable reports whether a file is the interpreter.
func (Runtime) Executable(file string) bool {
	return named(file, "python", "python3", "python[23].[0-9]*")
}

// Library reports whether a file is the interpreter as a library.
func (Runtime) Library(file string) bool { return named(file, "libpython[23].*.so*") }

func named(file string, forms ...string) bool {
	for _, form := range forms {
		if ok, err := path.Match(form, file); ok && err == nil {
			return true
		}
	}
	return false
}

// Script finds the module or file that it will run.
func (Runtime) Script(args []string) (name, file string) {
	file, _ = arguments.First(args, []string{"-X", "-W", "--check-hash-based-pycs"}, func(option string, rest []string) bool {
		if option == "-m" && len(rest) > 0 {
			name = rest[0]
		}
		return option == "-m" || option == "-c"
	})
	return name, file
}

// Launch needs nothing: its frames are read from outside.
func (Runtime) Launch(string) []string { return nil }

// KindOf says whose code a function is, by its file.
func (Runtime) KindOf(file string) profile.ModuleKind { return KindOf(file) }
