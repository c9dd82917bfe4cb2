package capture

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"entelon/core/measure"
	"entelon/core/profile"
)

// countingSource does so many things, in threads and processes, as its arguments say:
// getppid in THREADS threads, CALLS each; FORKS children, which do CALLS/100 each; and
// PAGES pages are touched.
const countingSource = `
#define _GNU_SOURCE
#include <pthread.h>
#include <stdlib.h>
#include <sys/mman.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>
static long calls;
__attribute__((noinline)) void ask(void) { syscall(SYS_getppid); }
static void *work(void *x) { for (long i = 0; i < calls; i++) ask(); return 0; }
int main(int n, char **v) {
	int threads = atoi(v[1]), forks = atoi(v[3]), pages = atoi(v[4]);
	calls = atol(v[2]);
	pthread_t t[64];
	for (int i = 0; i < threads; i++) pthread_create(&t[i], 0, work, 0);
	for (int i = 0; i < threads; i++) pthread_join(t[i], 0);
	char *m = mmap(0, 4096L * (pages + 1), PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
	madvise(m, 4096L * (pages + 1), MADV_NOHUGEPAGE);
	for (long i = 0; i < pages; i++) m[4096 * i] = 1;
	calls /= 100;
	for (int i = 0; i < forks; i++) {
		pid_t p = fork();
		if (p == 0) { work(0); _exit(0); }
		waitpid(p, 0, 0);
	}
}
`

