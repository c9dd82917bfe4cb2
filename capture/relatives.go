package capture

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"entelon/core/profile"
	"entelon/linux/procfs"
)

// Whether children that run already are sampled with their parent, as it stands in the
// settings of a take; "" decides by who does the work.
const (
	ChildrenYes = "yes"
	ChildrenNo  = "no"
)

// idleParent is which part of its children's processor time a parent has used at most that
// only starts and watches them, as the masters of servers do.
const idleParent = 0.25

// maxRelatives bounds how many processes are attached to together.
const maxRelatives = 2000

// WithChildren adds the children that run already to the processes of a take, where they
// are asked for or do the work, and says in words what it did, "" for nothing. Those that
// are started later are sampled in any case.
func WithChildren(set *profile.Settings) (notice string, err error) {
	pids := set.PIDs
	if len(pids) == 0 && set.PID != 0 {
		pids = []int{set.PID}
	}
	if len(pids) == 0 || set.Children == ChildrenNo {
		return "", nil
	}
	all, err := procfs.Members()
	if err != nil {
		return "", fmt.Errorf("looking for children of the process: %w", err)
	}
	var said []string
	out := slices.Clone(pids)
	for _, pid := range pids {
		i := slices.IndexFunc(all, func(m procfs.Member) bool { return m.PID == pid })
		if i < 0 || procfs.Program(pid) == "" {
			continue // it has ended, or is not this user's, which attaching to it will say
		}
		children := slices.DeleteFunc(procfs.Descendants(all, pid), func(m procfs.Member) bool { return slices.Contains(out, m.PID) })
		if len(children) == 0 {
			continue
		}
		add := set.Children == ChildrenYes || idles(all[i], children)
		said = append(said, childrenWords(all[i], children, add, set.Children == ChildrenYes))
		if add {
			for _, c := range children {
				out = append(out, c.PID)
			}
		}
	}
	if len(out) > maxRelatives {
		return "", fmt.Errorf("%d processes belong to it, and at most %d are sampled by number: sample its control group, with --group, or the whole machine", len(out), maxRelatives)
	}
	set.PIDs = out
	return strings.Join(said, "; "), nil
}

// idles reports whether a parent leaves the work to its children.
func idles(parent procfs.Member, children []procfs.Member) bool {
	var sum int64
	for _, c := range children {
		sum += c.Ticks
	}
	return float64(parent.Ticks) <= idleParent*float64(sum)
}

func childrenWords(parent procfs.Member, children []procfs.Member, added, asked bool) string {
	var names []string
	for _, c := range children {
		if len(names) < 4 && !slices.Contains(names, c.Name) {
			names = append(names, c.Name)
		}
	}
	who := fmt.Sprintf("%d children that run already", len(children))
	if len(children) == 1 {
		who = "one child that runs already"
	}
	text := fmt.Sprintf("process %d (%s) has %s (%s)", parent.PID, parent.Name, who, strings.Join(names, ", "))
	switch {
	case asked:
		return text + ", sampled with it"
	case added:
		return text + " and leaves the work to them, so they are sampled with it; --children no leaves them out"
	}
	return text + ", not sampled with it; --children yes samples them, too"
}

// ByName returns the processes whose name, or whose program's, is like a pattern, which may
// hold * and ?.
func ByName(pattern string, own int) (pids []int, names []string, err error) {
	if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
		return nil, nil, fmt.Errorf("%q is not a pattern: write a name, in which * stands for anything", pattern)
	}
	all, err := procfs.Members()
	if err != nil {
		return nil, nil, fmt.Errorf("looking for processes: %w", err)
	}
	for _, m := range all {
		is, _ := path.Match(pattern, m.Name)
		if !is {
			is, _ = path.Match(pattern, path.Base(procfs.Program(m.PID)))
		}
		if is && m.PID != own {
			pids = append(pids, m.PID)
			if !slices.Contains(names, m.Name) {
				names = append(names, m.Name)
			}
		}
	}
	if len(pids) == 0 {
		return nil, nil, fmt.Errorf("no running process is named %s: %w", pattern, ErrNoProcess)
	}
	return pids, names, nil
}
