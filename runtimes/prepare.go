package runtimes

import (
	"path/filepath"
	"slices"
	"strings"
)

// Prepared is a command as it is started.
type Prepared struct {
	Path string
	Args []string
	Set  string // what was set for its runtime, in words; "" for nothing
}

// Prepare sets what a command's runtime needs, where it is started directly; what a
// shell script starts is left as it is, since nothing but the command's own arguments
// should change. log is a file for what the runtime writes beside its map.
func Prepare(path string, command []string, log string) Prepared {
	p := Prepared{Path: path, Args: command}
	if r := Of(filepath.Base(path)); r != nil {
		missing := missingOf(r.Launch(log), command)
		if len(missing) > 0 {
			p.Args = slices.Concat(command[:1], missing, command[1:])
			p.Set = started(path, missing)
		}
		return p
	}
	next, alone := firstLine(path)
	r := Of(filepath.Base(next))
	if !alone || r == nil || len(r.Launch(log)) == 0 { // options of the first line would be lost
		return p
	}
	// As the system would run it, but for the options.
	return Prepared{next, slices.Concat([]string{next}, r.Launch(log), []string{path}, command[1:]), started(next, r.Launch(log))}
}

// missingOf are those of some options, each with its value, that a command does not have.
func missingOf(options, command []string) (missing []string) {
	there := false
	for _, o := range options {
		if strings.HasPrefix(o, "-") || strings.HasPrefix(o, "+") {
			there = slices.Contains(command, o)
		}
		if !there {
			missing = append(missing, o)
		}
	}
	return missing
}

func started(path string, options []string) string {
	return filepath.Base(path) + " is started with " + strings.Join(options, " ")
}
