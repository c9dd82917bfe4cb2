package disturbance

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// Slowed is how often, since the machine was started, its processors were
// slowed down because they were too hot, and for how long the control groups of
// the sampled processes were held back because they had used up what they may.
type Slowed struct {
	hot  map[string]int64         // by processor
	held map[string]time.Duration // by control group
}

// ReadSlowed reads what the system tells below root, which is "/" but in tests.
func ReadSlowed(root string, pids []int) Slowed {
	s := Slowed{map[string]int64{}, map[string]time.Duration{}}
	found, _ := filepath.Glob(filepath.Join(root, "sys/devices/system/cpu/cpu[0-9]*/thermal_throttle/*_throttle_count")) // the pattern is right
	for _, path := range found {
		if n, ok := readNumber(path); ok {
			s.hot[filepath.Base(filepath.Dir(filepath.Dir(path)))] += n
		}
	}
	for _, pid := range pids {
		for _, path := range statsOf(root, pid) {
			if t, ok := heldBack(path); ok {
				s.held[filepath.Dir(path)] = t
			}
		}
	}
	return s
}

func readNumber(path string) (int64, bool) {
	b, err := os.ReadFile(path)
	if err != nil {
		return 0, false
	}
	n, err := strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
	return n, err == nil
}

// statsOf lists the files that tell of a process's use of the processor: of its
// own control group and of those around it, each of which may have a limit.
func statsOf(root string, pid int) (out []string) {
	b, err := os.ReadFile(filepath.Join(root, fmt.Sprintf("proc/%d/cgroup", pid)))
	if err != nil {
		return nil
	}
	for _, line := range strings.Split(strings.TrimSpace(string(b)), "\n") {
		f := strings.SplitN(line, ":", 3)
		if len(f) != 3 || f[1] != "" && !strings.Contains(","+f[1]+",", ",cpu,") {
			continue
		}
		roots := []string{"sys/fs/cgroup", "sys/fs/cgroup/unified"}
		if f[1] != "" {
			roots = []string{"sys/fs/cgroup/cpu", "sys/fs/cgroup/cpu,cpuacct"}
		}
		for _, r := range roots {
			for group := filepath.Clean("/" + f[2]); group != "/" && group != "."; group = filepath.Dir(group) {
				path := filepath.Join(root, r, group, "cpu.stat")
				if _, err := os.Stat(path); err == nil {
					out = append(out, path)
				}
			}
		}
	}
	return out
}

// heldBack reads for how long a group was held back.
func heldBack(path string) (time.Duration, bool) {
	f, err := os.Open(path)
	if err != nil {
		return 0, false
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		name, value, _ := strings.Cut(lines.Text(), " ")
		n, err := strconv.ParseInt(value, 10, 64)
		switch {
		case err != nil:
		case name == "throttled_usec":
			return time.Duration(n) * time.Microsecond, true
		case name == "throttled_time": // of the first version
			return time.Duration(n), true
		}
	}
	return 0, false
}

// Since is what happened between an earlier reading and this one.
func (s Slowed) Since(before Slowed) (hot []string, times int64, held time.Duration) {
	for cpu, n := range s.hot {
		if was, ok := before.hot[cpu]; ok && n > was {
			hot = append(hot, cpu)
			times += n - was
		}
	}
	for group, t := range s.held {
		if was, ok := before.held[group]; ok {
			held = max(held, t-was)
		}
	}
	return hot, times, held
}
