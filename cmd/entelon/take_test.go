package main

import (
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"entelon/cmd/entelon/reading"
	"entelon/core/calltree"
	"entelon/judge"
	"entelon/linux/procfs"
)

// knownShares samples a program that measures itself. Where the processor was taken away
// for long, the program's own measurement is none, and the take says so.
func knownShares(t *judge.Try, name string) (file string, measured float64) {
	t.Helper()
	file = filepath.Join(t.TempDir(), "x.take")
	r := entelon(t, "take", "--out", file, "--", program(name), "2.5")
	if r.code != 0 {
		t.Fatal(r.stderr)
	}
	measured, err := strconv.ParseFloat(strings.TrimSpace(r.stdout), 64)
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range parse[reading.FactsJSON](t, "facts", "--json", file).Warnings {
		if w.Code == "clock" {
			t.Error(w.Text)
		}
	}
	return file, measured
}

// TestKnownShares samples programs that measure themselves. The sampled share
// must lie within the 99 % binomial interval of the measured one.
func TestKnownShares(t *testing.T) {
	mustSample(t)
	for _, name := range []string{"shares", "shares-static", "shares-nopie"} {
		t.Run(name, func(t *testing.T) {
			judge.Fairly(t, func(t *judge.Try) {
				file, measured := knownShares(t, name)
				hot := parse[reading.HotJSON](t, "hot", "--json", file)
				var sum, first, both int64
				for _, f := range hot.Functions {
					sum += f.Self
					switch f.Name {
					case "space_measures":
						first = f.Total
						both += f.Total
					case "group_beams":
						both += f.Total
					}
					if f.Name == "space_measures" && (filepath.Base(f.File) != "shares.c" || f.Line != 16) {
						t.Errorf("space_measures is at %s:%d, want shares.c:16", f.File, f.Line)
					}
				}
				if sum != hot.Total {
					t.Errorf("self costs sum to %d, the total is %d", sum, hot.Total)
				}
				each := hot.Total / int64(hot.Samples)
				n := both / each
				low, high := calltree.Interval(int64(math.Round(measured*float64(n))), n, calltree.Z99)
				if got := float64(first) / float64(both); got < low || got > high {
					t.Errorf("%.4f of %d samples; the program measured %.4f, so %.4f to %.4f is right", got, n, measured, low, high)
				}
				facts := parse[reading.FactsJSON](t, "facts", "--json", file)
				if facts.CompleteShare < 0.99 {
					t.Errorf("only %.4f of the stacks are complete", facts.CompleteShare)
				}
				if float64(n) < 2200 || facts.Lost != 0 {
					t.Errorf("%d samples in 2.5 s, %d lost", n, facts.Lost)
				}
				if facts.BuildID == "" || facts.Build != facts.BuildID[:12] || facts.Program != name {
					t.Errorf("the build is %q with build ID %q of program %q", facts.Build, facts.BuildID, facts.Program)
				}
			})
		})
	}
}

func TestGoFunctionsHaveNamesFilesAndLines(t *testing.T) {
	mustSample(t)
	for _, name := range []string{"goshares", "goshares-stripped"} {
		file := filepath.Join(t.TempDir(), "x.take")
		if r := entelon(t, "take", "--out", file, "--", program(name)); r.code != 0 {
			t.Fatal(r.stderr)
		}
		want := map[string]uint32{"main.beams": 12, "main.slope": 19, "main.route": 22}
		for _, f := range parse[reading.HotJSON](t, "hot", "--json", file).Functions {
			if line, ok := want[f.Name]; ok && filepath.Base(f.File) == "main.go" && f.Line == line && f.Total > 0 {
				delete(want, f.Name)
			}
		}
		if len(want) > 0 {
			t.Errorf("%s: not found with file and line: %v", name, want)
		}
		out := entelon(t, "stacks", file).stdout
		if !strings.Contains(out, "main.beams;main.slope ") {
			t.Errorf("%s: the inlined function is not on its stack:\n%s", name, out)
		}
		// What a goroutine says of its work goes with its samples, but for few whose
		// labels are not in memory at that moment.
		const unread = 0.001
		for scope, share := range map[string]float64{
			`label voice is "viola da gamba" and function is main.beams`: 0.4, `span is route and function is main.route`: 0.1,
			`function is main.beams and label voice is not "viola da gamba"`: 0, `function is main.beams and label page is not 4`: 0,
			`function is main.route and span is not route`: 0, `function is main.route and label voice matches "."`: 0,
		} {
			hot, whole := parse[reading.HotJSON](t, "hot", "--json", "--scope", scope, file), parse[reading.HotJSON](t, "hot", "--json", file)
			if got := float64(hot.Total) / float64(whole.Total); got < share || share == 0 && got > unread {
				t.Errorf("%s: %s holds %.4f of the take", name, scope, got)
			}
		}
	}
}

