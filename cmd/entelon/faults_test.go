package main

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"entelon/cmd/entelon/reading"
	"entelon/cmd/entelon/serving"
	"entelon/core/profile"
	"entelon/judge"
	"entelon/server/api"
)

// TestDatabaseIsKilledInTheMiddleOfATake: the take goes on, the database is
// started again, and the take is delivered once.
func TestDatabaseIsKilledInTheMiddleOfATake(t *testing.T) {
	t.Parallel()
	mustSample(t)
	d := newDesk(t)
	d.collect()
	id := d.job(busy)
	d.until(id, "its first samples", func(j api.JobOut) bool { return j.Samples > 100 && j.Size > 0 })
	b, err := os.ReadFile(filepath.Join(d.dir, "database", "data", "postmaster.pid"))
	if err != nil {
		t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.SplitN(string(b), "\n", 2)[0])
	if err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	if status, body := d.ask("GET", "/takes", nil, nil); status != http.StatusServiceUnavailable && status != 200 {
		t.Errorf("without its database the server answers %d: %s", status, body)
	}
	d.delivered(id).whole(t)
}

// TestFullDiskUnderTheCollector: what fitted is delivered, and says that it is
// not all.
func TestFullDiskUnderTheCollector(t *testing.T) {
	mustSample(t)
	d := newDesk(t)
	spool := filepath.Join(d.state(), "spool")
	if err := os.MkdirAll(spool, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount("none", spool, "tmpfs", 0, "size=128k,mode=0700"); err != nil {
		t.Skip(err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(spool, syscall.MNT_DETACH) })
	if err := os.WriteFile(filepath.Join(spool, "ballast"), make([]byte, 92<<10), 0o600); err != nil {
		t.Fatal(err)
	}
	d.collect()
	// A second's samples are far smaller than what is free, and a minute's far
	// larger, however much of the processor the loop gets.
	set := busy
	set.RateHz = 1999
	set.ForNS = int64(time.Minute)
	j := d.until(d.job(set), "its end", ended)
	if j.Take == "" {
		t.Fatalf("nothing of it was kept: %+v", j)
	}
	if !strings.Contains(j.Error, "the disk is full") {
		t.Errorf("the job says %q", j.Error)
	}
	var take api.TakeDetail
	if status, body := d.ask("GET", "/takes/"+j.Take, nil, &take); status != 200 {
		t.Fatalf("%d: %s", status, body)
	}
	if n := len(take.Warnings); take.Take.Samples < 100 || n == 0 || take.Warnings[n-1].Code != "unfinished" {
		t.Errorf("%d samples, %+v", take.Take.Samples, take.Warnings)
	}
	if n := d.takes(); n != 1 {
		t.Errorf("%d takes were delivered", n)
	}
}

// TestACollectorThatIsRefused ends, and is not started again for ever.
func TestACollectorThatIsRefused(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	if r := entelon(t, "collector", "enrol", d.owner.enrolLink("desk"), "--state", d.state()); r.code != 0 {
		t.Fatal(r.stderr)
	}
	req, err := http.NewRequest("DELETE", "http://"+d.address+"/api/v1/collectors/desk", nil)
	if err != nil {
		t.Fatal(err)
	}
	resp, err := d.owner.client.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if resp.StatusCode != http.StatusNoContent {
		t.Fatalf("removing a collector: %s", resp.Status)
	}
	c := exec.Command(program("entelon"), "collector", "--keep", "--state", d.state())
	var said bytes.Buffer
	c.Stderr = &said
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	over := make(chan error, 1)
	go func() { over <- c.Wait() }()
	select {
	case <-over:
	case <-time.After(20 * time.Second):
		_ = c.Process.Kill()
		t.Fatalf("it goes on: %s", said.String())
	}
	if c.ProcessState.ExitCode() != serving.ExitRefused || strings.Count(said.String(), "does not let this collector in") != 1 {
		t.Errorf("exit code %d, %s", c.ProcessState.ExitCode(), said.String())
	}
}

// TestLimitOfAllTakes: what is beyond it is refused, and there is room again
// when a take is removed.
func TestLimitOfAllTakes(t *testing.T) {
	t.Parallel()
	d := newDesk(t, "--max-disk", "2m")
	token := secretIn(t, d.token)
	upload := func(file string) (int, string) {
		r := entelon(t, "send", file, "--to", "http://"+d.address, "--token-file", token)
		return r.code, r.stderr
	}
	takes, err := filepath.Glob("../../demo/takes/engraved-*.take")
	if err != nil || len(takes) < 3 {
		t.Fatal(takes, err)
	}
	sent := 0
	var said string
	for _, file := range takes {
		code, text := upload(file)
		if code != 0 {
			said = text
			break
		}
		sent++
	}
	if sent == 0 || !strings.Contains(said, "is the limit") || !strings.Contains(said, "--max-disk") {
		t.Fatalf("%d were sent, then: %s", sent, said)
	}
	var list api.TakesOut
	d.ask("GET", "/takes", nil, &list)
	for _, x := range list.Takes {
		if status, body := d.ask("DELETE", "/takes/"+x.Key, nil, nil); status != http.StatusNoContent {
			t.Fatalf("%d: %s", status, body)
		}
	}
	if code, text := upload(takes[0]); code != 0 {
		t.Errorf("after all were removed: %s", text)
	}
}

// TestTakesInARowFromThePage: one after the other, and stopping ends the row.
func TestTakesInARowFromThePage(t *testing.T) {
	t.Parallel()
	mustSample(t)
	d := newDesk(t)
	d.collect()
	set := profile.Settings{Command: []string{"sh", "-c", "i=0; while [ $i -lt 100000 ]; do i=$((i+1)); done; echo did 4000 pages"}, RateHz: 499, BareFirst: true, WorkFrom: "did ([0-9]+) pages", Keep: "process is sh"}
	ask := func(n int, set profile.Settings) {
		t.Helper()
		for range 100 {
			if status, body := d.ask("POST", "/jobs", api.JobIn{Settings: &set, Repeat: n}, nil); status == http.StatusAccepted {
				return
			} else if status != http.StatusServiceUnavailable {
				t.Fatalf("%d: %s", status, body)
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Fatal("no collector came")
	}
	ask(3, set)
	for deadline := time.Now().Add(40 * time.Second); d.takes() < 3; time.Sleep(100 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%d takes came", d.takes())
		}
	}
	var list api.TakesOut
	d.ask("GET", "/takes", nil, &list)
	series, turns := "", map[int]bool{}
	for _, x := range list.Takes {
		var take api.TakeDetail
		d.ask("GET", "/takes/"+x.Key, nil, &take)
		turns[take.Settings.Turn] = true
		if series == "" {
			series = take.Settings.Series
		}
		if take.Settings.Series != series || take.Settings.Turns != 3 || take.Facts.Work != 4000 || take.Facts.Bare == nil || take.Facts.Bare.DurationNS <= 0 {
			t.Errorf("%+v, %v units, %+v", take.Settings, take.Facts.Work, take.Facts.Bare)
		}
	}
	if len(turns) != 3 || series == "" {
		t.Errorf("turns %v of %q", turns, series)
	}
	long := busy
	long.ForNS = int64(time.Minute)
	ask(5, long)
	var jobs api.JobsOut
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		d.ask("GET", "/jobs?running=true", nil, &jobs)
		if len(jobs.Jobs) == 1 && jobs.Jobs[0].Samples > 10 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%+v", jobs)
		}
	}
	d.ask("POST", "/jobs/"+jobs.Jobs[0].ID+"/stop", nil, nil)
	if j := d.until(jobs.Jobs[0].ID, "its end", ended); j.State != "done" {
		t.Errorf("%+v", j)
	}
	time.Sleep(500 * time.Millisecond)
	if d.ask("GET", "/jobs?running=true", nil, &jobs); len(jobs.Jobs) != 0 || d.takes() != 4 {
		t.Errorf("after it was stopped %d go on, %d takes", len(jobs.Jobs), d.takes())
	}
}

