package diagnose

import (
	"fmt"
	"path"
	"slices"
	"strings"

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
	ofUnnamed(f, e)
	if e.Cache != nil {
		f.Warn("cache", "What was learned could not be kept for the next take: "+e.Cache.Error()+".", "Make room, or choose another folder with --symbol-cache.")
	}
	for _, why := range e.Unreadable[:min(maxUnreadable, len(e.Unreadable))] {
		f.Warn("unreadable", "A file could not be read for names: "+why+".", "Take it again while the file is in place.")
	}
}

// The warnings that have to do with names, which may become known later.
const (
	unnamedCode    = "unnamed"
	debugFilesCode = "debug-files"
)

// GetNames is what gets a take the names that it lacks.
const GetNames = "entelon symbols get TAKE"

// NamesAgain says anew where functions of a take have no names, after it was given more.
func NamesAgain(f *profile.Facts, e *Evidence) {
	f.Warnings = slices.DeleteFunc(slices.Clone(f.Warnings), func(w profile.Warning) bool {
		return w.Code == unnamedCode || w.Code == debugFilesCode
	})
	if f.Samples > 0 {
		ofUnnamed(f, e)
	}
}

// ofUnnamed says where functions have no names at all or, where that is little, only some.
func ofUnnamed(f *profile.Facts, e *Evidence) {
	share := float64(f.Unnamed) / float64(f.Samples)
	if share <= warnUnnamedShare {
		ofDebugFiles(f, e)
		return
	}
	module, n := most(e.Unnamed)
	where, remedy := path.Base(module), "Fetch its debug files and add the names to this take: "+GetNames+". Or build it without stripping."
	if module == "//anon" || strings.HasPrefix(module, "/memfd:") {
		where, remedy = "code made at run time", "Start it with the option of its runtime that writes a map of code to /tmp/perf-PID.map."
	}
	f.Warn(unnamedCode, fmt.Sprintf("%.1f %% of the samples have no function name, %d of them in %s.", 100*share, n, where), remedy)
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
	f.Warn(debugFilesCode, fmt.Sprintf("%.0f %% of the samples are in files without debug information, most of them in %s: only exported functions have names there, and inlined ones and lines are missing.", 100*share, name),
		"Fetch the debug files and add the names to this take: "+GetNames)
}
