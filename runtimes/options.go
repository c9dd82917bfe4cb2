package runtimes

import (
	"path/filepath"
	"slices"
	"strings"

	"entelon/capture/launch"
)

// What a runtime has to be started with so that its functions have names and
// its stacks can be walked.
var (
	NodeOptions = []string{"--perf-basic-prof", "--interpreted-frames-native-stack"}
	javaOptions = []string{"-XX:+PreserveFramePointer", "-XX:+UnlockDiagnosticVMOptions", "-XX:+DumpPerfMapAtExit"}
)

func nodeWanted(log string) []string {
	return append(slices.Clip(NodeOptions), "--no-logfile-per-isolate", "--logfile="+log)
}

// planLaunch sets what the command's runtime needs, where it is started
// directly; what a shell script starts is left as it is, since nothing but the
// command's own arguments should change. log is a file for what the runtime
// writes beside its map, which would else go into the current folder.
func Plan(path string, command []string, log string) launch.Plan {
	p := launch.Plan{Path: path, Args: command}
	options := func(name string, wanted []string) {
		var missing []string
		for _, o := range wanted {
			if !slices.Contains(command, o) {
				missing = append(missing, o)
			}
		}
		if len(missing) == 0 {
			return
		}
		p.Args = slices.Concat(command[:1], missing, command[1:])
		p.Set = name + " is started with " + strings.Join(missing, " ")
	}
	switch FamilyOf(filepath.Base(path)) {
	case "node":
		options("node", nodeWanted(log))
		return p
	case "java":
		options("java", javaOptions)
		return p
	}
	if next := Shebang(path); next != "" && FamilyOf(filepath.Base(next)) == "node" {
		// As the system would run it, but for the options.
		p.Path = next
		p.Args = slices.Concat([]string{next}, nodeWanted(log), []string{path}, command[1:])
		p.Set = "node is started with " + strings.Join(nodeWanted(log), " ")
	}
	return p
}
