package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"entelon/core/profile"
	"entelon/server/api"
)

// desk is a server on an address of its own, with what a test needs of it.
type desk struct {
	t       *testing.T
	dir     string
	address string
	owner   visitor
	token   string
	server  *exec.Cmd
	more    []string // flags of the server
}

func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// newDesk starts a server without a collector.
func newDesk(t *testing.T, more ...string) *desk {
	t.Helper()
	dir, err := os.MkdirTemp("/var/tmp", "entelon-desk-*")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	d := &desk{t: t, dir: dir, address: freeAddress(t), more: more}
	link := d.start()
	d.owner = enter(t, "http://"+d.address, link)
	d.token = d.owner.token("collect")
	return d
}

// start starts the server and returns the link that it prints, "" for none.
func (d *desk) start() (link string) {
	d.t.Helper()
	d.server = exec.Command(program("entelon"), append(serveWords("--no-collector", "--listen", d.address, "--data", filepath.Join(d.dir, "database"), "--link"), d.more...)...)
	d.server.Stderr = os.Stderr
	out, err := d.server.StdoutPipe()
	if err != nil {
		d.t.Fatal(err)
	}
	if err := d.server.Start(); err != nil {
		d.t.Fatal(err)
	}
	s := d.server
	d.t.Cleanup(func() {
		_ = s.Process.Signal(syscall.SIGINT) // it may have been ended already
		_ = s.Wait()
	})
	lines := bufio.NewReader(out)
	for range 2 {
		line, err := lines.ReadString('\n')
		if err != nil {
			d.t.Fatal(err)
		}
		if _, after, ok := strings.Cut(line, " at http://"+d.address+"/enter/"); ok {
			link = strings.TrimSpace(after)
		}
	}
	go io.Copy(io.Discard, lines)
	return link
}

// state is the folder of the desk's own collector.
func (d *desk) state() string { return filepath.Join(d.dir, "collector") }

// collect starts a collector, which is enrolled if it is not yet.
func (d *desk) collect(more ...string) *exec.Cmd {
	d.t.Helper()
	if _, err := os.Stat(filepath.Join(d.state(), "identity.json")); err != nil {
		if r := entelon(d.t, "collector", "enrol", d.owner.enrolLink("desk"), "--state", d.state()); r.code != 0 {
			d.t.Fatal(r.stderr)
		}
	}
	c := exec.Command(program("entelon"), append([]string{"collector", "--state", d.state(), "--rights", filepath.Join(d.dir, "rights.yaml")}, more...)...)
	c.Stderr = os.Stderr
	if err := c.Start(); err != nil {
		d.t.Fatal(err)
	}
	d.t.Cleanup(func() {
		_ = c.Process.Signal(syscall.SIGTERM)
		_ = c.Wait()
	})
	return c
}

func (d *desk) ask(method, path string, in, out any) (status int, body string) {
	d.t.Helper()
	b, err := json.Marshal(in)
	if err != nil {
		d.t.Fatal(err)
	}
	req, err := http.NewRequest(method, "http://"+d.address+"/api/v1"+path, bytes.NewReader(b))
	if err != nil {
		d.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+d.token)
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode < 300 && out != nil {
		err = json.Unmarshal(text, out)
	}
	if err != nil {
		d.t.Fatal(err)
	}
	return resp.StatusCode, string(text)
}

// until waits for something of a job.
func (d *desk) until(id, what string, good func(api.JobOut) bool) (j api.JobOut) {
	d.t.Helper()
	for deadline := time.Now().Add(40 * time.Second); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		if status, _ := d.ask("GET", "/jobs/"+id, nil, &j); status == 200 && good(j) {
			return j
		}
	}
	d.t.Fatalf("waited in vain for %s: %+v", what, j)
	return j
}

// job asks for a take, waiting until a collector is there.
func (d *desk) job(set profile.Settings) string {
	d.t.Helper()
	var j api.JobOut
	for range 100 {
		status, body := d.ask("POST", "/jobs", api.JobIn{Settings: &set}, &j)
		if status == http.StatusAccepted {
			return j.ID
		}
		if status != http.StatusServiceUnavailable {
			d.t.Fatalf("%d: %s", status, body)
		}
		time.Sleep(100 * time.Millisecond)
	}
	d.t.Fatal("no collector came")
	return ""
}

// takes counts the takes that the server has.
func (d *desk) takes() int64 {
	d.t.Helper()
	var out api.TakesOut
	if status, body := d.ask("GET", "/takes", nil, &out); status != 200 {
		d.t.Fatalf("%d: %s", status, body)
	}
	return out.Count
}

var busy = profile.Settings{Command: []string{"sh", "-c", "while :; do :; done"}, RateHz: 499, ForNS: int64(4 * time.Second)}

// delivered waits for the end of a job and returns its take, which must be the
// only one.
func (d *desk) delivered(id string) lasted {
	d.t.Helper()
	j := d.until(id, "its end", ended)
	if j.State != "done" || j.Take == "" {
		d.t.Fatalf("%+v", j)
	}
	var take api.TakeDetail
	if status, body := d.ask("GET", "/takes/"+j.Take, nil, &take); status != 200 {
		d.t.Fatalf("%d: %s", status, body)
	}
	if n := d.takes(); n != 1 {
		d.t.Errorf("%d takes were delivered", n)
	}
	return lasted{take}
}

// lasted is a take that was to go on for as long as it was asked for.
type lasted struct{ api.TakeDetail }

func (x lasted) whole(t *testing.T) {
	t.Helper()
	if s := float64(x.Take.DurationNS) / 1e9; s < 3.8 || x.Facts.EndedBy != "time" {
		t.Errorf("the take lasted %.2f s and was ended by %s", s, x.Facts.EndedBy)
	}
}

