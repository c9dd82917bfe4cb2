// Package erlang knows how Erlang's machine is started, how it names the code that it
// makes, whose code that is, and where the stack of one of its processes begins.
//
// It holds nothing.
package erlang

import (
	"slices"
	"strings"

	"entelon/core/profile"
)

// Runtime is Erlang's machine.
type Runtime struct{}

// Name is what people call it.
func (Runtime) Name() string { return "Erlang" }

// Executable reports whether a file is the program that starts the machine.
func (Runtime) Executable(file string) bool { return file == "erl" }

// Library reports whether a file is part of the machine.
func (Runtime) Library(file string) bool {
	return strings.HasPrefix(file, "beam.") || file == "erlexec" || file == "erl_child_setup"
}

// Script finds the first module whose function it will run.
func (Runtime) Script(args []string) (name, file string) {
	for i, a := range args {
		switch {
		case a == "-extra" || a == "--":
			return "", ""
		case (a == "-s" || a == "-run") && i+1 < len(args):
			return args[i+1], ""
		}
	}
	return "", ""
}

// Launch has the machine write down where the code is that it makes, and keep frame
// pointers in it.
func (Runtime) Launch(string) []string { return []string{"+JPperf", "map"} }

// libraries are applications of the distribution, by the beginning of their modules' names.
var libraries = []string{"erl_", "erts_", "erlang", "init", "proc_lib", "gen", "gen_", "supervisor", "application", "code", "code_server", "lists", "maps", "io", "io_lib", "file", "file_io_server", "prim_", "logger", "kernel", "global", "rpc", "error_logger", "string", "binary", "unicode", "ets", "dict", "sets", "user", "user_drv", "group", "shell", "timer", "queue", "array", "beam_lib", "os", "filename", "heart", "inet", "ram_file", "standard_error"}

// KindOf says whose code a function is, by the name that the machine gives it:
// "$module:function/arity".
func (Runtime) KindOf(name string) profile.ModuleKind {
	module, _, ok := strings.Cut(strings.TrimPrefix(name, "$"), ":")
	if !ok || strings.HasPrefix(name, "$global::") {
		return profile.KindRuntime
	}
	if slices.ContainsFunc(libraries, func(l string) bool {
		return module == l || strings.HasSuffix(l, "_") && strings.HasPrefix(module, l)
	}) {
		return profile.KindRuntime
	}
	return profile.KindOwn
}

// Function is a name that the machine gives its code as people write it, with its module;
// ok is false for one that is none of the machine's.
func Function(name string) (function, module string, ok bool) {
	rest, ok := strings.CutPrefix(name, "$")
	if !ok {
		return name, "", false
	}
	rest = strings.TrimSuffix(rest, "-CodeInfoPrologue")
	if strings.HasPrefix(rest, "global::") {
		return rest, "[erlang]", true
	}
	module, what, ok := strings.Cut(rest, ":")
	slash := strings.LastIndexByte(what, '/')
	if !ok || module == "" || slash <= 0 || strings.Trim(what[slash+1:], "0123456789") != "" {
		return name, "", false
	}
	return rest, module, true
}

// Begins reports whether a function is where the stack of an Erlang process begins: where it
// returns to when its first function has returned. What follows on that stack is not its.
func Begins(name string) bool {
	function, _, ok := Function(name)
	return ok && (function == "erts_beamasm:normal_exit/0" || function == "erts_beamasm:continue_exit/0")
}
