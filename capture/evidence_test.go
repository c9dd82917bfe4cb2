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

func TestFilesThatAreNotThere(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "full.score"), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
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
	t.Cleanup(func() {
		if err := os.WriteFile(filepath.Join(root, "cgroup.procs"), []byte(fmt.Sprint(inside)), 0o644); err != nil {
			t.Error(err)
		}
	})
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
