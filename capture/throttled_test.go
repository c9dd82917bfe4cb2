package capture

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"entelon/core/profile"
	"entelon/judge"
	"entelon/linux/cgroup"
	"entelon/linux/procfs"
)

func write(t *testing.T, path, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

func TestSlowedDownAndHeldBack(t *testing.T) {
	root := t.TempDir()
	cpu := func(n int, kind string, count int) {
		write(t, fmt.Sprintf("%s/sys/devices/system/cpu/cpu%d/thermal_throttle/%s_throttle_count", root, n, kind), fmt.Sprintln(count))
	}
	stat := func(group string, usec int) {
		write(t, filepath.Join(root, "sys/fs/cgroup", group, "cpu.stat"), fmt.Sprintf("usage_usec 900\nnr_throttled 3\nthrottled_usec %d\n", usec))
	}
	cpu(0, "core", 5)
	cpu(0, "package", 1)
	cpu(1, "core", 0)
	write(t, filepath.Join(root, "proc/42/cgroup"), "0::/shop/desk\n")
	write(t, filepath.Join(root, "proc/43/cgroup"), "4:memory:/x\n3:cpu,cpuacct:/old\n")
	stat("shop", 1000)
	stat("shop/desk", 0)
	write(t, filepath.Join(root, "sys/fs/cgroup/cpu/old/cpu.stat"), "nr_periods 1\nthrottled_time 5000000\n")
	before := readSlowed(root, []int{42, 43, 44})
	if hot, times, held := readSlowed(root, []int{42, 43}).since(before); len(hot) != 0 || times != 0 || held != 0 {
		t.Errorf("nothing happened, and %v, %d, %v is said", hot, times, held)
	}
	cpu(0, "core", 7)
	stat("shop", 301_000)
	if hot, times, held := readSlowed(root, []int{42, 43}).since(before); !slices.Equal(hot, []string{"cpu0"}) || times != 2 || held != 300*time.Millisecond {
		t.Errorf("%v, %d, %v", hot, times, held)
	}
	write(t, filepath.Join(root, "sys/fs/cgroup/cpu/old/cpu.stat"), "nr_periods 1\nthrottled_time 905000000\n")
	if _, _, held := readSlowed(root, []int{42, 43}).since(before); held != 900*time.Millisecond {
		t.Errorf("held back for %v", held)
	}
}

func TestFilesThatAreNotThere(t *testing.T) {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "full.score"), "x")
	set := profile.Settings{Dir: dir, Command: []string{"./partbook", "full.score", "other.score", "parts/violin", "--out=x.y", "-v", "3.5", "tcp://host/x", "3/4 time", "plain", dir, "/no/such.file", "*.score"}}
	if got, want := absentFiles(set), []string{"other.score", "parts/violin", "/no/such.file"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}

// A control group is sampled with all that it holds and nothing else.
func TestControlGroup(t *testing.T) {
	root := cgroup.Root()
	if root == "" {
		t.Skip("no hierarchy of control groups")
	}
	name := fmt.Sprintf("entelon-test-%d", os.Getpid())
	dir := filepath.Join(root, name)
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Skip(err)
	}
	outside := spinning(t)
	inside := spinning(t)
	t.Cleanup(func() {
		for range 100 { // its processes are killed by the cleanup that was registered before
			if os.Remove(dir) == nil {
				return
			}
			time.Sleep(10 * time.Millisecond)
		}
		t.Errorf("%s stays", dir)
	})
	t.Cleanup(func() { write(t, filepath.Join(root, "cgroup.procs"), fmt.Sprint(inside)) })
	// The shell may have made its child before it is moved; both are.
	time.Sleep(50 * time.Millisecond)
	all, err := procfs.TicksByProcess()
	if err != nil {
		t.Fatal(err)
	}
	pids := map[int]bool{inside: true}
	for pid := range all {
		if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)); err == nil && strings.Contains(string(b), fmt.Sprintf(" %d ", inside)) {
			pids[pid] = true
		}
	}
	for pid := range pids {
		if err := os.WriteFile(filepath.Join(dir, "cgroup.procs"), []byte(fmt.Sprint(pid)), 0o644); err != nil {
			t.Skip(err)
		}
		t.Cleanup(func() { _ = os.WriteFile(filepath.Join(root, "cgroup.procs"), []byte(fmt.Sprint(pid)), 0o644) }) // it may have ended
	}
	gs, err := cgroup.List()
	if err != nil || !slices.ContainsFunc(gs, func(g cgroup.Group) bool {
		return g.Path == name && g.Processes == len(pids) && slices.Equal(g.Programs, []string{"sh"})
	}) {
		t.Errorf("%v is not among %+v, %v", name, gs, err)
	}
	judge.Fairly(t, func(t *judge.Try) {
		take := collected(t, profile.Settings{Group: strings.TrimPrefix(name, "entelon-")})
		if take.Settings.Group != name || take.Facts.Samples < 300 {
			t.Errorf("%d samples of the group %q", take.Facts.Samples, take.Settings.Group)
		}
		p := take.Profile
		for _, pr := range p.Processes {
			if !pids[int(pr.PID)] {
				t.Errorf("process %d %s is not in the group (%d is outside)", pr.PID, p.Strings[pr.Name], outside)
			}
		}
		set := profile.Settings{Group: "no-such-group", RateHz: 99, Unwind: UnwindTables}
		if _, err := Collect(context.Background(), Options{Settings: set}, discard{}); !errors.Is(err, cgroup.ErrNoGroup) {
			t.Errorf("a group that there is not: %v", err)
		}
	})
}
