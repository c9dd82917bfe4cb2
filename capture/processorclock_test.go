package capture

import (
	"context"
	"fmt"
	"math"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

	"entelon/core/profile"
	"entelon/judge"
)

// shortLived does two thirds of its work in threads or processes that last 2 ms each, one
// after the other, and the rest in one that lasts. It prints which share it was by its
// own clocks, when all is done.
const shortLived = `#define _GNU_SOURCE
#include <pthread.h>
#include <stdint.h>
#include <stdio.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>
static double now(clockid_t c) { struct timespec t; clock_gettime(c, &t); return t.tv_sec + t.tv_nsec * 1e-9; }
static volatile uint64_t sink;
static double spend(double seconds) {
	double begin = now(CLOCK_THREAD_CPUTIME_ID), end = begin;
	while (end - begin < seconds) {
		for (int i = 0; i < 10000; i++) sink = sink * 31 + i;
		end = now(CLOCK_THREAD_CPUTIME_ID);
	}
	return end - begin;
}
static double sum;
__attribute__((noinline)) void *briefly(void *x) { sum += spend(0.002); sink++; return 0; }
__attribute__((noinline)) double steadily(void) { double x = spend(0.8); sink++; return x; }
int main(int n, char **v) {
	for (int i = 0; i < 800; i++) {
		if (strcmp(v[1], "threads") == 0) {
			pthread_t t;
			pthread_create(&t, 0, briefly, 0);
			pthread_join(t, 0);
			continue;
		}
		int p[2];
		if (pipe(p)) return 1;
		if (fork() == 0) { sum = 0; briefly(0); if (write(p[1], &sum, sizeof sum) < 0) return 1; _exit(0); }
		double one = 0;
		if (read(p[0], &one, sizeof one) < 0) return 1;
		sum += one;
		close(p[0]); close(p[1]);
		wait(0);
	}
	double rest = steadily();
	FILE *f = fopen(v[2], "w");
	fprintf(f, "%.6f", sum / (sum + rest));
	return fclose(f);
}
`

// shareOf is the part of a take's samples in briefly, of those in it and in steadily.
func shareOf(p *profile.Profile) (share float64, samples int) {
	brief, steady := 0, 0
	for _, s := range p.Samples.Stack {
		p.Walk(s, func(f profile.FrameID) {
			switch p.FunctionName(p.Frames[f].Function) {
			case "briefly":
				brief++
			case "steadily":
				steady++
			}
		})
	}
	return float64(brief) / float64(max(1, brief+steady)), brief + steady
}

// TestShorterThanATick: threads and processes that end before a tick of their own clock
// would come are sampled as often as they take time, by the processors' clocks; by their own
// clocks nearly nothing is seen of them. Nothing of other programs gets in meanwhile.
func TestShorterThanATick(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root may load programs into the kernel")
	}
	program := compiledC(t, shortLived, "-O2")
	other := exec.Command("sh", "-c", "while :; do sleep 0.01; done") // comes and goes on all processors
	if err := other.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = other.Process.Kill()
		_ = other.Wait()
	}()
	for _, kind := range []string{"threads", "processes"} {
		for _, event := range []string{EventClock, EventThreadClock} {
			judge.Fairly(t, func(t *judge.Try) {
				said := t.TempDir() + "/share"
				set := profile.Settings{Command: []string{program, kind, said}, RateHz: 199, Event: event, ForNS: int64(120 * time.Second)}
				r, err := Collect(context.Background(), Options{Settings: set}, discard{})
				if err != nil {
					t.Fatal(err)
				}
				b, err := os.ReadFile(said)
				if err != nil {
					t.Fatal(err)
				}
				want, err := strconv.ParseFloat(string(b), 64)
				if err != nil {
					t.Fatal(err)
				}
				p, by := r.Take.Profile, r.Take.Facts.ByProcessors
				got, n := shareOf(p)
				if by != (event == EventClock) {
					t.Errorf("%s, %s: by the processors' clocks: %v", kind, event, by)
				}
				if event == EventThreadClock {
					if got > want/2 {
						t.Errorf("%s: by their own clocks %.3f of %.3f is seen, so that this test shows nothing", kind, got, want)
					}
					return
				}
				// 99.9 % of the takes of a fair sampler are within this.
				if within := 3.3 * math.Sqrt(want*(1-want)/float64(n)); n < 200 || math.Abs(got-want) > within {
					t.Errorf("%s: %.3f ± %.3f of %d samples, where the program says %.3f", kind, got, within, n, want)
				}
				for _, x := range p.Processes {
					if name := p.Strings[x.Name]; !strings.HasPrefix(name, "program") {
						t.Errorf("%s: process %d (%s) is in the take", kind, x.PID, name)
					}
				}
			})
		}
	}
}

// TestShorterThanATickAttached: the same of what a process starts after it was attached to.
func TestShorterThanATickAttached(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root may load programs into the kernel")
	}
	judge.Fairly(t, func(t *judge.Try) {
		said := t.TempDir() + "/share"
		cmd := exec.Command(compiledC(t.T, shortLived, "-O2"), "processes", said)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		defer func() { _ = cmd.Wait() }()
		time.Sleep(100 * time.Millisecond) // it is attached to while it works, not while it is loaded
		r, err := Collect(context.Background(), Options{Settings: profile.Settings{PID: cmd.Process.Pid, RateHz: 199, Event: EventClock, ForNS: int64(120 * time.Second)}}, discard{})
		if err != nil {
			t.Fatal(err)
		}
		b, err := os.ReadFile(said)
		if err != nil {
			t.Fatal(err)
		}
		var want float64
		if _, err := fmt.Sscan(string(b), &want); err != nil {
			t.Fatal(err)
		}
		got, n := shareOf(r.Take.Profile)
		if within := 3.3*math.Sqrt(want*(1-want)/float64(n)) + 0.02; n < 200 || math.Abs(got-want) > within || !r.Take.Facts.ByProcessors {
			t.Errorf("%.3f ± %.3f of %d samples, where the program says %.3f", got, within, n, want)
		}
		if cpu := float64(r.Take.Facts.CPUNS) / 1e9; cpu < 1 {
			t.Errorf("%.2f s of processor time were counted", cpu)
		}
	})
}