// TestStacksOfWhoAsksForTheTime: the Go runtime goes to the system's stack for the
// kernel's own code that tells the time; the stack that it left is there.
func TestStacksOfWhoAsksForTheTime(t *testing.T) {
	mustSample(t)
	judge.Fairly(t, func(t *judge.Try) {
		file := filepath.Join(t.TempDir(), "x.take")
		if r := entelon(t, "take", "--out", file, "--", program("goclock")); r.code != 0 {
			t.Fatal(r.stderr)
		}
		if facts := parse[reading.FactsJSON](t, "facts", "--json", file); os.Getuid() == 0 && facts.CompleteShare < 0.995 {
			t.Errorf("%.4f of the stacks are complete: %+v", facts.CompleteShare, facts.CutOff)
		}
		all := parse[reading.HotJSON](t, "hot", "--json", file)
		clock := parse[reading.HotJSON](t, "hot", "--json", "--scope", `path is main.ask > *vdso*`, file)
		if clock.Samples < all.Samples/5 {
			t.Errorf("below main.ask, %d of %d samples are in the kernel's own code that tells the time", clock.Samples, all.Samples)
		}
	})
}

// TestStacksOfWhoCollectsGarbage: a worker of the collector asks for the time on the
// system's stack, which is not where its goroutine's was left.
func TestStacksOfWhoCollectsGarbage(t *testing.T) {
	mustSample(t)
	judge.Fairly(t, func(t *judge.Try) {
		file := filepath.Join(t.TempDir(), "x.take")
		if r := entelon(t, "take", "--rate", "997", "--out", file, "--", program("goclock"), "garbage"); r.code != 0 {
			t.Fatal(r.stderr)
		}
		if facts := parse[reading.FactsJSON](t, "facts", "--json", file); os.Getuid() == 0 && facts.CompleteShare < 0.995 {
			t.Errorf("%.4f of the stacks are complete: %+v", facts.CompleteShare, facts.CutOff)
		}
		hot := parse[reading.HotJSON](t, "hot", "--json", "--scope", "function is runtime.gcBgMarkWorker", file)
		if hot.Samples < 20 { // of some 2000, on a busy machine
			t.Errorf("%d samples are of the collector's workers", hot.Samples)
		}
		r := entelon(t, "stacks", file)
		for _, line := range strings.Split(strings.TrimSpace(r.stdout), "\n") {
			if n := strings.Count(line, "runtime.gcBgMarkWorker;"); n > 1 {
				t.Fatalf("a stack goes %d times through the same worker: %.300s", n, line)
			}
		}
	})
}

func TestStrippedFunctionsShowModuleAndOffset(t *testing.T) {
	mustSample(t)
	file := filepath.Join(t.TempDir(), "x.take")
	r := entelon(t, "take", "--out", file, "--", program("shares-stripped"), "1")
	if r.code != 0 {
		t.Fatal(r.stderr)
	}
	hot := parse[reading.HotJSON](t, "hot", "--json", file)
	if f := hot.Functions[0]; !strings.HasPrefix(f.Name, "shares-stripped+0x") || f.SelfShare < 0.5 {
		t.Errorf("the hottest is %q with %.2f; the function's parts should stand together under its offset", f.Name, f.SelfShare)
	}
	if !strings.Contains(r.stderr, "have no function name") {
		t.Errorf("there is no warning: %s", r.stderr)
	}
}

// TestCommandKeepsWhatItIsGiven: streams, directory, environment, exit code.
func TestCommandKeepsWhatItIsGiven(t *testing.T) {
	mustSample(t)
	dir := t.TempDir()
	file := filepath.Join(dir, "x.take")
	cmd := exec.Command(program("entelon"), "take", "--out", file, "--dir", dir, "--env", "PART=viola da gamba", "--",
		"sh", "-c", `cat; pwd; echo "$PART|$INHERITED|$#|$1"; echo complaint >&2; ls /proc/self/fd | wc -l; exit 37`, "sh", "two words")
	cmd.Env = append(os.Environ(), "INHERITED=yes")
	cmd.Stdin = strings.NewReader("from outside\n")
	r := finish(t, cmd)
	bare := strings.Count(finish(t, exec.Command("sh", "-c", "ls /proc/self/fd")).stdout, "\n")
	if want := "from outside\n" + dir + "\nviola da gamba|yes|1|two words\n" + strconv.Itoa(bare) + "\n"; r.stdout != want {
		t.Errorf("standard output is %q, want %q", r.stdout, want)
	}
	if !strings.HasPrefix(r.stderr, "complaint\n") {
		t.Errorf("standard error is %q", r.stderr)
	}
	if r.code != 37 {
		t.Errorf("exit code %d, want 37", r.code)
	}
	if f := parse[reading.FactsJSON](t, "facts", "--json", file); f.ExitCode == nil || *f.ExitCode != 37 || f.EndedBy != "exit" {
		t.Errorf("the take says %v, ended by %s", f.ExitCode, f.EndedBy)
	}
	if r := entelon(t, "take", "--out", file, "--", "sh", "-c", "kill -TERM $$"); r.code != 128+int(syscall.SIGTERM) {
		t.Errorf("exit code %d of a command that a signal ended", r.code)
	}
}

