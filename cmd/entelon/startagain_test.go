package main

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"entelon/server/api"
	"entelon/store/private"
)

// TestStartsAfterKills: whatever was killed, and however soon the next start
// comes, that one start works, and nothing is left behind.
func TestStartsAfterKills(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	data := filepath.Join(d.dir, "database")
	for round := range 8 {
		victims := []int{d.server.Process.Pid}
		if round%2 == 1 {
			victims = append(victims, inPostgres(t, data)...)
		}
		if round%4 == 2 { // the keeper alone
			victims = children(t, d.server.Process.Pid)
		}
		for _, pid := range victims {
			_ = syscall.Kill(pid, syscall.SIGKILL) // one that ends by another's death is dead, too
		}
		_ = d.server.Process.Kill()
		_ = d.server.Wait()
		d.start()
		if status, body := d.ask("GET", "/me", nil, nil); status != http.StatusOK {
			t.Fatalf("round %d: %d, %s", round, status, body)
		}
	}
	if err := d.server.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	if err := d.server.Wait(); err != nil {
		t.Error(err)
	}
	if left := inPostgres(t, data); len(left) != 0 {
		t.Errorf("PostgreSQL's processes go on: %v", left)
	}
	if left, err := filepath.Glob(filepath.Join(os.TempDir(), "entelon-upload-*")); err != nil || len(left) != 0 {
		t.Errorf("files of uploads are left: %v, %v", left, err)
	}
}

// children are the processes that a process has started.
func children(t *testing.T, of int) (out []int) {
	t.Helper()
	tasks, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", of))
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range tasks {
		b, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		for _, text := range strings.Fields(string(b)) {
			var pid int
			if _, err := fmt.Sscan(text, &pid); err == nil {
				out = append(out, pid)
			}
		}
	}
	return out
}

// inPostgres are the PostgreSQL processes of a data folder.
func inPostgres(t *testing.T, dir string) (out []int) {
	t.Helper()
	entries, err := os.ReadDir("/proc")
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		var pid int
		if _, err := fmt.Sscan(e.Name(), &pid); err != nil {
			continue
		}
		if cwd, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid)); err == nil && cwd == filepath.Join(dir, "data") {
			out = append(out, pid)
		}
	}
	return out
}

// TestKilledKeeper: when what keeps PostgreSQL running is killed, PostgreSQL ends,
// and so does the server, saying why, instead of standing there without one.
func TestKilledKeeper(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	for _, pid := range children(t, d.server.Process.Pid) {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	over := make(chan error, 1)
	go func() { over <- d.server.Wait() }()
	select {
	case err := <-over:
		if err == nil {
			t.Error("it ended as if nothing had been")
		}
	case <-time.After(20 * time.Second):
		t.Fatal("the server goes on without a database")
	}
	for deadline := time.Now().Add(10 * time.Second); len(inPostgres(t, filepath.Join(d.dir, "database"))) > 0; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("PostgreSQL is left an orphan")
		}
	}
	d.start()
}

// TestTwoServersOneDatabase: each with a collector beside it on the same host;
// each collector does its own jobs, whichever server they were asked of.
func TestTwoServersOneDatabase(t *testing.T) {
	t.Parallel()
	mustSample(t)
	mustBeRoot(t)
	dir := folderForAll(t)
	pg, err := private.Start(context.Background(), private.Options{Dir: filepath.Join(dir, "database")})
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		if err := pg.Stop(); err != nil {
			t.Error(err)
		}
	}()
	file := secretIn(t, pg.Address)
	start := func(n int) (visitor, *exec.Cmd) {
		cmd := exec.Command(program("entelon"), serveWords("--listen", "127.0.0.1:0", "--database-file", file, "--collector-state", filepath.Join(dir, "state"), "--link")...)
		cmd.Env = append(os.Environ(), "XDG_DATA_HOME="+dir)
		cmd.Stderr = os.Stderr
		out, err := cmd.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			_ = cmd.Process.Signal(syscall.SIGINT)
			_ = cmd.Wait()
		})
		var address, link string
		if _, err := fmt.Fscanf(out, "Entelon is at %s (Ctrl-C ends it)\nSign in, once and within a day, at %s\n", &address, &link); err != nil {
			t.Fatal(n, err)
		}
		return enter(t, address, link), cmd
	}
	first, _ := start(1)
	second, _ := start(2)
	d := &desk{t: t, address: strings.TrimPrefix(first.address, "http://"), token: first.token("collect")}
	var list api.CollectorsOut
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		d.ask("GET", "/collectors", nil, &list)
		if len(list.Collectors) == 2 && list.Collectors[0].Here && list.Collectors[1].Here {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%+v", list)
		}
	}
	e := &desk{t: t, address: strings.TrimPrefix(second.address, "http://"), token: second.token("collect")}
	for _, c := range list.Collectors {
		for _, at := range []*desk{d, e} {
			set := busy
			set.ForNS = int64(500 * time.Millisecond)
			var j api.JobOut
			if status, body := at.ask("POST", "/jobs", api.JobIn{Collector: c.Name, Settings: &set}, &j); status != http.StatusAccepted {
				t.Fatalf("%d: %s", status, body)
			}
			if j = at.until(j.ID, "its end", ended); j.Take == "" || j.Collector != c.Name {
				t.Errorf("%+v", j)
			}
		}
	}
}