func TestForksWildly(t *testing.T) {
	mustSample(t)
	file := filepath.Join(t.TempDir(), "x.take")
	r := entelon(t, "take", "--out", file, "--", "sh", "-c", "i=0; while [ $i -lt 1500 ]; do /bin/true & i=$((i+1)); done; wait; echo all")
	if r.code != 0 || strings.TrimSpace(r.stdout) != "all" {
		t.Fatalf("exit code %d, %q: %s", r.code, r.stdout, r.stderr)
	}
	f := parse[reading.FactsJSON](t, "facts", "--json", file)
	if f.Lost != 0 || f.Samples < 50 {
		t.Errorf("%d samples, %d lost", f.Samples, f.Lost)
	}
	for _, w := range f.Warnings {
		if w.Code == "fault" {
			t.Error(w.Text)
		}
	}
}

func TestSomebodyElsesProcess(t *testing.T) {
	mustSample(t)
	if os.Geteuid() != 0 {
		t.Skip("only root can be somebody else")
	}
	dir, err := os.MkdirTemp("/var/tmp", "entelon-other-*")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o777); err != nil {
		t.Fatal(err)
	}
	exe, err := os.ReadFile(program("entelon"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "entelon"), exe, 0o755); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(filepath.Join(dir, "entelon"), "take", "--pid", fmt.Sprint(os.Getpid()), "--out", filepath.Join(dir, "x.take"))
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	fails(t, finish(t, cmd), "belongs to another user", "run as root")
	if left, err := filepath.Glob(filepath.Join(dir, "*.take*")); err != nil || len(left) != 0 {
		t.Errorf("left: %v, %v", left, err)
	}
}

