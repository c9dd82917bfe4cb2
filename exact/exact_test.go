package exact

import (
	"bytes"
	"debug/elf"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"entelon/core/profile"
	"entelon/exact/counts"
	"entelon/symbol"
)

// built compiles a program of testdata.
func built(t *testing.T, compiler, source string, flags ...string) string {
	t.Helper()
	out := filepath.Join(t.TempDir(), strings.TrimSuffix(source, filepath.Ext(source)))
	cmd := exec.Command(compiler, append(flags, "-g", "-o", out, filepath.Join("testdata", source), "-lpthread")...)
	if b, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	return out
}

// once runs a program and returns what it printed.
func once(t *testing.T, code int, command ...string) (*Run, string) {
	t.Helper()
	var out, failed bytes.Buffer
	r, err := Once(Options{Command: command, Stdout: &out, Stderr: &failed})
	if err != nil {
		t.Fatal(err)
	}
	if r.Code != code || failed.Len() > 0 {
		t.Fatalf("exit code %d (%s), %s", r.Code, r.Signal, failed.String())
	}
	return r, out.String()
}

func opened(t *testing.T) func(string) Opened {
	return func(path string) Opened {
		f, err := os.Open(path)
		if err != nil {
			return Opened{}
		}
		o, err := symbol.OpenObject(f, path, profile.KindOwn, &symbol.Finder{})
		if err != nil {
			return Opened{}
		}
		t.Cleanup(func() { _ = o.Close() })
		return Opened{o, o.BuildID, profile.KindOwn}
	}
}

// folded is what was counted of a process, by function.
type folded struct {
	*profile.Profile
	calls, instructions map[string]int64
	callers             map[string]map[string]int64 // calls by function and caller
}

func foldedOf(t *testing.T, c *counts.Counts) folded {
	t.Helper()
	f := folded{Profile(filepath.Base, []*counts.Counts{c}, Memory{}, opened(t)), map[string]int64{}, map[string]int64{}, map[string]map[string]int64{}}
	for i, s := range f.Samples.Stack {
		name := f.FunctionName(f.FunctionOf(s))
		f.instructions[name] += f.Samples.Values[0][i]
		n := f.Samples.Values[1][i]
		f.calls[name] += n
		if parent := f.Stacks.Parent[s]; n > 0 && parent != 0 {
			if f.callers[name] == nil {
				f.callers[name] = map[string]int64{}
			}
			f.callers[name][f.FunctionName(f.FunctionOf(parent))] += n
		}
	}
	return f
}

// counters reads what a program printed of its own counting.
func counters(t *testing.T, out string) map[string]int64 {
	t.Helper()
	own := map[string]int64{}
	for line := range strings.Lines(out) {
		name, n, ok := strings.Cut(strings.TrimSpace(line), " ")
		v, err := strconv.ParseInt(n, 10, 64)
		if !ok || err != nil {
			t.Fatalf("%q", line)
		}
		own[name] += v
	}
	return own
}

// TestCalls: calls are what the program counted itself, through recursion, callbacks of the C
// library, long jumps, tail calls, signal handlers on both stacks, threads, fork and exec; and
// three runs are equal.
func TestCalls(t *testing.T) { calls(t, "gcc") }

// TestCallsOfAnotherProcessor: the same holds for a static program of arm64.
func TestCallsOfAnotherProcessor(t *testing.T) { calls(t, "aarch64-linux-gnu-gcc", "-static") }

func calls(t *testing.T, compiler string, flags ...string) {
	path := built(t, compiler, "calls.c", append(flags, "-O2", "-fno-inline")...)
	r, out := once(t, 3, path)
	own := counters(t, out)
	if own["child"] != 7 {
		t.Errorf("the program that the child executed ended with %d", own["child"])
	}
	var all []folded
	for _, c := range r.Processes {
		all = append(all, foldedOf(t, c))
		t.Logf("process %d of %d, ended %d: %d instructions, %d contexts, %d blocks, %d merged, %d uncounted, %d unmatched", c.PID, c.Parent, c.Ended, c.Instructions(), len(c.Contexts), len(c.Blocks), c.Merged, c.Uncounted, c.Unmatched)
	}
	if len(all) != 3 {
		t.Fatalf("%d processes", len(all))
	}
	for name, n := range own {
		if name == "child" || name == "after" {
			continue
		}
		if got := all[0].calls[name]; got != n {
			t.Errorf("%s: %d calls, and the program counted %d; callers %v", name, got, n, all[0].callers[name])
		}
	}
	// Each process has its own: 200 of the first one, 123 of its child, 321 of what that executed.
	for i, want := range []int64{200, 123, 321} {
		if got := all[i].calls["after"]; got != want {
			t.Errorf("process %d: %d calls of after, want %d", i, got, want)
		}
	}
	if got := all[0].callers["target"]; got["main"] != own["target"] || len(got) != 1 {
		t.Errorf("a tail call stands under what it returns to: %v", got)
	}
	// What was called has returned: nothing is left on the stack of what comes later.
	depths := map[int]bool{}
	for i, s := range all[0].Samples.Stack {
		if all[0].FunctionName(all[0].FunctionOf(s)) == "after" && all[0].Samples.Values[1][i] > 0 {
			n := 0
			all[0].Walk(s, func(profile.FrameID) { n++ })
			depths[n] = true
		}
	}
	if got := all[0].callers["recurse"]; len(depths) != 1 || got["main"] != 1 || got["recurse"] != own["recurse"]-1 || r.Processes[0].Unmatched != 0 {
		t.Errorf("after is called at depths %v; recurse by %v; %d returns are of no call", depths, got, r.Processes[0].Unmatched)
	}
	for range 2 {
		again, _ := once(t, 3, path)
		for i, c := range again.Processes {
			f := foldedOf(t, c)
			for _, name := range []string{"recurse", "even", "odd", "by_height", "deep", "leaf", "tail", "target", "on_signal", "work", "after"} {
				if f.instructions[name] != all[i].instructions[name] || f.calls[name] != all[i].calls[name] {
					t.Errorf("process %d, %s: %d instructions and %d calls, and before %d and %d", i, name, f.instructions[name], f.calls[name], all[i].instructions[name], all[i].calls[name])
				}
			}
		}
	}
}

