package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/cmd/entelon/reading"
)

// dozes builds a program that sleeps twenty times for 5 ms and once for 150.
func dozes(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "dozes")
	if b, err := exec.Command("cc", "-g", "-O1", "-fno-omit-frame-pointer", "-o", path, "testdata/dozes/dozes.c").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	return path
}

// TestEvents: the one long wait among the short ones is the first row, with when it was and where;
// what is printed below is over all of them.
func TestEvents(t *testing.T) {
	mustSample(t)
	file := filepath.Join(t.TempDir(), "x.take")
	if r := entelon(t, "take", "--measure", "cpu", "--measure", "waiting", "--measure", "syscalls", "--out", file, "--", dozes(t)); r.code != 0 {
		t.Fatal(r.stderr)
	}
	got := parse[reading.EventsJSON](t, "events", file, "--json", "--stacks", "--limit", "3")
	if got.Kind != "waiting" || len(got.Kinds) != 2 || got.Kinds[1].Name != "syscalls" {
		t.Fatalf("%s of %+v", got.Kind, got.Kinds)
	}
	first := got.Rows[0]
	if first.Amount < 150e6 || first.What != "[sleeps]" || got.Largest != first.Amount || got.Median > 100e6 {
		t.Errorf("the longest is %+v of %+v", first, got)
	}
	if os.Geteuid() == 0 { // else the kernel's part is not seen, and may not be followed to where it began
		if first.Function != "doze" && first.Function != "long_doze" || first.Line == 0 || !strings.Contains(strings.Join(first.Stack, " "), "long_doze") {
			t.Errorf("it is in %s, line %d: %v", first.Function, first.Line, first.Stack)
		}
	}
	// Thirteen short ones come before it.
	if first.AtNS < 13*5e6 || got.All < 21 || len(got.Rows) != 3 || got.Total < 20*5e6+150e6 {
		t.Errorf("at %d ns, %d rows, %d ns", first.AtNS, got.All, got.Total)
	}
	in := parse[reading.EventsJSON](t, "events", file, "--json", "--limit", "0", "--sort", "time", "--scope", "function is short_doze")
	if in.Events < 20 || in.Largest >= 150e6 || in.Rows[0].AtNS > in.Rows[len(in.Rows)-1].AtNS {
		t.Errorf("in a scope: %d, largest %d", in.Events, in.Largest)
	}
	r := entelon(t, "events", file, "--limit", "2")
	for _, want := range []string{"duration", "[sleeps]", "also recorded: system calls (--kind syscalls)", "2 of ", "half are at most ", "the largest is 1"} {
		if !strings.Contains(r.stdout, want) {
			t.Errorf("%q is not in\n%s", want, r.stdout)
		}
	}
}

// TestEventsThatCameTooFast: of system calls that come faster than they can be kept the short ones are
// left out, which is said and counted; the total has them all.
func TestEventsThatCameTooFast(t *testing.T) {
	mustSample(t)
	if os.Geteuid() != 0 {
		t.Skip("only root's are added up in the kernel")
	}
	file := filepath.Join(t.TempDir(), "x.take")
	if r := entelon(t, "take", "--measure", "syscalls", "--out", file, "--", dozes(t), "300000"); r.code != 0 {
		t.Fatal(r.stderr)
	}
	got := parse[reading.EventsJSON](t, "events", file, "--json", "--limit", "0", "--scope", "function is syscall")
	k := got.Kinds[0]
	if k.Events < 300_000 || k.Events > 301_000 || got.All > k.Events/2 || got.All < 1000 || !k.Apart || k.Single < got.All || k.Single > got.All+300 {
		t.Errorf("%d rows of %+v", got.All, k)
	}
	lanes := parse[reading.LanesJSON](t, "lanes", file, "--json")
	if kept := k.Events - lanes.Thinned - lanes.Lost; kept < k.Single-10 || kept > k.Single+10 {
		t.Errorf("%d of %d were left out, %d lost, and %d kept", lanes.Thinned, k.Events, lanes.Lost, k.Single)
	}
	if r := entelon(t, "events", file); !strings.Contains(r.stdout, "were shorter than 1 ms and came too fast to be kept") {
		t.Error(r.stdout)
	}
}

func TestEventsOfOtherTakes(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.take")
	if r := entelon(t, "invent", "--samples", "1000", "--out", file); r.code != 0 {
		t.Fatal(r.stderr)
	}
	for _, x := range []struct {
		args []string
		says string
	}{
		{[]string{file}, "nothing in this take was recorded event by event; take it with --measure waiting, syscalls or disk"},
		{[]string{file, "--limit", "-1"}, "--limit -1: give a number of rows, or 0 for all"},
		{[]string{file, "--scope", "thread is"}, "--scope: "},
	} {
		if r := entelon(t, append([]string{"events"}, x.args...)...); r.code == 0 || !strings.Contains(r.stderr, x.says) || strings.Count(r.stderr, "\n") > 2 {
			t.Errorf("%v: code %d, %s", x.args, r.code, r.stderr)
		}
	}
}
