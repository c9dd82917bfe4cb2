package diagnose

import (
	"fmt"
	"strings"

	"entelon/core/profile"
	"entelon/runtimes/java"
	"entelon/runtimes/node"
	"entelon/runtimes/python"
)

// ofRuntimes says where functions of interpreted programs are missing.
func ofRuntimes(f *profile.Facts, e *Evidence) {
	ofMaps(f, e)
	if !e.Met[python.Name] {
		return
	}
	switch {
	case e.PythonFailed != nil:
		f.Warn("interpreter", "Functions written in Python are not shown, only the interpreter's own: "+e.PythonFailed.Error()+".", "Run it with a CPython from 3.11 on whose symbols were not stripped.")
	case e.ByFrames:
		f.Warn("interpreter", "Functions written in Python are not shown, only the interpreter's own: frame pointers do not lead to them.", "Take it with --unwind tables.")
	case !e.PythonRead:
		why := "this user may not read them at the moment of a sample"
		if e.OtherErr != nil {
			why += " (" + e.OtherErr.Error() + ")"
		}
		f.Warn("interpreter", "Functions written in Python are not shown, only the interpreter's own: "+why+".", "Collect as root.")
	}
	if share := float64(f.Unlabelled) / float64(max(1, f.Labelled+f.Unlabelled)); share > warnNoLabels {
		f.Warn("labels-unread", fmt.Sprintf("Of %.1f %% of the samples with labels not all labels could be read: the program gives more than %d to its work, or they were not in memory.", 100*share, e.MaxLabels),
			"Samples that a scope by labels leaves out may have had the label.")
	}
	if share := float64(f.Torn) / float64(max(1, f.Interpreted+f.Torn)); share > warnTornShare {
		f.Warn("torn", fmt.Sprintf("In %.1f %% of the stacks the interpreter was just changing its frames; those show its machine code only.", 100*share), "Shares of functions are uncertain by that much.")
	}
}

// ofMaps says why code that was made at run time has no names, and what is wrong with
// the maps that give them.
func ofMaps(f *profile.Facts, e *Evidence) {
	remedy := "Start it with the option of its runtime that writes a map of code to /tmp/perf-PID.map."
	switch {
	case e.Met[java.RuntimeName]:
		remedy = "Collect as root or as the same user, from a Java machine of version 17 or later."
	case e.Met[node.Name]:
		remedy = "Start it with: node " + strings.Join(node.Named, " ")
	}
	for _, m := range e.Maps {
		if m.Missing != nil {
			f.Warn("no-map", fmt.Sprintf("Functions that process %d made at run time have no names: %v.", m.PID, m.Missing), remedy)
		}
		if m.Fault != nil {
			f.Warn("map", fmt.Sprintf("Some names of code that process %d made at run time are missing: in its map, %v.", m.PID, m.Fault), "Names that are shown are not affected.")
		}
		if m.Source != nil {
			f.Warn("source-map", "Places in a script are those of its generated code: "+m.Source.Error()+".", "Build it again with its source map beside it.")
		}
	}
	if e.Met[java.RuntimeName] && !e.JavaFrames {
		f.Warn("java-frames", "Stacks of Java code are cut off: the virtual machine was started without frame pointers in compiled methods.", "Start it with: java -XX:+PreserveFramePointer")
	}
}
