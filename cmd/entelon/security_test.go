package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"entelon/cmd/entelon/serving"
	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/core/profile"
	"entelon/server/api"
)

// field returns a line of a process's status file.
func field(t *testing.T, pid int, name string) string {
	t.Helper()
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(b)) {
		if v, ok := strings.CutPrefix(line, name+":"); ok {
			return strings.Join(strings.Fields(v), " ")
		}
	}
	t.Fatalf("process %d has no %s", pid, name)
	return ""
}

// allow writes the file that says what the desk's machine allows.
func (d *desk) allow(text string) {
	d.t.Helper()
	if err := os.WriteFile(filepath.Join(d.dir, "rights.yaml"), []byte(text), 0o600); err != nil {
		d.t.Fatal(err)
	}
}

func mustBeRoot(t *testing.T) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root has rights to give up")
	}
}

// TestRightsAreGivenUp: the server is an ordinary user without any capability and
// without a way to gain some; the collector has those that it needs.
func TestRightsAreGivenUp(t *testing.T) {
	mustBeRoot(t)
	d := newDesk(t)
	s := d.server.Process.Pid
	if got := field(t, s, "Uid"); got != "7420 7420 7420 7420" {
		t.Errorf("the server runs as %s", got)
	}
	for _, name := range []string{"CapInh", "CapPrm", "CapEff", "CapAmb", "Groups"} {
		if got := field(t, s, name); strings.Trim(got, "0") != "" {
			t.Errorf("the server's %s is %s", name, got)
		}
	}
	if got := field(t, s, "NoNewPrivs"); got != "1" {
		t.Error("the server can gain rights again")
	}
	tasks, err := os.ReadDir(fmt.Sprintf("/proc/%d/task", s))
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range tasks {
		tid, err := strconv.Atoi(x.Name())
		if err != nil {
			t.Fatal(err)
		}
		if got := field(t, tid, "CapEff"); strings.Trim(got, "0") != "" {
			t.Errorf("thread %d of the server has %s", tid, got)
		}
	}
	c := d.collect()
	d.job(busy) // it is up
	var want uint64
	for _, x := range serving.CollectorRights {
		want |= 1 << x
	}
	for _, name := range []string{"CapEff", "CapPrm", "CapBnd"} {
		had, err := strconv.ParseUint(field(t, os.Getpid(), name), 16, 64)
		if err != nil {
			t.Fatal(err)
		}
		if got := field(t, c.Process.Pid, name); got != fmt.Sprintf("%016x", want&had) {
			t.Errorf("the collector's %s is %s, want %016x", name, got, want&had)
		}
	}
	fails(t, entelon(t, "serve", "--listen", "127.0.0.1:0", "--data", filepath.Join(d.dir, "other")), "does not run as root", "--user", "--as-root")
	fails(t, entelon(t, "serve", "--listen", "127.0.0.1:0", "--user", "root"), "that is root")
}