// start begins a take in the background and waits until it has some blocks.
func start(t testing.TB, file string, args ...string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(program("entelon"), args...)
	cmd.Stderr = io.Discard
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }) // both fail where the test has ended it
	deadline := time.Now().Add(20 * time.Second)
	for {
		if st, err := os.Stat(file); err == nil && st.Size() > 2500 {
			return cmd
		}
		if time.Now().After(deadline) {
			t.Fatal("the take does not grow")
		}
		time.Sleep(20 * time.Millisecond)
	}
}

func TestKilledCollectorLeavesAReadableTake(t *testing.T) {
	mustSample(t)
	judge.Fairly(t, func(t *judge.Try) {
		file := filepath.Join(t.TempDir(), "x.take")
		cmd := start(t, file, "take", "--out", file, "--", program("shares"), "6")
		if err := cmd.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		_ = cmd.Wait() // it was killed
		r := entelon(t, "facts", "--json", file)
		if r.code != 0 || !strings.Contains(r.stderr, "the first") {
			t.Fatalf("exit code %d, %s", r.code, r.stderr)
		}
		f := parse[reading.FactsJSON](t, "facts", "--json", file)
		if f.Whole || f.Samples < 100 || f.DurationNS < 5e8 || len(f.Warnings) == 0 {
			t.Errorf("whole %v, %d samples, %d ns, %d warnings", f.Whole, f.Samples, f.DurationNS, len(f.Warnings))
		}
		if h := parse[reading.HotJSON](t, "hot", "--json", file); h.Functions[0].Name != "space_measures" {
			t.Errorf("the hottest function is %s", h.Functions[0].Name)
		}
	})
}

// TestInterruptKeepsTheTake: Ctrl-C ends the collecting, and the command is
// told as it would be without Entelon.
func TestInterruptKeepsTheTake(t *testing.T) {
	mustSample(t)
	file := filepath.Join(t.TempDir(), "x.take")
	cmd := start(t, file, "take", "--out", file, "--", program("shares"), "30")
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err == nil || cmd.ProcessState.ExitCode() != 128+int(syscall.SIGINT) {
		t.Errorf("it ended with %v", err)
	}
	if f := parse[reading.FactsJSON](t, "facts", "--json", file); !f.Whole || f.EndedBy != "user" {
		t.Errorf("whole %v, ended by %s", f.Whole, f.EndedBy)
	}
}

func TestAttach(t *testing.T) {
	mustSample(t)
	judge.Fairly(t, func(t *judge.Try) {
		target := exec.Command(program("threads"), "1000000")
		if err := target.Start(); err != nil {
			t.Fatal(err)
		}
		defer func() { _ = target.Process.Kill(); _ = target.Wait() }() // it works until it is killed
		time.Sleep(200 * time.Millisecond)
		file := filepath.Join(t.TempDir(), "x.take")
		before := procfs.StolenTime()
		r := entelon(t, "take", "--pid", strconv.Itoa(target.Process.Pid), "--for", "1.5s", "--out", file)
		taken := procfs.StolenTime() - before
		if r.code != 0 {
			t.Fatal(r.stderr)
		}
		f := parse[reading.FactsJSON](t, "facts", "--json", file)
		names := map[string]int64{}
		for _, th := range f.Threads {
			names[th.Name] += th.Samples
		}
		if f.EndedBy != "time" || f.DurationNS < 1.4e9 || f.DurationNS > 5e9 {
			t.Errorf("ended by %s after %d ns", f.EndedBy, f.DurationNS)
		}
		if names["fill-1"] < 100 || names["fill-2"] < 100 {
			t.Errorf("samples by thread: %v", names)
		}
		if sampled := float64(f.Samples) / 997; math.Abs(sampled-float64(f.CPUNS)/1e9) > 0.05*sampled+taken.Seconds() {
			t.Errorf("samples stand for %.3f s, the kernel counted %.3f s, and the host took %.3f s away", sampled, float64(f.CPUNS)/1e9, taken.Seconds())
		}
		if len(f.Command) != 2 || f.Program != "threads" {
			t.Errorf("program %q, command %q", f.Program, f.Command)
		}
	})
}

