package procfs

import (
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
)

// Member is a process with who started it and what it has used.
type Member struct {
	PID, Parent int
	Name        string
	Ticks       int64 // of processor time, since it began
}

// Members lists all processes that run programs.
func Members() ([]Member, error) {
	dirs, err := filepath.Glob("/proc/[0-9]*")
	if err != nil {
		return nil, err
	}
	var out []Member
	for _, d := range dirs {
		pid, err := strconv.Atoi(filepath.Base(d))
		if err != nil {
			continue
		}
		b, err := os.ReadFile(filepath.Join(d, "stat"))
		if err != nil {
			continue // it has ended
		}
		if m, ok := memberOf(pid, string(b)); ok {
			out = append(out, m)
		}
	}
	return out, nil
}

// memberOf reads a line of /proc/PID/stat; ok is false for a thread of the kernel and for
// a process that has ended.
func memberOf(pid int, stat string) (m Member, ok bool) {
	open, shut := strings.IndexByte(stat, '('), strings.LastIndexByte(stat, ')')
	f := strings.Fields(stat[shut+1:])
	if open < 0 || shut < open || len(f) < 2 {
		return m, false
	}
	state, flags := stateOf(stat)
	if state == "Z" || state == "X" || flags&kernelThread != 0 {
		return m, false
	}
	m = Member{PID: pid, Name: stat[open+1 : shut], Ticks: Ticks(stat)}
	m.Parent, _ = strconv.Atoi(f[1])
	return m, true
}

// Program is the path of a process's program, "" where that may not be read.
func Program(pid int) string {
	exe, err := os.Readlink("/proc/" + strconv.Itoa(pid) + "/exe")
	if err != nil {
		return ""
	}
	return strings.TrimSuffix(exe, " (deleted)")
}

// Descendants are the processes that a process has started and that run, with those that
// they have started, by number.
func Descendants(all []Member, pid int) (out []Member) {
	children := map[int][]Member{}
	for _, m := range all {
		children[m.Parent] = append(children[m.Parent], m)
	}
	seen := map[int]bool{pid: true}
	for next := []int{pid}; len(next) > 0; {
		of := next[0]
		next = next[1:]
		for _, c := range children[of] {
			if seen[c.PID] {
				continue // the list was not read at one moment
			}
			seen[c.PID] = true
			out, next = append(out, c), append(next, c.PID)
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].PID < out[j].PID })
	return out
}
