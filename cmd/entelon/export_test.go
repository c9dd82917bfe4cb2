package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"entelon/cmd/entelon/reading"
)

// TestStacksBecomeATake: a file of stacks is read by the commands that read takes, and
// written as a take shows the same; what would leave out part of a take that is written
// whole is refused, and nothing is written then.
func TestStacksBecomeATake(t *testing.T) {
	dir := t.TempDir()
	stacks, take := filepath.Join(dir, "partbook.txt"), filepath.Join(dir, "partbook.take")
	if err := os.WriteFile(stacks, []byte("main;search;strain 30\nmain;search 12\nmain 3\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	before := parse[reading.HotJSON](t, "hot", "--json", stacks)
	if before.Total != 45 || len(before.Functions) != 3 || before.Functions[0].Name != "strain" || before.Functions[0].Self != 30 {
		t.Fatalf("%+v", before)
	}
	for _, flags := range [][]string{{"--scope", "function is search"}, {"--fold", "runtime"}, {"--width", "900"}} {
		r := entelon(t, append([]string{"export", stacks, "--out", take}, flags...)...)
		if _, err := os.Stat(take); r.code == 0 || err == nil || !strings.Contains(r.stderr, flags[0]+": a take is always written whole") {
			t.Errorf("%v: code %d, %q", flags, r.code, r.stderr)
		}
	}
	if r := entelon(t, "export", stacks, "--out", take); r.code != 0 {
		t.Fatal(r.stderr)
	}
	after := parse[reading.HotJSON](t, "hot", "--json", take)
	if after.Total != before.Total || len(after.Functions) != 3 || after.Functions[0] != before.Functions[0] {
		t.Errorf("%+v, then %+v", before, after)
	}
	r := entelon(t, "stacks", take, "--measure", "counted")
	if r.code != 0 || r.stdout != "main 3\nmain;search 12\nmain;search;strain 30\n" {
		t.Errorf("back again: %q %s", r.stdout, r.stderr)
	}
	if r := entelon(t, "export", stacks, "--out", filepath.Join(dir, "x"), "--as", "engraving"); r.code == 0 || !strings.Contains(r.stderr, "choose report, picture, table, stacks, data or take") {
		t.Errorf("%q", r.stderr)
	}
}
