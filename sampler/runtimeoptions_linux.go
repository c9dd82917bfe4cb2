package sampler

import (
	"path/filepath"
	"slices"
	"strings"
)

// What a runtime has to be started with so that its functions have names and
// its stacks can be walked.
var (
	nodeOptions = []string{"--perf-basic-prof", "--interpreted-frames-native-stack"}
	javaOptions = []string{"-XX:+PreserveFramePointer", "-XX:+UnlockDiagnosticVMOptions", "-XX:+DumpPerfMapAtExit"}
)

// launchPlan is a command as it is started.
type launchPlan struct {
	args []string
	env  []string
	set  string // what was set for its runtime, in words; "" for nothing
}

// planLaunch sets what the command's runtime needs, where it is started
// directly; what a shell script starts is left as it is, since nothing but the
// command's own arguments should change.
func planLaunch(path string, command, env []string) launchPlan {
	p := launchPlan{args: command, env: env}
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
		p.args = slices.Concat(command[:1], missing, command[1:])
		p.set = name + " is started with " + strings.Join(missing, " ")
	}
	switch familyOf(filepath.Base(path)) {
	case "node":
		options("node", nodeOptions)
		return p
	case "java":
		options("java", javaOptions)
		return p
	}
	if next := shebang(path); next != "" && familyOf(filepath.Base(next)) == "node" {
		value := strings.Join(nodeOptions, " ")
		for _, kv := range env {
			if old, ok := strings.CutPrefix(kv, "NODE_OPTIONS="); ok && old != "" {
				value = old + " " + value
			}
		}
		p.env = append(slices.Clip(env), "NODE_OPTIONS="+value)
		p.set = "node is started with NODE_OPTIONS=" + value
	}
	return p
}