// TestInstructions: instructions are those that can be counted by hand, to the last one, and a
// repeated one is one.
func TestInstructions(t *testing.T) {
	r, _ := once(t, 0, built(t, "gcc", "loop.c", "-O1"))
	f := foldedOf(t, r.Processes[0])
	if got := f.instructions["loop"]; got != 1+2*1_000_000+1 {
		t.Errorf("a loop of a million: %d", got)
	}
	if got := f.instructions["copy"]; got != 10*6 {
		t.Errorf("ten copies: %d", got)
	}
	var sum int64
	for _, n := range f.instructions {
		sum += n
	}
	if got := int64(r.Processes[0].Instructions()); sum != got || f.Total(0) != got {
		t.Errorf("functions have %d, the process %d, the profile %d", sum, got, f.Total(0))
	}
}

// TestExceptions: what was thrown through has no calls more, and what catches goes on.
func TestExceptions(t *testing.T) { exceptions(t, "g++") }

// TestExceptionsOfAnotherProcessor: the same holds for a static program of arm64.
func TestExceptionsOfAnotherProcessor(t *testing.T) {
	exceptions(t, "aarch64-linux-gnu-g++", "-static")
}

func exceptions(t *testing.T, compiler string, flags ...string) {
	for _, optimised := range []string{"-O0", "-O2"} {
		r, out := once(t, 0, built(t, compiler, "thrown.cc", append(flags, optimised)...))
		f := foldedOf(t, r.Processes[0])
		for name, n := range counters(t, out) {
			got, callers := int64(0), map[string]int64{}
			for full, calls := range f.calls { // C++ names have their parameters
				if short, _, _ := strings.Cut(full, "("); short == name {
					got += calls
					for caller, n := range f.callers[full] {
						short, _, _ := strings.Cut(caller, "(")
						callers[short] += n
					}
				}
			}
			if got != n {
				t.Errorf("%s, %s: %d calls, and the program counted %d", optimised, name, got, n)
			}
			if name == "after" && (callers["main"] != 1 || callers["catcher"] != n-1) {
				t.Errorf("%s: after is called by %v", optimised, callers)
			}
		}
	}
}

