package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"entelon/cmd/entelon/reading"
)

// built compiles one of the programs of truth/.
func built(t *testing.T, source string, flags ...string) string {
	t.Helper()
	out := filepath.Join(t.TempDir(), "program")
	if b, err := exec.Command("cc", append([]string{"-g", "-O2", "-o", out, "../../truth/programs/" + source, "-lm"}, flags...)...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	return out
}

// TestWaysToWalk: by tables a program without frame pointers has whole stacks;
// by frame pointers alone it has not, and the take says why and what helps.
func TestWaysToWalk(t *testing.T) {
	mustSample(t)
	exe := built(t, "shapes.c", "-fomit-frame-pointer")
	file := filepath.Join(t.TempDir(), "x.take")
	for _, c := range []struct {
		way    string
		low    float64
		high   float64
		warned bool
	}{{"tables", 0.98, 1, false}, {"frame pointers", 0, 0.6, true}} {
		if r := entelon(t, "take", "--unwind", c.way, "--out", file, "--", exe, "0.8"); r.code != 0 {
			t.Fatal(r.stderr)
		}
		f := parse[reading.FactsJSON](t, "facts", "--json", file)
		if f.Unwind != c.way || f.CompleteShare < c.low || f.CompleteShare > c.high || (f.StackBytes > 0) == c.warned {
			t.Errorf("%s: %s, %.3f complete, %d bytes copied", c.way, f.Unwind, f.CompleteShare, f.StackBytes)
		}
		told := ""
		for _, w := range f.Warnings {
			if w.Code == "cut-off" {
				told = w.Text + " " + w.Remedy
			}
		}
		if (told != "") != c.warned || c.warned && !strings.Contains(told, "--unwind tables") {
			t.Errorf("%s: the warning is %q", c.way, told)
		}
	}
}

// TestDeeperThanTheCopy: the inner frames stay under a root that says why,
// every such stack is counted, and the warning begins at the share that was set.
func TestDeeperThanTheCopy(t *testing.T) {
	mustSample(t)
	exe := built(t, "deep.c", "-fno-optimize-sibling-calls", "-fomit-frame-pointer")
	file := filepath.Join(t.TempDir(), "x.take")
	for _, c := range []struct {
		warn   string
		warned bool
	}{{"1", true}, {"90", false}} {
		if r := entelon(t, "take", "--warn-cut", c.warn, "--out", file, "--", exe, "0.8"); r.code != 0 {
			t.Fatal(r.stderr)
		}
		f := parse[reading.FactsJSON](t, "facts", "--json", file)
		if len(f.CutOff) == 0 || f.CutOff[0].Reason != "deeper than the copied stack" || f.CutOff[0].Stacks == 0 {
			t.Fatalf("cut off: %+v", f.CutOff)
		}
		warned := false
		for _, w := range f.Warnings {
			warned = warned || w.Code == "cut-off" && strings.Contains(w.Remedy, "Nothing deeper")
		}
		if warned != c.warned {
			t.Errorf("--warn-cut %s: warned is %v: %+v", c.warn, warned, f.Warnings)
		}
		var under int64
		for line := range strings.Lines(entelon(t, "stacks", file).stdout) {
			if strings.HasPrefix(line, "[cut off: deeper than the copied stack];descend;descend;") {
				_, count, _ := strings.Cut(line[strings.LastIndex(line, ";"):], " ")
				n, err := strconv.ParseInt(strings.TrimSpace(count), 10, 64)
				if err != nil {
					t.Fatal(err)
				}
				under += n
			}
		}
		if under == 0 {
			t.Error("no stack stands under the mark with its inner frames")
		}
	}
}

// TestAnUnreadableFileIsTold: a program whose debug information is rubbish
// keeps its names from the symbol table, and the take says which file is
// damaged and why.
func TestAnUnreadableFileIsTold(t *testing.T) {
	mustSample(t)
	exe := built(t, "shapes.c")
	rubbish := filepath.Join(t.TempDir(), "rubbish")
	if err := os.WriteFile(rubbish, []byte(strings.Repeat("rubbish ", 400)), 0o644); err != nil {
		t.Fatal(err)
	}
	if b, err := exec.Command("objcopy", "--update-section", ".debug_info="+rubbish, exe).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	file := filepath.Join(t.TempDir(), "x.take")
	if r := entelon(t, "take", "--symbol-cache", "off", "--out", file, "--", exe, "0.5"); r.code != 0 {
		t.Fatal(r.stderr)
	}
	f := parse[reading.FactsJSON](t, "facts", "--json", file)
	told := ""
	for _, w := range f.Warnings {
		if w.Code == "unreadable" {
			told = w.Text
		}
	}
	if !strings.Contains(told, filepath.Base(exe)) || !strings.Contains(told, "debug information is damaged") {
		t.Errorf("the warning is %q", told)
	}
	if !strings.Contains(entelon(t, "hot", file).stdout, "by_height") || f.CompleteShare < 0.98 {
		t.Errorf("names or stacks are lost with the debug information: %.3f complete", f.CompleteShare)
	}
}

// TestReplacedAndRemovedWhileRunning: names come from the file that runs, not
// from the one that has its name now.
func TestReplacedAndRemovedWhileRunning(t *testing.T) {
	mustSample(t)
	exe := built(t, "shapes.c")
	other := built(t, "deep.c")
	for _, how := range []string{"replaced", "removed"} {
		cmd := exec.Command(exe, "20")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		b, err := os.ReadFile(exe)
		if err != nil {
			t.Fatal(err)
		}
		if how == "replaced" {
			err = os.Rename(other, exe)
		} else {
			err = os.Remove(exe)
		}
		if err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(t.TempDir(), "x.take")
		r := entelon(t, "take", "--pid", strconv.Itoa(cmd.Process.Pid), "--for", "0.7", "--out", file)
		_ = cmd.Process.Kill() // it may have ended
		_ = cmd.Wait()
		if r.code != 0 {
			t.Fatal(r.stderr)
		}
		if out := entelon(t, "hot", file).stdout; !strings.Contains(out, "by_height") {
			t.Errorf("%s while it ran:\n%s%s", how, out, r.stderr)
		}
		if err := os.WriteFile(exe, b, 0o755); err != nil {
			t.Fatal(err)
		}
	}
}
