package capture

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"entelon/core/profile"
	"entelon/judge"
	"entelon/linux/procfs"
)

// started starts a command in a group of its own, and ends all of that after the test.
func started(t *testing.T, name string, args ...string) int {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		_ = cmd.Wait() // it was killed
	})
	return cmd.Process.Pid
}

// TestChildrenThatRunAlready: a parent that only watches is sampled with those that do the
// work, one that works alone, and what was done is said.
func TestChildrenThatRunAlready(t *testing.T) {
	const work = `while :; do :; done`
	idle := started(t, "sh", "-c", `sh -c '`+work+`' & sh -c '`+work+`' & wait`)
	busy := started(t, "sh", "-c", `sleep 100 & `+work)
	time.Sleep(700 * time.Millisecond)
	with := func(pid int, children string) (*profile.Settings, string) {
		set := &profile.Settings{PIDs: []int{pid}, Children: children}
		said, err := WithChildren(set)
		if err != nil {
			t.Fatal(err)
		}
		return set, said
	}
	set, said := with(idle, "")
	if len(set.PIDs) != 3 || set.PIDs[0] != idle || !strings.Contains(said, "2 children") || !strings.Contains(said, "sampled with it") {
		t.Errorf("%v, %q", set.PIDs, said)
	}
	judge.Fairly(t, func(t *judge.Try) {
		if take := collected(t, *set); take.Facts.Samples < 300 || len(take.Profile.Processes) < 3 {
			t.Errorf("%d samples of %d processes", take.Facts.Samples, len(take.Profile.Processes))
		}
	})
	if set, said := with(idle, ChildrenNo); len(set.PIDs) != 1 || said != "" {
		t.Errorf("%v, %q", set.PIDs, said)
	}
	if set, said := with(busy, ""); len(set.PIDs) != 1 || !strings.Contains(said, "not sampled") {
		t.Errorf("%v, %q", set.PIDs, said)
	}
	if set, _ := with(busy, ChildrenYes); len(set.PIDs) != 2 {
		t.Errorf("%v", set.PIDs)
	}
	if _, _, err := ByName("no such*", 0); !errors.Is(err, ErrNoProcess) {
		t.Errorf("%v", err)
	}
	if _, _, err := ByName("[", 0); err == nil {
		t.Error("a broken pattern was taken")
	}
	pids, names, err := ByName("s?", 0)
	if err != nil || !slices.Contains(pids, idle) || !slices.Contains(pids, busy) || !slices.Contains(names, "sh") {
		t.Errorf("%v %v %v", pids, names, err)
	}
}

// TestAProgramByItsLink: one file can be several programs, and is called as it was started.
func TestAProgramByItsLink(t *testing.T) {
	real, err := exec.LookPath("sleep")
	if err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(real)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	check, server := filepath.Join(dir, "quill-check"), filepath.Join(dir, "quill-server")
	if err := os.WriteFile(check, b, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(check, server); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{server: "quill-server", check: "quill-check"} {
		pid := started(t, path, "100")
		if take := collected(t, profile.Settings{PIDs: []int{pid}}); take.Settings.Program != want {
			t.Errorf("%s is called %s", path, take.Settings.Program)
		}
	}
	exe := filepath.Join(dir, "quill-check")
	for _, line := range [][]string{{"quill-server: worker"}, {server + " 127.0.0.1:1 [cluster]"}} {
		pid := started(t, server, "100")
		if got := filepath.Base(calledAs(exe, pid, line)); got != "quill-server" {
			t.Errorf("%v is called %s", line, got)
		}
		if got := calledAs(exe, pid, []string{"something else"}); got != exe {
			t.Errorf("it is called %s", got)
		}
	}
}

// TestWhyAProcessIsRefused: a thread of the kernel, one that has ended and one that there
// is not are told apart.
func TestWhyAProcessIsRefused(t *testing.T) {
	ended := exec.Command("true")
	if err := ended.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = ended.Wait() }() // how it ended does not matter
	time.Sleep(200 * time.Millisecond)
	for pid, want := range map[int]string{2: "a kernel thread", ended.Process.Pid: "its parent has not collected it", 1 << 22: "no such process"} {
		err := procfs.Refusal(pid, os.ErrNotExist)
		if !strings.Contains(err.Error(), want) {
			t.Errorf("process %d: %v", pid, err)
		}
	}
}
