package capture

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"entelon/capture/disturbance"
	"entelon/capture/launch"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/diagnose"
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/linux/procfs"
	"entelon/runtimes/java"
)

// evidence gathers what package diagnose is to know of a take that has ended.
func (s *session) evidence(unreadable []string) *diagnose.Evidence {
	r, set := s.resolver, &s.o.Settings
	ps, profiled := r.Processes, s.resolver.Builder.Profile()
	after, _ := procfs.MachineTime() // where it cannot be read, nothing is said of it
	hot, times, held := disturbance.ReadSlowed("/", s.pids).Since(s.slowed)
	e := &diagnose.Evidence{
		Settings: *set, Waiting: s.measures.ColumnOf(measure.Waiting) >= 0, Launched: s.command != nil, Processes: len(s.pids),
		Kernel: s.kernel, KernelNames: s.world.KernelErr, KernelRemedy: perf.KernelNamesRemedy(), Started: ps.Started,
		NoTable: r.NoTable, MaxStack: MaxStackBytes, OtherStacks: s.other != nil, OtherErr: s.otherErr, ByFrames: set.Unwind == UnwindFramePointers,
		Unnamed: r.Unnamed, ExportsOnly: exportsOnly(profiled, s.world.ExportsOnly()), InStacks: int64(profiled.Samples.Len()), Unreadable: unreadable,
		Met: ps.Met, JavaFrames: !ps.Met[java.RuntimeName] || s.keepsFramePointers(), PythonRead: ps.TellPython != nil, PythonFailed: ps.Unread, MaxLabels: bpf.MaxLabels,
		Unoptimised: s.unoptimised, NoWake: s.noWake, Machine: [2]diagnose.Time{diagnose.Time(s.before), diagnose.Time(after)}, TickNS: disturbance.NanosecondsOf,
		Hot: len(hot), HotTimes: times, Held: held, Sampler: s.beside.SampledBy(), SetUser: s.command != nil && setsUser(s.exe),
	}
	if column := s.measures.ColumnOf(measure.CPU); column >= 0 {
		e.CPU, e.SampledNS = true, profiled.Total(column)+s.facts.OwnNS
		if s.filter != nil {
			e.Uncounted = s.filter.Unseen // what was left out was not even counted
			e.SampledNS += s.filter.Clock
		}
	}
	if c := s.world.Cache(); c != nil {
		e.Cache = c.Failed()
	}
	for _, m := range s.world.MapFaults() {
		e.Maps = append(e.Maps, diagnose.Map(m))
	}
	if len(s.absent) > 0 {
		// What a command writes, it has written by now.
		still := absentFiles(*set)
		e.Absent = slices.DeleteFunc(slices.Clone(s.absent), func(arg string) bool { return !slices.Contains(still, arg) })
	}
	return e
}

// exportsOnly counts the samples in files of which only exported functions have names.
func exportsOnly(p *profile.Profile, files []string) map[string]int64 {
	bare := map[profile.ModuleID]string{}
	for i, m := range p.Modules {
		if name := p.Strings[m.Path]; slices.Contains(files, name) {
			bare[profile.ModuleID(i)] = path.Base(name)
		}
	}
	counts := map[string]int64{}
	if len(bare) == 0 {
		return counts
	}
	for _, st := range p.Samples.Stack {
		if st == 0 {
			continue
		}
		if name, ok := bare[p.Functions[p.FunctionOf(st)].Module]; ok {
			counts[name]++
		}
	}
	return counts
}

// keepsFramePointers reports whether a Java machine was told to keep them: by its
// arguments, by its environment, or by us.
func (s *session) keepsFramePointers() bool {
	const option = "+PreserveFramePointer"
	set := &s.o.Settings
	if s.command != nil && strings.Contains(s.command.Set, option) || strings.Contains(strings.Join(set.Command, " "), option) {
		return true
	}
	env, err := launch.Environment(s.o.Launching())
	if err != nil {
		env = set.Env // its user has gone since it was launched
	}
	if slices.ContainsFunc(env, func(kv string) bool { return strings.Contains(kv, option) }) {
		return true
	}
	if s.command != nil {
		return false
	}
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", set.PID))
	return err == nil && strings.Contains(string(b), option)
}

// setsUser reports whether a program runs with the rights of its file's owner, which the
// kernel lets only root sample.
func setsUser(path string) bool {
	st, err := os.Stat(path)
	return err == nil && os.Geteuid() != 0 && st.Mode()&(os.ModeSetuid|os.ModeSetgid) != 0
}

// fileLike is an argument that names a file: a path, or a name with an ending.
var fileLike = regexp.MustCompile(`^[^-][^=]*/[^=]*[^/=]$|^[^-][^=/]*\.[A-Za-z][A-Za-z0-9]{0,7}$`)

// absentFiles are the arguments of a command that look like names of files which
// are not there.
func absentFiles(set profile.Settings) (out []string) {
	if len(set.Command) == 0 {
		return nil
	}
	for i, arg := range set.Command[1:] {
		// Behind -m stands the name of a module, and ... is all packages of Go.
		if set.Command[i] == "-m" || strings.Contains(arg, "...") {
			continue
		}
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
