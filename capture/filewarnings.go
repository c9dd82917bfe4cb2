package capture

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"

	"entelon/core/profile"
	"entelon/resolve"
)

// fileLike is an argument that names a file: a path, or a name with an ending.
var fileLike = regexp.MustCompile(`^[^-][^=]*/[^=]*[^/=]$|^[^-][^=/]*\.[A-Za-z][A-Za-z0-9]{0,7}$`)

// absentFiles are the arguments of a command that look like names of files which
// are not there.
func absentFiles(set profile.Settings) (out []string) {
	if len(set.Command) == 0 {
		return nil
	}
	for _, arg := range set.Command[1:] {
		if len(arg) > 200 || !fileLike.MatchString(arg) || strings.Contains(arg, "://") || strings.ContainsAny(arg, "\n*?[{$ ") {
			continue
		}
		path := arg
		if !filepath.IsAbs(path) {
			path = filepath.Join(set.Dir, path)
		}
		if _, err := os.Stat(path); os.IsNotExist(err) {
			out = append(out, arg)
		}
	}
	return out
}

// warnFiles says which files a command names that were there neither before nor
// after: what it writes, it has written by then.
func (s *session) warnFiles() {
	if s.command == nil || len(s.absent) == 0 || s.facts.EndedBy != "exit" {
		return
	}
	var out []string
	after := absentFiles(s.o.Settings)
	for _, arg := range s.absent {
		for _, a := range after {
			if a == arg {
				out = append(out, arg)
				break
			}
		}
	}
	switch {
	case len(out) == 1:
		s.facts.Warn("no-file", fmt.Sprintf("The directory %s does not hold %s, which the command names.", s.o.Settings.Dir, out[0]), "Make sure that it ran in the right directory; --dir chooses another.")
	case len(out) > 1:
		s.facts.Warn("no-file", fmt.Sprintf("The directory %s does not hold %s and %d more that the command names.", s.o.Settings.Dir, out[0], len(out)-1), "Make sure that it ran in the right directory; --dir chooses another.")
	}
}

// warnDebug is the share of the samples from which on a library without debug
// files is said.
const warnDebugShare = 0.1

// warnDebugFiles says for which files only exported functions have names, since
// their separate debug files are missing.
func (s *session) warnDebugFiles() {
	p := s.builder.Profile()
	bare := map[profile.ModuleID]string{}
	for _, m := range s.resolver.Modules.Known {
		if m.IDSet && m.Object != nil && m.Kind != profile.KindRuntime && m.Object.ExportsOnly() {
			bare[m.ID] = path.Base(m.Name)
		}
	}
	if len(bare) == 0 || p.Samples.Len() == 0 {
		return
	}
	counts := map[string]int64{}
	var all int64
	for _, st := range p.Samples.Stack {
		if st == 0 {
			continue
		}
		if name, ok := bare[p.Functions[p.FunctionOf(st)].Module]; ok {
			counts[name]++
			all++
		}
	}
	share := float64(all) / float64(p.Samples.Len())
	if share < warnDebugShare {
		return
	}
	name, _ := resolve.Most(counts)
	s.facts.Warn("debug-files", fmt.Sprintf("%.0f %% of the samples are in files without debug information, most of them in %s: only exported functions have names there, and inlined ones and lines are missing.", 100*share, name),
		"Install the package of its debug symbols, whose name ends in -dbgsym or -dbg, or name a server with --debug-server.")
}