// TestExpressionsEnd: expressions that go on for ever elsewhere take no longer
// than others.
func TestExpressionsEnd(t *testing.T) {
	mustSample(t)
	judge.Fairly(t, func(t *judge.Try) {
		begin := time.Now()
		file := filepath.Join(t.TempDir(), "x.take")
		r := entelon(t, "take", "--out", file, "--work-from", "(a+)+$", "--", "sh", "-c", "head -c 60000 /dev/zero | tr '\\0' a; echo b")
		if r.code != 0 {
			t.Fatal(r.stderr)
		}
		if r := entelon(t, "hot", file, "--scope", `function matches "^(([a-z])+.)+[A-Z]([a-z])+$"`); r.code != 0 {
			t.Fatal(r.stderr)
		}
		if took := time.Since(begin); took > 10*time.Second {
			t.Errorf("it took %v", took)
		}
	})
}

// TestNamesWithControlCharacters: what a program is called cannot steer the
// terminal of who reads about it.
func TestNamesWithControlCharacters(t *testing.T) {
	t.Parallel()
	mustSample(t)
	dir := t.TempDir()
	odd := filepath.Join(dir, "pa\x1b[31mge\nturn\x07")
	b, err := os.ReadFile("/bin/sh")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(odd, b, 0o755); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "x.take")
	r := entelon(t, "take", "--out", file, "--note", "a\x1b]0;b\x07", "--", odd, "-c", "i=0; while [ $i -lt 300000 ]; do i=$((i+1)); done")
	if r.code != 0 {
		t.Fatal(r.stderr)
	}
	for _, words := range [][]string{{"facts", file}, {"hot", file}, {"hot", file, "--full"}, {"stacks", file}, {"compare", file, file}, {"facts", "--json", file}, {"hot", "--json", file}} {
		out := entelon(t, words...)
		for where, text := range map[string]string{"output": out.stdout, "errors": out.stderr, "summary": r.stderr} {
			if i := strings.IndexAny(text, "\x1b\x07"); i >= 0 {
				t.Errorf("%v: a control character in its %s: %q", words[0], where, text[max(0, i-40):min(len(text), i+20)])
			}
		}
	}
}