// TestEnds: a program that kills itself leaves what was counted, and how it ended comes
// through; so do a script and what it runs.
func TestEnds(t *testing.T) {
	script := filepath.Join(t.TempDir(), "script")
	if err := os.WriteFile(script, []byte("#!/bin/sh -e\nexit $(expr 3 + $1)\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	r, _ := once(t, 7, script, "4")
	if len(r.Processes) < 2 || r.Program == script || r.Asked != script {
		t.Errorf("%d processes of %s, asked for as %s", len(r.Processes), r.Program, r.Asked)
	}
	// Each is called by what it executed in the end.
	var names []string
	p := Profile(filepath.Base, r.Processes, Memory{}, opened(t))
	for i := range p.Processes {
		names = append(names, p.Strings[p.Processes[i].Name])
	}
	if got := strings.Join(names, " "); !strings.HasSuffix(got, "sh expr") {
		t.Errorf("processes are called %q", got)
	}
	var out bytes.Buffer
	r, err := Once(Options{Command: []string{"sh", "-c", "i=0; while [ $i -lt 1000 ]; do i=$((i+1)); done; kill -9 $$"}, Stderr: &out})
	if err != nil {
		t.Fatal(err)
	}
	if c := r.Processes[0]; r.Code != 137 || r.Signal != "SIGKILL" || c.Ended != counts.Killed || c.Instructions() < 100_000 {
		t.Errorf("%d, %s: ended %d after %d instructions", r.Code, r.Signal, c.Ended, c.Instructions())
	}
}

// TestManyThreads: threads that have ended leave what they counted, and no memory.
func TestManyThreads(t *testing.T) {
	path := built(t, "gcc", "many.c", "-O1")
	many, _ := once(t, 0, path, "10000")
	alone := exec.Command(emulators[elf.EM_X86_64], "-cpu", "max", path, "10000")
	if err := alone.Run(); err != nil {
		t.Fatal(err)
	}
	if got := foldedOf(t, many.Processes[0]).calls["stroke"]; got != 10_000 {
		t.Errorf("%d calls", got)
	}
	// Later threads go on with the counts of earlier ones, so that a hundred thousand have room, too.
	if c := many.Processes[0]; c.Followed < 8_900 || c.Followed > 9_001 || len(c.Contexts) > 50_000 || c.Merged+c.Lost+c.Uncounted > 0 {
		t.Errorf("%d followed another; %d contexts, %d calls without callers and %d not counted", c.Followed, len(c.Contexts), c.Merged, c.Lost)
	}
	if without := alone.ProcessState.SysUsage().(*syscall.Rusage).Maxrss << 10; many.MemoryB-without > 100<<20 {
		t.Errorf("10 000 threads took %d MB, and in the emulator alone %d MB", many.MemoryB>>20, without>>20)
	}
}

// TestRefused: what cannot be run exactly is said in one line.
func TestRefused(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(path, mode); err != nil {
			t.Fatal(err)
		}
		return path
	}
	arm := bytes.Repeat([]byte{0}, 64)
	copy(arm, "\x7fELF\x02\x01\x01")
	arm[16], arm[18], arm[20], arm[52], arm[54], arm[58] = 2, 243, 1, 64, 56, 64
	// An arm64 program that wants a loader which is not here.
	const loader = "/lib/no-such-loader.so.1\x00"
	linked := append(make([]byte, 120), loader...)
	copy(linked, "\x7fELF\x02\x01\x01")
	linked[16], linked[18], linked[20], linked[32], linked[52], linked[54], linked[56], linked[58] = 2, 183, 1, 64, 64, 56, 1, 64
	linked[64], linked[72], linked[96], linked[104] = 3, 120, byte(len(loader)), byte(len(loader))
	for path, want := range map[string]error{
		write("linked", string(linked), 0o755):                         ErrLibraries,
		write("text", "no program", 0o755):                             ErrProgram,
		write("riscv", string(arm), 0o755):                             ErrProgram,
		write("rights", "x", 0o755|os.ModeSetuid):                      ErrRights,
		write("script", "#!"+filepath.Join(dir, "rights")+"\n", 0o755): ErrRights,
	} {
		if _, err := Once(Options{Command: []string{path}}); !errors.Is(err, want) || strings.Contains(err.Error(), "\n") {
			t.Errorf("%s: %v", path, err)
		}
	}
	if _, err := Once(Options{Command: []string{filepath.Join(dir, "none")}}); err == nil || !strings.Contains(err.Error(), "not found") {
		t.Errorf("%v", err)
	}
	t.Setenv("PATH", dir)
	if _, err := Once(Options{Command: []string{"/bin/true"}}); !errors.Is(err, ErrNoEmulator) {
		t.Errorf("without an emulator: %v", err)
	}
}

// TestPluginIsCurrent builds the plugin anew and finds it as it is committed.
func TestPluginIsCurrent(t *testing.T) {
	source, err := os.ReadFile("generate.go")
	if err != nil {
		t.Fatal(err)
	}
	out := filepath.Join(t.TempDir(), "exact.so")
	_, line, _ := strings.Cut(string(source), "//go:generate ")
	words := strings.Fields(line)
	for i, w := range words {
		if w == "plugin/exact.so" {
			words[i] = out
		}
	}
	if b, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	made, err := os.ReadFile(out)
	if err != nil || !bytes.Equal(made, plugin) {
		t.Errorf("plugin/exact.so is not what the sources make (%v); run make generate", err)
	}
}

// TestCodeThatChanges: code that was made as the program runs, and is changed again and again at
// the same place, is counted as it was when it ran.
func TestCodeThatChanges(t *testing.T) {
	r, out := once(t, 0, built(t, "gcc", "changing.c", "-O1"))
	own, f := counters(t, out), foldedOf(t, r.Processes[0])
	var instructions, calls int64
	for name, n := range f.instructions {
		if strings.HasPrefix(name, "[anonymous]") {
			instructions, calls = instructions+n, calls+f.calls[name]
		}
	}
	if own["sum"] != 7*own["calls"] || instructions != own["instructions"] || calls != own["calls"] {
		t.Errorf("%d instructions and %d calls; the program counted %v", instructions, calls, own)
	}
}

// TestFilesOfCountsAreInOrder: the first process comes first, and what each executed in its turn.
func TestFilesOfCountsAreInOrder(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"12.10", "7", "12", "100", "12.2", "7.1"} {
		if err := os.WriteFile(filepath.Join(dir, name), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	list, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	inOrder(list, 12)
	var got []string
	for _, e := range list {
		got = append(got, e.Name())
	}
	if want := "12 12.2 12.10 7 7.1 100"; strings.Join(got, " ") != want {
		t.Errorf("%v, want %s", got, want)
	}
}
