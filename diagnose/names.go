package diagnose

import (
	"fmt"
	"path"

	"entelon/core/profile"
)

// warnDebugShare is the share of the samples from which on a library without debug
// files is said; maxUnreadable is how many files that could not be read are named.
const (
	warnDebugShare = 0.1
	maxUnreadable  = 3
)

// ofNames says where functions have no names, and why.
func ofNames(f *profile.Facts, e *Evidence) {
	if share := float64(f.Unnamed) / float64(f.Samples); share > warnUnnamedShare {
		module, n := most(e.Unnamed)
		where, remedy := path.Base(module), "Install its debug symbols, or build it without stripping."
		if module == "//anon" {
			where, remedy = "code made at run time", "Start it with the option of its runtime that writes a map of code to /tmp/perf-PID.map."
		}
		f.Warn("unnamed", fmt.Sprintf("%.1f %% of the samples have no function name, %d of them in %s.", 100*share, n, where), remedy)
	} else {
		ofDebugFiles(f, e)
	}
	if e.Cache != nil {
		f.Warn("cache", "What was found out could not be kept for the next take: "+e.Cache.Error()+".", "Make room, or choose another folder with --symbol-cache.")
	}
	for _, why := range e.Unreadable[:min(maxUnreadable, len(e.Unreadable))] {
		f.Warn("unreadable", "A file could not be read for names: "+why+".", "Take it again while the file is in place.")
	}
}

// ofDebugFiles says for which files only exported functions have names, since their
// separate debug files are missing.
func ofDebugFiles(f *profile.Facts, e *Evidence) {
	var all int64
	for _, n := range e.ExportsOnly {
		all += n
	}
	share := float64(all) / float64(max(1, e.InStacks))
	if all == 0 || share < warnDebugShare {
		return
	}
	name, _ := most(e.ExportsOnly)
	f.Warn("debug-files", fmt.Sprintf("%.0f %% of the samples are in files without debug information, most of them in %s: only exported functions have names there, and inlined ones and lines are missing.", 100*share, name),
		"Install the package of its debug symbols, whose name ends in -dbgsym or -dbg, or name a server with --debug-server.")
}
