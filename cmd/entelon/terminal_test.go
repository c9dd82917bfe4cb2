package main

import (
	"encoding/json"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"entelon/capture"
	"entelon/cmd/entelon/live"
	"entelon/cmd/entelon/reading"
)

// TestTreeAndFlame: the tree leads to where the cost is, and the flame fits its columns.
func TestTreeAndFlame(t *testing.T) {
	out := entelon(t, "tree", newer).stdout
	for _, want := range []string{"100 % = ", "slur.lift", "page.Draw", "smaller)", "calls"} {
		if !strings.Contains(out, want) {
			t.Errorf("the tree has no %q:\n%s", want, out)
		}
	}
	if whole := entelon(t, "tree", newer, "--whole").stdout; strings.Contains(whole, "calls") || strings.Count(whole, "\n") <= strings.Count(out, "\n") {
		t.Error("--whole shortens chains")
	}
	if through := entelon(t, "tree", newer, "--through", "slur.lift", "--least", "0.1").stdout; !strings.Contains(strings.Split(through, "\n")[2], "slur.lift") {
		t.Errorf("--through begins elsewhere:\n%s", through)
	}
	flame := entelon(t, "tree", newer, "--flame", "--columns", "80").stdout
	for _, line := range strings.Split(flame, "\n")[1:] {
		if n := len([]rune(line)); n > 80 {
			t.Errorf("%d columns: %q", n, line)
		}
	}
	if !strings.Contains(flame, "▏page.Draw") || strings.Contains(flame, "\x1b") {
		t.Errorf("the flame:\n%s", flame)
	}
	fails(t, entelon(t, "tree", newer, "--through", "nosuch"), "no such function")
	fails(t, entelon(t, "tree", newer, "--least", "-1"), "--least")
}

// TestHotRows: rows of all kinds add up to all, and several takes to their sum.
func TestHotRows(t *testing.T) {
	one, two := parse[reading.HotJSON](t, "hot", "--json", newer), parse[reading.HotJSON](t, "hot", "--json", older)
	both := parse[reading.HotJSON](t, "hot", "--json", newer, older)
	if both.Total != one.Total+two.Total || both.Samples != one.Samples+two.Samples {
		t.Errorf("%d and %d are %d", one.Total, two.Total, both.Total)
	}
	for _, rows := range reading.RowKinds[1:] {
		x := parse[reading.HotJSON](t, "hot", "--json", "--rows", rows, newer)
		sum, share := int64(0), 0.0
		for _, r := range x.Rows {
			sum, share = sum+r.Self, share+r.Share
		}
		if sum != one.Total || math.Abs(share-1) > 1e-9 {
			t.Errorf("%s: %d of %d, %v", rows, sum, one.Total, share)
		}
	}
	fails(t, entelon(t, "hot", newer, "--rows", "colour"), "choose from")
	file := filepath.Join(t.TempDir(), "x.take")
	if r := entelon(t, "take", "-m", "waiting", "--out", file, "--", "sleep", "0.1"); r.code != 0 {
		t.Fatal(r.stderr)
	}
	fails(t, entelon(t, "hot", newer, file), "adding up 2 takes")
}

// TestExportedData: the data has what hot says.
func TestExportedData(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.json")
	if r := entelon(t, "export", newer, "--out", file, "--scope", "function is slur.lift"); r.code != 0 {
		t.Fatal(r.stderr)
	}
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var x struct {
		Samples struct{ Values [][]int64 }
		Scope   string
	}
	if err := json.Unmarshal(b, &x); err != nil {
		t.Fatal(err)
	}
	var sum int64
	for _, v := range x.Samples.Values[0] {
		sum += v
	}
	if want := parse[reading.HotJSON](t, "hot", "--json", newer, "--scope", "function is slur.lift"); sum != want.Total || x.Scope != "function is slur.lift" {
		t.Errorf("%d of %d where %s", sum, want.Total, x.Scope)
	}
}

// TestMeasuresList has what Entelon measures, the kernel's tracepoints and a program's
// functions, by pattern.
func TestMeasuresList(t *testing.T) {
	all := parse[[]capture.Measurable](t, "measures", "--json")
	names := map[string]bool{}
	for _, m := range all {
		names[m.Name] = true
		if m.Unit == "" || m.Means == "" || m.Cost == "" {
			t.Errorf("%+v", m)
		}
	}
	for _, want := range []string{"cpu", "waiting", "faults", "tracepoint:sched:sched_process_fork"} {
		if !names[want] && (os.Geteuid() == 0 || !strings.Contains(want, ":")) {
			t.Errorf("%s is not in the list of %d", want, len(all))
		}
	}
	if got := parse[[]capture.Measurable](t, "measures", "function:ma*", "--of", program("shares"), "--json"); len(got) == 0 || !strings.HasPrefix(got[0].Name, "function:ma") {
		t.Errorf("of a program: %v", got)
	}
	fails(t, entelon(t, "measures", "nosuch*"), "nothing that can be measured")
	for _, topic := range []string{"measures", "scope"} {
		if out := entelon(t, "help", topic).stdout; len(out) < 500 {
			t.Errorf("help %s is %q", topic, out)
		}
	}
}

// TestLive prints a line for each stretch of time, for as long as it is told to.
func TestLive(t *testing.T) {
	cmd := exec.Command("sh", "-c", "while :; do :; done")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	pid := strconv.Itoa(cmd.Process.Pid)
	r := entelon(t, "live", "--pid", pid, "--every", "500ms", "--for", "3s", "--rate", "997", "--top", "4", "--rows", "process", "--json")
	if r.code != 0 {
		t.Fatal(r.stderr)
	}
	lines := strings.Split(strings.TrimSpace(r.stdout), "\n")
	if len(lines) < 3 || len(lines) > 7 {
		t.Errorf("%d lines:\n%s", len(lines), r.stdout)
	}
	var end int64
	for _, line := range lines {
		var x struct {
			Begin int64 `json:"begin_ns"`
			End   int64 `json:"end_ns"`
			Rows  []struct{ Name string }
		}
		if err := json.Unmarshal([]byte(line), &x); err != nil {
			t.Fatal(err)
		}
		if x.Begin != end || x.End <= x.Begin || len(x.Rows) != 1 || x.Rows[0].Name != "sh "+pid {
			t.Errorf("from %d to %d: %+v", x.Begin, x.End, x.Rows)
		}
		end = x.End
	}
	fails(t, entelon(t, "live"), "nothing to sample")
	fails(t, entelon(t, "live", "--pid", pid, "--rows", "colour"), "choose from "+strings.Join(live.RowKinds, ", "))
	fails(t, entelon(t, "live", "--pid", pid, "--every", "1ms"), "--every")
}