// TestWhatACommandSees: nothing of Entelon's own, nothing of the shell in which
// the collector was started, no rights, no other files, no terminal.
func TestWhatACommandSees(t *testing.T) {
	mustSample(t)
	mustBeRoot(t)
	t.Setenv("ENTELON_TOKEN", "hush")
	t.Setenv("PGPASSWORD", "hush")
	t.Setenv("LD_PRELOAD", "")
	d := newDesk(t)
	d.collect()
	open := filepath.Join(d.dir, "open")
	if err := os.Mkdir(open, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(open, 0o777); err != nil {
		t.Fatal(err)
	}
	set := busy
	set.Env = []string{"PLATE=7"}
	set.Command = []string{"sh", "-c", `cd ` + open + `; tr '\0' '\n' </proc/self/environ >env; cat /proc/self/status >status; ls -l /proc/self/fd >files; pwd -P; ps -o sid= -p $$ >session; echo $$ >pid; while :; do :; done`}
	id := d.job(set)
	d.until(id, "its first samples", func(j api.JobOut) bool { return j.Samples > 50 || ended(j) })
	read := func(name string) string {
		t.Helper()
		b, err := os.ReadFile(filepath.Join(open, name))
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	var names []string
	for line := range strings.Lines(read("env")) {
		name, _, _ := strings.Cut(strings.TrimSpace(line), "=")
		names = append(names, name)
	}
	slices.Sort(names)
	if got := strings.Join(slices.DeleteFunc(names, func(n string) bool { return n == "OLDPWD" || n == "PWD" }), " "); got != "HOME LANG LOGNAME PATH PLATE SHELL USER" {
		t.Errorf("its environment has %s", got)
	}
	status := read("status")
	for _, want := range []string{"Uid:\t65534\t65534\t65534\t65534", "CapEff:\t0000000000000000", "CapPrm:\t0000000000000000"} {
		if !strings.Contains(status, want) {
			t.Errorf("it lacks %q: %s", want, status)
		}
	}
	for line := range strings.Lines(read("files")) {
		if _, to, ok := strings.Cut(strings.TrimSpace(line), " -> "); ok && to != "/dev/null" && !strings.HasPrefix(to, open) && !strings.HasPrefix(to, "/proc/") && !strings.HasPrefix(to, "pipe:") {
			t.Errorf("it has an open file %s", to)
		}
	}
	if pid := strings.TrimSpace(read("pid")); strings.TrimSpace(read("session")) != pid {
		t.Errorf("process %s is of the session %s, another's", pid, read("session"))
	}
	// What others see of it has the names of its environment, not the values.
	d.until(id, "its end", ended)
	j := d.delivered(id)
	if !slices.Equal(j.Settings.Env, []string{"PLATE"}) {
		t.Errorf("the take shows the environment %v", j.Settings.Env)
	}
	req, err := http.NewRequest("GET", "http://"+d.address+"/api/v1/takes/"+j.Take.Key+"/file", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+d.token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	x, err := take.Read(resp.Body, "the take", take.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(x.Settings.Env, []string{"PLATE"}) {
		t.Errorf("the file holds the environment %v", x.Settings.Env)
	}
}

// TestForgedTakes: what a take says of itself is never run. A take of a job that
// this server has on record is made again as that job was.
func TestForgedTakes(t *testing.T) {
	t.Parallel()
	mustSample(t)
	d := newDesk(t)
	d.collect()
	mark := filepath.Join(d.dir, "forged")
	forge := func(change func(*profile.Settings)) string {
		t.Helper()
		x := invent.Take(5, invent.Small)
		x.Settings.Command = []string{"touch", mark}
		x.Settings.PIDs, x.Settings.PID, x.Settings.User = nil, 0, "root"
		x.Machine.Host = "desk"
		if change != nil {
			change(&x.Settings)
		}
		var b bytes.Buffer
		if err := take.Write(&b, x); err != nil {
			t.Fatal(err)
		}
		req, err := http.NewRequest("POST", "http://"+d.address+"/api/v1/takes", &b)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+d.owner.token("work"))
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		var out api.AddedOut
		if err != nil || json.Unmarshal(text, &out) != nil || out.Take.Key == "" {
			t.Fatalf("%v: %s", err, text)
		}
		return out.Take.Key
	}
	key := forge(nil)
	for path, in := range map[string]any{"/jobs": api.JobIn{Again: key}, "/counts": api.CountIn{Take: key, Function: "main", Seconds: 1}} {
		if status, body := d.ask("POST", path, in, nil); status != http.StatusConflict || !strings.Contains(body, "no job of this server") {
			t.Errorf("%s of a forged take: %d, %s", path, status, body)
		}
	}
	// A job of one's own, made again: by the settings on record.
	set := busy
	set.ForNS = int64(time.Second)
	first := d.until(d.job(set), "its end", ended)
	var take api.TakeDetail
	if d.ask("GET", "/takes/"+first.Take, nil, &take); !take.OnRecord || take.Collector != "desk" {
		t.Errorf("a take of a job: on record %v, of %q", take.OnRecord, take.Collector)
	}
	var again api.JobOut
	if status, body := d.ask("POST", "/jobs", api.JobIn{Again: first.Take}, &again); status != http.StatusAccepted {
		t.Fatalf("%d: %s", status, body)
	}
	if j := d.until(again.ID, "its end", ended); j.Take == "" || j.AgainOf != first.Take || !slices.Equal(j.Settings.Command, set.Command) {
		t.Errorf("%+v", j)
	}
	// Its row has no secrets once it has ended: what is made again has them given anew.
	set.Command = append(slices.Clone(busy.Command), "--password", "hunter2hunter2")
	secret := d.until(d.job(set), "its end", ended)
	if status, body := d.ask("POST", "/jobs", api.JobIn{Again: secret.Take}, nil); status != http.StatusConflict || !strings.Contains(body, "1 of its arguments and variables looked like secrets and were not kept") {
		t.Errorf("%d, %s", status, body)
	}
	set.KeepSecrets = true
	if kept := d.until(d.job(set), "its end", ended); kept.Take == "" || !slices.Equal(kept.Settings.Command, set.Command) {
		t.Errorf("%+v", kept.Settings)
	} else if status, body := d.ask("POST", "/jobs", api.JobIn{Again: kept.Take}, &again); status != http.StatusAccepted {
		t.Errorf("%d, %s", status, body)
	} else if j := d.until(again.ID, "its end", ended); !slices.Equal(j.Settings.Command, set.Command) {
		t.Errorf("%+v", j.Settings)
	}
	// Somebody who has seen the settings may send them along; the machine's owner
	// still decides.
	seen := profile.Settings{Command: []string{"touch", mark}, User: "root", RateHz: 99}
	if os.Geteuid() == 0 {
		var j api.JobOut
		if status, body := d.ask("POST", "/jobs", api.JobIn{Again: key, Settings: &seen}, &j); status != http.StatusAccepted {
			t.Fatalf("%d: %s", status, body)
		}
		if j = d.until(j.ID, "its end", ended); j.State != "failed" || !strings.Contains(j.Error, "this machine does not allow it") {
			t.Errorf("as root: %+v", j)
		}
	}
	if _, err := os.Stat(mark); err == nil {
		t.Error("a forged command was run")
	}
	for _, what := range []string{"launch", "take sent"} {
		if !strings.Contains(d.audit(), what) {
			t.Errorf("the audit list does not have %q", what)
		}
	}
}

// audit reads the audit list.
func (d *desk) audit() string {
	d.t.Helper()
	resp, err := d.owner.client.Get("http://" + d.address + "/api/v1/audit")
	if err != nil {
		d.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		d.t.Fatal(err)
	}
	return string(b)
}

// TestRightsOfACollectorSuffice: with the few that it keeps, a collector still
// collects every measure, of commands, of processes of others, and of the whole
// machine; and what the owner's file allows as root runs as root.
func TestRightsOfACollectorSuffice(t *testing.T) {
	mustSample(t)
	mustBeRoot(t)
	d := newDesk(t)
	d.allow("commands:\n  - users: [root, nobody]\nattach: ['*']\nmachine: true\n")
	d.collect()
	work := "i=0; while [ $i -lt 300 ]; do head -c 10000 /dev/zero >/dev/null; i=$((i+1)); done; sleep 0.1"
	for name, set := range map[string]profile.Settings{
		"measures":   {Command: []string{"sh", "-c", work}, Measures: []string{"cpu", "waiting", "faults", "syscalls"}},
		"memory":     {Command: []string{"sh", "-c", work}, Measures: []string{"cpu", "allocations"}, User: "nobody"},
		"tracepoint": {Command: []string{"sh", "-c", work}, Measures: []string{"tracepoint:sched:sched_process_fork"}},
		"machine":    {Machine: true, ForNS: int64(time.Second)},
		"attached":   {PIDs: []int{os.Getpid()}, ForNS: int64(time.Second)},
		"python":     {Command: []string{"python3", "-c", "for i in range(3000000): hash(str(i))"}},
	} {
		set.RateHz = 499
		j := d.until(d.job(set), "its end", ended)
		if j.State != "done" || j.Error != "" {
			t.Errorf("%s: %+v", name, j)
			continue
		}
		var x api.TakeDetail
		if d.ask("GET", "/takes/"+j.Take, nil, &x); name != "attached" && x.Take.Samples < 20 {
			t.Errorf("%s: %d samples, %+v", name, x.Take.Samples, x.Warnings)
		}
		for _, w := range x.Warnings {
			if strings.Contains(w.Text, "not permitted") || strings.Contains(w.Text, "permission denied") {
				t.Errorf("%s: %s", name, w.Text)
			}
		}
	}
	var counted api.CountOut
	set := profile.Settings{Command: []string{program("goshares")}, RateHz: 99}
	if status, body := d.ask("POST", "/counts", api.CountIn{Take: "", Settings: &set, Function: "main.main", Seconds: 2}, &counted); status != http.StatusOK || len(counted.Functions) == 0 {
		t.Errorf("a count: %d, %s", status, body)
	}
}

// TestTokensComeFromFiles that nobody else can read.
func TestTokensComeFromFiles(t *testing.T) {
	open := secretIn(t, "hush")
	if err := os.Chmod(open, 0o644); err != nil {
		t.Fatal(err)
	}
	fails(t, entelon(t, "send", older, "--token-file", open), "can be read by others", "chmod 600")
	fails(t, entelon(t, "serve", "--as-root", "--listen", "127.0.0.1:0", "--database-file", open), "can be read by others")
	if err := os.Chmod(open, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(open, 0); err != nil {
		t.Fatal(err)
	}
	fails(t, entelon(t, "send", older, "--token-file", open), "is empty")
}