// compiledC builds a C program for a test.
func compiledC(t *testing.T, source string, flags ...string) string {
	t.Helper()
	dir := t.TempDir()
	file, out := filepath.Join(dir, "program.c"), filepath.Join(dir, "program")
	if err := os.WriteFile(file, []byte(source), 0o644); err != nil {
		t.Fatal(err)
	}
	if b, err := exec.Command("cc", append([]string{"-O1", "-g", "-pthread", "-o", out, file}, flags...)...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	return out
}

// counted takes one measure of a command.
func counted(t *testing.T, measures []string, command ...string) *profile.Take {
	t.Helper()
	set := profile.Settings{Command: command, RateHz: 997, Measures: measures, ForNS: int64(60 * time.Second)}
	r, err := Collect(context.Background(), Options{Settings: set}, discard{})
	if err != nil {
		t.Fatal(err)
	}
	return r.Take
}

// byFunction sums a column by the innermost frame.
func byFunction(p *profile.Profile, column int) map[string]int64 {
	out := map[string]int64{}
	for i, s := range p.Samples.Stack {
		out[p.FunctionName(p.FunctionOf(s))] += p.Samples.Values[column][i]
	}
	return out
}

// counter is what the kernel counted for the whole take.
func counter(f *profile.Facts, names ...string) (sum int64) {
	for _, c := range f.Counters {
		for _, n := range names {
			if c.Name == n {
				sum += c.Value
			}
		}
	}
	return sum
}

// noLongerThanPassed holds each thread against the time that there was.
func noLongerThanPassed(t *testing.T, take *profile.Take, column int) {
	t.Helper()
	p := take.Profile
	by := map[profile.ThreadID]int64{}
	for i, id := range p.Samples.Thread {
		by[id] += p.Samples.Values[column][i]
	}
	for id, ns := range by {
		if ns > take.Facts.DurationNS+int64(50*time.Millisecond) {
			t.Errorf("thread %d spent %v in what took %v", p.Threads[id].TID, time.Duration(ns), time.Duration(take.Facts.DurationNS))
		}
	}
}

// TestEveryCallCounts: a million system calls a second, of threads and of children, are
// counted to the last one, and so are page faults: as many as the kernel's own counter says.
func TestEveryCallCounts(t *testing.T) {
	program := compiledC(t, countingSource)
	const threads, calls, forks, pages = 4, 300_000, 200, 30_000
	args := []string{program, strconv.Itoa(threads), strconv.Itoa(calls), strconv.Itoa(forks), strconv.Itoa(pages)}
	take := counted(t, []string{measure.Syscalls}, args...)
	if take.Facts.Counted == nil || take.Facts.Counted[0].Lost != 0 {
		t.Fatalf("%+v; %+v", take.Facts.Counted, take.Facts.Warnings)
	}
	got := byFunction(take.Profile, 1)
	if want := int64(threads*calls + forks*calls/100); got["[system call getppid]"] != want {
		t.Errorf("%d calls, there were %d: %+v", got["[system call getppid]"], want, take.Facts.Counted)
	}
	if got["[system call wait4]"] != forks || got["[system call clone]"]+got["[system call clone3]"] != forks+threads {
		t.Errorf("%v", got)
	}
	noLongerThanPassed(t, take, 0)
	if c := take.Facts.Counted[0]; c.Singly >= c.Events || c.Singly < 500 || c.Events != take.Profile.Total(1) {
		t.Errorf("%+v of %d", c, take.Profile.Total(1))
	}

	take = counted(t, []string{measure.Faults}, args...)
	want := counter(&take.Facts, "page faults")
	if have := take.Profile.Total(0); have != want || have < pages {
		t.Errorf("%d page faults, the kernel counted %d", have, want)
	}
}

// TestEveryWaitCounts: in a convoy of threads that wait for one lock, each wait is
// measured, and none waits for longer than there was time; as many waits as the kernel
// counts switches, but for those of threads that end.
func TestEveryWaitCounts(t *testing.T) {
	const source = `
#include <pthread.h>
static pthread_mutex_t m = PTHREAD_MUTEX_INITIALIZER;
static long n;
static void *work(void *x) {
	for (int i = 0; i < 40000; i++) {
		pthread_mutex_lock(&m);
		n++;
		for (volatile int j = 0; j < 200; j++);
		pthread_mutex_unlock(&m);
		for (volatile int j = 0; j < 20; j++);
	}
	return 0;
}
int main() {
	pthread_t t[8];
	for (int i = 0; i < 8; i++) pthread_create(&t[i], 0, work, 0);
	for (int i = 0; i < 8; i++) pthread_join(t[i], 0);
}
`
	program := compiledC(t, source)
	take := counted(t, []string{measure.Waiting}, program)
	switches := counter(&take.Facts, "context switches")
	// Where the host gives one processor only, threads hardly meet.
	for try := 1; try < 6 && switches < 100; try++ {
		take = counted(t, []string{measure.Waiting}, program)
		switches = counter(&take.Facts, "context switches")
	}
	noLongerThanPassed(t, take, 0)
	if c := take.Facts.Counted[0]; c.Lost != 0 || c.Events > switches || c.Events < switches-20 || switches < 100 {
		t.Errorf("%+v, the kernel counted %d switches", c, switches)
	}
	if got := byFunction(take.Profile, 0); got["[waits for a lock]"] == 0 || got["[waits for a processor]"] == 0 {
		t.Errorf("%v", got)
	}
}

// TestOwnCostIsSetAside: what counting takes is not among the program's samples, and is
// told.
func TestOwnCostIsSetAside(t *testing.T) {
	take := counted(t, []string{measure.CPU, measure.Syscalls}, compiledC(t, countingSource), "1", "3000000", "0", "0")
	f := take.Facts
	if f.OwnNS < f.CPUNS/20 || f.OwnNS > f.CPUNS {
		t.Errorf("%v of %v was our own", time.Duration(f.OwnNS), time.Duration(f.CPUNS))
	}
	p := take.Profile
	for i, s := range p.Samples.Stack {
		if p.Samples.Values[0][i] == 0 {
			continue
		}
		for ; s != 0; s = p.Stacks.Parent[s] {
			if name := p.FunctionName(p.FunctionOf(s)); name == "perf_trace_sys_enter" || name == "bpf_trace_run2" {
				t.Fatalf("%s is among the program's samples", name)
			}
		}
	}
	if sum := p.Total(0) + f.OwnNS; float64(sum) < 0.9*float64(f.CPUNS) || float64(sum) > 1.1*float64(f.CPUNS) {
		t.Errorf("%v in samples and %v set aside are not the %v that the kernel counted", time.Duration(p.Total(0)), time.Duration(f.OwnNS), time.Duration(f.CPUNS))
	}
}
