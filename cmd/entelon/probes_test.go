package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/cmd/entelon/reading"
	"entelon/judge"
)

// TestStaticProbes: pairs of probes are spans, nested ones too, as many and as long as the program itself
// says; what it does only for who wants to know, it does.
func TestStaticProbes(t *testing.T) {
	mustSample(t)
	if os.Geteuid() != 0 {
		t.Skip("probes are followed by root")
	}
	judge.Fairly(t, probed)
}

func probed(t *judge.Try) {
	dir := t.TempDir()
	program, file := filepath.Join(dir, "probes"), filepath.Join(dir, "x.take")
	if b, err := exec.Command("cc", "-O1", "-o", program, "testdata/probes/probes.c").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	r := entelon(t.T, "take", "--out", file, "-m", "cpu", "-m", "probe:shop:*", "--", program)
	if r.code != 0 {
		t.Fatal(r.stderr)
	}
	var plates, ended, left, proofs int
	var platesNS, proofsNS int64
	at := strings.Index(r.stderr, "plates ")
	if n, err := fmt.Sscanf(r.stderr[max(at, 0):], "plates %d %d %d %d\nproofs %d %d", &plates, &ended, &left, &platesNS, &proofs, &proofsNS); n != 6 {
		t.Fatalf("%v: %s", err, r.stderr)
	}
	names := map[string]reading.SpanNameJSON{}
	for _, n := range parse[reading.SpansJSON](t.T, "spans", file, "--json").Names {
		names[n.Name] = n
	}
	p, q := names["shop:plate"], names["shop:proof"]
	const deep = 100 - 64 // of them, those that are beyond what is followed
	if plates != 904 || proofs != 200 || left != 80 {
		t.Fatalf("there were %d plates, %d left, and %d proofs", plates, left, proofs)
	}
	if p.Spans != plates-deep || p.Open != left || q.Spans != proofs || q.Open != 0 {
		t.Errorf("of %d plates, %d left, it has %d and %d; of %d proofs %d", plates, left, p.Spans, p.Open, proofs, q.Spans)
	}
	// Each is within the program's own reading of its clock, which the probes themselves make longer.
	for name, x := range map[string][3]int64{"plates": {p.Total, platesNS, int64(ended)}, "proofs": {q.Total, proofsNS, int64(proofs)}} {
		if got, own, n := x[0], x[1], x[2]; got > own || own-got > own/20+n*20_000 {
			t.Errorf("%d %s took %d ns by the program's own word, and %d", n, name, own, got)
		}
	}
}

// TestProbesThatCannotBe: what is no pair is said in one line, with what to write instead, before anything
// runs.
func TestProbesThatCannotBe(t *testing.T) {
	mustSample(t)
	if os.Geteuid() != 0 {
		t.Skip("probes are followed by root")
	}
	dir := t.TempDir()
	program := filepath.Join(dir, "probes")
	if b, err := exec.Command("cc", "-O1", "-o", program, "testdata/probes/probes.c").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	for measure, says := range map[string]string{
		"probe:shop:plate__start": "the pair is probe:shop:plate", "probe:shop:score": "no such pair of probes", "probe:shop": "write probe:PROVIDER:NAME", "probe:": "write probe:PROVIDER:NAME",
	} {
		r := entelon(t, "take", "--out", filepath.Join(dir, "x.take"), "-m", measure, "--", program)
		if r.code == 0 || !strings.Contains(r.stderr, says) || strings.Count(r.stderr, "\n") != 1 {
			t.Errorf("%s: %d %q", measure, r.code, r.stderr)
		}
	}
	r := entelon(t, "measures", "probe:shop:*", "--of", program)
	if r.code != 0 || r.stdout != "probe:shop:plate\nprobe:shop:proof\n" {
		t.Errorf("listed are %q %s", r.stdout, r.stderr)
	}
}

// TestProbesOfPython: collections of an interpreter that nobody prepared, if it has such probes.
func TestProbesOfPython(t *testing.T) {
	mustSample(t)
	const python = "/usr/bin/python3.11"
	if os.Geteuid() != 0 {
		t.Skip("probes are followed by root")
	}
	if r := entelon(t, "measures", "probe:python:gc", "--of", python); r.code != 0 {
		t.Skip("this Python has no probes")
	}
	dir := t.TempDir()
	file, script := filepath.Join(dir, "x.take"), filepath.Join(dir, "parts.py")
	if err := os.WriteFile(script, []byte("import gc\nn = 0\ndef count(phase, info):\n    global n\n    n += phase == 'start'\ngc.callbacks.append(count)\nfor i in range(200):\n    a = []\n    a.append(a)\n    gc.collect()\nprint('collected', n)\nimport os\nos._exit(0)\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	r := entelon(t, "take", "--out", file, "-m", "cpu", "-m", "probe:python:gc", "--", python, script)
	var n int
	if _, err := fmt.Sscanf(r.stdout, "collected %d", &n); err != nil || n < 200 {
		t.Fatalf("%v: %q %s", err, r.stdout, r.stderr)
	}
	got := parse[reading.SpansJSON](t, "spans", file, "--json").Names
	// Some come before it counts.
	if len(got) != 1 || got[0].Name != "python:gc" || got[0].Spans < n || got[0].Spans > n+50 {
		t.Errorf("it collected %d times, and spans are %+v", n, got)
	}
}