// TestEverythingThatItStarts: children, what they become, and short threads.
func TestEverythingThatItStarts(t *testing.T) {
	mustSample(t)
	judge.Fairly(t, func(t *judge.Try) {
		file := filepath.Join(t.TempDir(), "x.take")
		if r := entelon(t, "take", "--out", file, "--", program("forks"), program("shares")); r.code != 7 {
			t.Fatalf("exit code %d: %s", r.code, r.stderr)
		}
		found := map[string]bool{}
		for _, f := range parse[reading.HotJSON](t, "hot", "--json", file).Functions {
			found[f.Name] = true
		}
		for _, want := range []string{"work_in_child", "space_measures", "group_beams"} {
			if !found[want] {
				t.Errorf("%s is missing", want)
			}
		}
		names := map[string]bool{}
		for _, p := range parse[reading.FactsJSON](t, "facts", "--json", file).Processes {
			names[p.Name] = true
		}
		if !names["forks"] || !names["shares"] {
			t.Errorf("processes: %v", names)
		}
		if r := entelon(t, "take", "--out", file, "--", program("threads"), "40", "60"); r.code != 0 {
			t.Fatal(r.stderr)
		}
		named := 0
		for _, th := range parse[reading.FactsJSON](t, "facts", "--json", file).Threads {
			if strings.HasPrefix(th.Name, "short-") {
				named++
			}
		}
		if named < 50 {
			t.Errorf("%d of 60 short threads were seen under their names", named)
		}
	})
}

// TestTimeThatNoTickSaw: what short-lived processes do between ticks cannot be
// sampled by a clock that begins with each of them; the take must say so. The clocks of
// the processors see it.
func TestTimeThatNoTickSaw(t *testing.T) {
	mustSample(t)
	judge.Fairly(t, func(t *judge.Try) {
		file := filepath.Join(t.TempDir(), "x.take")
		for _, event := range []string{"thread-clock", "cpu-clock"} {
			if r := entelon(t, "take", "--event", event, "--out", file, "--", "sh", "-c", "i=0; while [ $i -lt 300 ]; do /bin/true; i=$((i+1)); done"); r.code != 0 {
				t.Fatal(r.stderr)
			}
			f := parse[reading.FactsJSON](t, "facts", "--json", file)
			warned := len(f.Warnings) > 0 && f.Warnings[0].Code == "short-lived"
			if warned == f.ByProcessors || f.ByProcessors != (event == "cpu-clock" && os.Geteuid() == 0) {
				t.Errorf("%s: %d samples for %.2f s by the kernel's count; it warns of %+v", event, f.Samples, float64(f.CPUNS)/1e9, f.Warnings)
			}
		}
	})
}

func TestACommandThatEndsAtOnce(t *testing.T) {
	mustSample(t)
	file := filepath.Join(t.TempDir(), "x.take")
	if r := entelon(t, "take", "--out", file, "--", "true"); r.code != 0 {
		t.Fatalf("exit code %d: %s", r.code, r.stderr)
	}
	if f := parse[reading.FactsJSON](t, "facts", "--json", file); len(f.Warnings) == 0 {
		t.Error("nothing warns of so few samples")
	}
	if r := entelon(t, "hot", file); r.code != 0 {
		t.Errorf("its take cannot be read: %s", r.stderr)
	}
}

// TestInANamespaceOfProcesses: where process numbers are not the kernel's own, as in a
// container, the kernel's programs cannot tell processes apart; everything is still counted.
func TestInANamespaceOfProcesses(t *testing.T) {
	mustSample(t)
	if os.Geteuid() != 0 {
		t.Skip("only root may make one")
	}
	file := filepath.Join(t.TempDir(), "x.take")
	for measure, least := range map[string]int64{"cpu": 1, "syscalls": 40000} {
		r := finish(t, exec.Command("unshare", "--pid", "--fork", "--mount-proc", program("entelon"), "take", "--measure", measure, "--out", file, "--",
			"dd", "if=/dev/zero", "of=/dev/null", "bs=1", "count=20000"))
		if r.code != 0 {
			t.Fatal(r.stderr)
		}
		f := parse[reading.FactsJSON](t, "facts", "--json", file)
		total := f.Measures[len(f.Measures)-1]
		if total.Total+total.Lost < least || f.ByProcessors {
			t.Errorf("%s: %+v, by the processors' clocks: %v", measure, total, f.ByProcessors)
		}
	}
}
