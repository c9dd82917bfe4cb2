package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"entelon/cmd/entelon/reading"
)

// TestAddSpans: spans in a file are added to a take of their time, under the threads that they name; a wrong clock
// or an unreadable file gets one line, and nothing is written.
func TestAddSpans(t *testing.T) {
	mustSample(t)
	dir := t.TempDir()
	file, out := filepath.Join(dir, "x.take"), filepath.Join(dir, "traced.take")
	program := dozes(t)
	began := time.Now()
	if r := entelon(t, "take", "--measure", "waiting", "--measure", "cpu", "--out", file, "--", program); r.code != 0 {
		t.Fatal(r.stderr)
	}
	over := time.Now()
	facts := parse[reading.FactsJSON](t, "facts", file, "--json")
	pid := facts.Processes[0].PID
	span := func(name string, from, to time.Time, thread uint32) string {
		return fmt.Sprintf(`{"traceId":"5b8aa5a2d2c872e8321cf37308d69df2","spanId":"051581bf3cb55c13","name":%q,"startTimeUnixNano":"%d","endTimeUnixNano":"%d","attributes":[{"key":"thread.id","value":{"intValue":"%d"}}]}`, name, from.UnixNano(), to.UnixNano(), thread)
	}
	write := func(name, spans string) string {
		path := filepath.Join(dir, name)
		text := fmt.Sprintf(`{"resourceSpans":[{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"engraved"}},{"key":"process.pid","value":{"intValue":"%d"}}]},"scopeSpans":[{"spans":[%s]}]}]}`, pid, spans)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	within := began.Add(over.Sub(began) / 2)
	good := write("good.json", span("page", began, over, pid)+","+span("draw", within, within.Add(time.Millisecond), pid)+","+span("late", over.Add(time.Hour), over.Add(2*time.Hour), pid))
	r := entelon(t, "add", file, good, "--out", out)
	if r.code != 0 || !strings.Contains(r.stdout, "2 spans added: 2 of threads of the take") || !strings.Contains(r.stdout, "left out: 1 before or after the take") {
		t.Fatalf("%d %s%s", r.code, r.stdout, r.stderr)
	}
	got := parse[reading.SpansJSON](t, "spans", out, "--json")
	ns := map[string]int64{}
	for _, n := range got.Names {
		ns[n.Name] = n.Total
	}
	if len(ns) != 2 || ns["draw"] != 1_000_000 || ns["page"] > over.Sub(began).Nanoseconds() {
		t.Errorf("the spans are %v", ns)
	}
	one := parse[reading.SpansJSON](t, "spans", out, "--name", "page", "--blame", "100%", "--json").Names[0]
	if one.Blame == nil || one.Blame.TotalNS == 0 {
		t.Errorf("nothing is known of what it did: %+v", one)
	}

	wrong := write("wrong.json", span("page", began.Add(-time.Hour), over.Add(-time.Hour), pid))
	if r := entelon(t, "add", file, wrong, "--out", filepath.Join(dir, "no.take")); r.code == 0 || !strings.Contains(r.stderr, "--shift says") || strings.Count(r.stderr, "\n") != 1 {
		t.Errorf("%d %s", r.code, r.stderr)
	}
	if r := entelon(t, "add", file, wrong, "--shift", "1h", "--out", filepath.Join(dir, "shifted.take")); r.code != 0 || !strings.Contains(r.stdout, "1 spans added") && !strings.Contains(r.stdout, "1 span added") {
		t.Errorf("%d %s%s", r.code, r.stdout, r.stderr)
	}
	for _, args := range [][]string{{file, file, "--out", filepath.Join(dir, "no.take")}, {file, good}, {file, good, "--out", file}, {good, good, "--out", filepath.Join(dir, "no.take")}} {
		if r := entelon(t, append([]string{"add"}, args...)...); r.code == 0 || strings.Count(r.stderr, "\n") != 1 {
			t.Errorf("%v: %d %s", args, r.code, r.stderr)
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "no.take")); err == nil {
		t.Error("a take was written all the same")
	}
}
