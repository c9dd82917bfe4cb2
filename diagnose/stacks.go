package diagnose

import (
	"fmt"
	"path"
	"strings"

	"entelon/core/profile"
)

// ofStacks says why stacks are cut off, where many are, and what helps against the most
// frequent reason.
func ofStacks(f *profile.Facts, e *Evidence) {
	set := &e.Settings
	from := warnCutShare
	if set.CutShare > 0 {
		from = set.CutShare
	}
	share := 1 - f.CompleteShare()
	if share < from || len(f.CutOff) == 0 {
		return
	}
	var why []string
	for _, c := range f.CutOff {
		why = append(why, fmt.Sprintf("%s (%d)", c.Words(), c.Stacks))
	}
	text := fmt.Sprintf("%.1f %% of the stacks are cut off: %s.", 100*share, strings.Join(why, ", "))
	remedy := "Read self costs only; they are not affected."
	switch f.CutOff[0].Mark() {
	case profile.CutDeeper:
		remedy = "Nothing deeper can be copied; build the recursion with -fno-omit-frame-pointer, or read self costs only."
		if !e.OtherStacks && set.StackBytes < e.MaxStack {
			remedy = fmt.Sprintf("Copy more of each stack: --stack %dk.", min(e.MaxStack, 2*set.StackBytes)>>10)
		}
	case profile.CutOtherStack:
		if !e.OtherStacks && !e.ByFrames {
			remedy = "Collect as root, so that stacks which a thread left behind are read too"
			if e.OtherErr != nil {
				remedy += " (now: " + e.OtherErr.Error() + ")"
			}
			remedy += "."
		}
	case profile.CutNoTable:
		remedy = "Build that code with -fasynchronous-unwind-tables or -fno-omit-frame-pointer."
		if module, _ := most(e.NoTable); e.ByFrames {
			remedy = "Take it with --unwind tables, or build with -fno-omit-frame-pointer."
		} else if name := path.Base(module); strings.HasPrefix(name, "memfd:") || strings.HasPrefix(name, "[") || strings.HasPrefix(name, "//") {
			remedy = "That code was made while the program ran. Start its runtime with frame pointers, where it has an option for that."
		} else if module != "" {
			remedy = fmt.Sprintf("Build %s with -fasynchronous-unwind-tables or -fno-omit-frame-pointer.", path.Base(module))
		}
	}
	f.Warn("cut-off", text, remedy)
}

// most returns the name with the highest count, and the count.
func most(counts map[string]int64) (name string, n int64) {
	for k, v := range counts {
		if v > n || v == n && k < name {
			name, n = k, v
		}
	}
	return name, n
}