func ended(j api.JobOut) bool { return j.State == "done" || j.State == "failed" }

// TestServerIsKilledInTheMiddleOfATake: the take goes on, and is delivered once
// when the server is back.
func TestServerIsKilledInTheMiddleOfATake(t *testing.T) {
	t.Parallel()
	mustSample(t)
	d := newDesk(t)
	d.collect()
	id := d.job(busy)
	d.until(id, "its first samples", func(j api.JobOut) bool { return j.Samples > 100 && j.Size > 0 })
	if err := d.server.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = d.server.Wait()
	time.Sleep(time.Second)
	d.start()
	d.delivered(id).whole(t)
	if left, err := filepath.Glob(filepath.Join(d.state(), "spool", "*")); err != nil || len(left) != 0 {
		t.Errorf("left in the spool: %v, %v", left, err)
	}
}

// TestCollectorIsKilledInTheMiddleOfATake: what it had collected is delivered
// by the next one, once.
func TestCollectorIsKilledInTheMiddleOfATake(t *testing.T) {
	t.Parallel()
	mustSample(t)
	d := newDesk(t)
	c := d.collect()
	id := d.job(busy)
	d.until(id, "its first samples", func(j api.JobOut) bool { return j.Samples > 300 && j.Size > 1000 })
	if err := c.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = c.Wait()
	d.collect()
	take := d.delivered(id)
	if take.Take.Samples < 100 || len(take.Warnings) == 0 || take.Warnings[len(take.Warnings)-1].Code != "unfinished" {
		t.Errorf("%d samples, %+v", take.Take.Samples, take.Warnings)
	}
}

// TestTenTakesAtOnce: all are made, by one collector, and each stops when told.
func TestTenTakesAtOnce(t *testing.T) {
	mustSample(t)
	d := newDesk(t)
	d.collect()
	var ids []string
	for i := range 10 {
		set := profile.Settings{Command: []string{"sh", "-c", fmt.Sprintf("i=%d; while :; do i=$((i+1)); done", i)}, RateHz: 99, Program: fmt.Sprintf("p%d", i)}
		ids = append(ids, d.job(set))
	}
	for _, id := range ids {
		d.until(id, "its samples", func(j api.JobOut) bool { return j.Samples > 3 || ended(j) })
	}
	for _, id := range ids {
		if status, body := d.ask("POST", "/jobs/"+id+"/stop", nil, nil); status != 200 {
			t.Fatalf("%d: %s", status, body)
		}
	}
	for i, id := range ids {
		j := d.until(id, "its end", ended)
		if j.State != "done" || j.Settings.Program != fmt.Sprintf("p%d", i) {
			t.Errorf("%+v", j)
		}
	}
	if n := d.takes(); n != 10 {
		t.Errorf("%d takes were delivered", n)
	}
}

// TestJobsThatCannotBe: what cannot be done says so in one clear line, and a
// job is the collectors' only by their token.
func TestJobsThatCannotBe(t *testing.T) {
	t.Parallel()
	mustSample(t)
	d := newDesk(t)
	if status, body := d.ask("POST", "/jobs", api.JobIn{Settings: &busy}, nil); status != http.StatusServiceUnavailable || !strings.Contains(body, "no collector is connected") {
		t.Errorf("%d: %s", status, body)
	}
	d.collect()
	for name, c := range map[string]struct {
		set  profile.Settings
		says string
	}{
		"gone":      {profile.Settings{PIDs: []int{1 << 22}, RateHz: 99}, "there is no such process"},
		"no user":   {profile.Settings{Command: []string{"true"}, RateHz: 99, User: "nosuchuser"}, "this machine does not allow it"},
		"no folder": {profile.Settings{Command: []string{"true"}, RateHz: 99, Dir: "/no/such/folder"}, "the directory does not exist"},
		"no group":  {profile.Settings{Group: "no/such/group", RateHz: 99}, "there is no such control group"},
		"no point":  {profile.Settings{Command: []string{"true"}, RateHz: 99, Measures: []string{"tracepoint:no:such"}}, "there is no such tracepoint"},
		"control":   {profile.Settings{Command: []string{"/no/such\x1b[31m\n"}, RateHz: 99}, "the command was not found"},
	} {
		j := d.until(d.job(c.set), "its end", ended)
		if j.State != "failed" || !strings.Contains(j.Error, c.says) || strings.ContainsAny(j.Error, "\n") {
			t.Errorf("%s: %s, %q", name, j.State, j.Error)
		}
	}
	for name, c := range map[string]struct {
		set  profile.Settings
		says string
	}{
		"nothing":   {profile.Settings{RateHz: 99}, "nothing to sample"},
		"too often": {profile.Settings{Command: []string{"true"}, RateHz: 1 << 30}, "a rate of"},
		"for ever":  {profile.Settings{Command: []string{"true"}, RateHz: 99, ForNS: 1 << 62}, "lasts at most"},
		"luck":      {profile.Settings{Command: []string{"true"}, RateHz: 99, Measures: []string{"luck"}}, "there is no such measure"},
		"keep":      {profile.Settings{Command: []string{"true"}, RateHz: 99, Keep: "thread = x"}, "did you mean: thread is x"},
		"zero":      {profile.Settings{Command: []string{"tr\x00ue"}, RateHz: 99}, "zero character"},
	} {
		if status, body := d.ask("POST", "/jobs", api.JobIn{Settings: &c.set}, nil); status != http.StatusBadRequest || !strings.Contains(body, c.says) {
			t.Errorf("%s: %d, %s", name, status, body)
		}
	}
	if n := d.takes(); n != 0 {
		t.Errorf("%d takes came of it", n)
	}
}
