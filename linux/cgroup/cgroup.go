// Package cgroup finds control groups, such as containers, by name.
//
// Its functions hold nothing and may be called by many goroutines.
package cgroup

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"

	"entelon/linux/procfs"
)

// ErrNoGroup says that there is no control group of a name.
var ErrNoGroup = errors.New("there is no such control group")

// groupRoots are the hierarchies of control groups by which events can be
// chosen: the second version's, wherever the system has mounted it, and the
// first version's for events.
var groupRoots = []string{"/sys/fs/cgroup", "/sys/fs/cgroup/unified", "/sys/fs/cgroup/perf_event"}

// Root is the hierarchy in use, "" where there is none.
func Root() string {
	for _, root := range groupRoots {
		if _, err := os.Stat(filepath.Join(root, "cgroup.procs")); err == nil {
			return root
		}
	}
	return ""
}

// maxGroups bounds what is listed.
const maxGroups = 2000

// List lists the control groups in which something runs, by path.
func List() ([]Group, error) {
	root := Root()
	if root == "" {
		return nil, fmt.Errorf("no hierarchy of control groups is mounted below %s: %w", groupRoots[0], ErrNoGroup)
	}
	var out []Group
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() || len(out) >= maxGroups {
			return nil // a group that has just gone
		}
		b, err := os.ReadFile(filepath.Join(path, "cgroup.procs"))
		if err != nil {
			return nil
		}
		pids := strings.Fields(string(b))
		if len(pids) == 0 || path == root {
			return nil
		}
		g := Group{Path: strings.TrimPrefix(path, root+"/"), Processes: len(pids), Programs: []string{}}
		seen := map[string]bool{}
		for _, text := range pids {
			pid, err := strconv.ParseUint(text, 10, 32)
			if err != nil || len(seen) >= 4 {
				continue
			}
			if name := procfs.ThreadName(uint32(pid), uint32(pid)); name != "" && !seen[name] {
				seen[name] = true
				g.Programs = append(g.Programs, name)
			}
		}
		out = append(out, g)
		return nil
	})
	sort.Slice(out, func(i, j int) bool { return out[i].Path < out[j].Path })
	return out, err
}

// Open opens the folder of a control group, which may be named by its path
// or, where only one is called so, by the last part of it or its beginning, as
// containers are.
func Open(name string) (*os.File, string, error) {
	root := Root()
	path := strings.Trim(strings.TrimPrefix(filepath.Clean("/"+name), root), "/")
	if root == "" || path == "" {
		return nil, "", fmt.Errorf("%s: %w", name, ErrNoGroup)
	}
	if _, err := os.Stat(filepath.Join(root, path, "cgroup.procs")); err != nil {
		all, err := List()
		if err != nil {
			return nil, "", err
		}
		var fit []string
		for _, g := range all {
			if last := filepath.Base(g.Path); last == path || strings.Contains(last, path) && len(path) >= 6 {
				fit = append(fit, g.Path)
			}
		}
		switch {
		case len(fit) == 0:
			return nil, "", fmt.Errorf("%s: %w", name, ErrNoGroup)
		case len(fit) > 1:
			return nil, "", fmt.Errorf("%s: it may be %s: %w", name, strings.Join(fit, " or "), ErrNoGroup)
		}
		path = fit[0]
	}
	f, err := os.Open(filepath.Join(root, path))
	if err != nil {
		return nil, "", fmt.Errorf("%s: %w", name, err)
	}
	return f, path, nil
}

// Group is a control group in which something runs, such as a container.
type Group struct {
	Path      string // below the system's folder of control groups
	Processes int
	Programs  []string // some of their names
}
