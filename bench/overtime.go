package main

import (
	"bytes"
	"fmt"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"time"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/core/lanes"
)

// eventsEach is how many system calls and waits a handoff there and back makes: of each thread one
// read, one write, one wait.
const eventsEach = 6

// handoffs measures what following every wait and every system call costs a program that does little
// else, one after the other.
func handoffs(b *bytes.Buffer, dir string, pairs int, _ string) error {
	program := filepath.Join(dir, "handoffs")
	if text, err := exec.Command("cc", "-O2", "-pthread", "-o", program, "bench/testdata/handoffs.c").CombinedOutput(); err != nil {
		return fmt.Errorf("cc: %w: %s", err, text)
	}
	fmt.Fprint(b, "## What following waits and system calls costs\n\nTwo threads hand a byte to each other in a chain, so that nothing that is done at an event happens beside the program.\n\n| events a second | measured | times as long | target |\n|---|---|---|---|\n")
	for _, x := range []struct {
		perSecond int
		target    string
	}{{10_000, "1.01"}, {50_000, "1.05"}} {
		each := x.perSecond / eventsEach / 20 // a part is a twentieth of a second
		work, err := workFor(program, each)
		if err != nil {
			return err
		}
		args := []string{"60", strconv.Itoa(each), strconv.Itoa(work)}
		for _, measures := range [][]string{{"waiting"}, {"syscalls"}, {"cpu", "waiting", "syscalls"}} {
			var slow spread
			for range pairs {
				bare, err := part(program, args...)
				if err != nil {
					return err
				}
				command := []string{"take", "--out", filepath.Join(dir, "x.take")}
				for _, m := range measures {
					command = append(command, "--measure", m)
				}
				followed, err := part("bin/entelon", append(append(command, "--", program), args...)...)
				if err != nil {
					return err
				}
				slow = append(slow, followed/bare)
			}
			fmt.Fprintf(b, "| %d | %s | %s | %s |\n", x.perSecond, fmt.Sprint(measures), slow.text("%.3f"), x.target)
		}
	}
	fmt.Fprint(b, "\nOf each run, the time within which the fastest tenth of its parts was done.\n\n")
	return nil
}

// workFor finds how much work between handoffs makes a part of so many take a twentieth of a second.
func workFor(program string, each int) (int, error) {
	work := 1000
	for range 12 {
		s, err := part(program, "10", strconv.Itoa(each), strconv.Itoa(work))
		if err != nil {
			return 0, err
		}
		if s > 0.048 {
			return work, nil
		}
		work = max(work+500, int(float64(work)*min(4, 0.05/s)))
	}
	return work, nil
}

// overTime measures a take of ten minutes with ten million waits and system calls of 300 threads.
func overTime(b *bytes.Buffer, _ string, _ int, _ string) error {
	t := invent.Invention{Samples: 100_000, Stacks: 20_000, Seed: 1, Intervals: 10_000_000, Lanes: 300, Seconds: 600}.Take()
	var file bytes.Buffer
	if err := take.Write(&file, t); err != nil {
		return err
	}
	n := t.Profile.Intervals.Len()
	t = nil
	var reads, layouts, screens, all spread
	var x *lanes.Index
	for range 5 {
		x = nil
		runtime.GC()
		begin := time.Now()
		t, err := take.Read(bytes.NewReader(file.Bytes()), "waits", take.Options{})
		if err != nil {
			return err
		}
		read := time.Now()
		x = lanes.New(t)
		laid := time.Now()
		for i := range 40 {
			x.Row(i, 0, x.Duration, 1200)
		}
		screen := time.Now()
		for i := range x.Lanes {
			x.Row(i, 0, x.Duration, 1200)
		}
		ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
		reads, layouts = append(reads, ms(read.Sub(begin))), append(layouts, ms(laid.Sub(read)))
		screens, all = append(screens, ms(screen.Sub(laid))), append(all, ms(time.Since(screen)))
	}
	fmt.Fprintf(b, `## Ten million waits and system calls

%d of them, of 300 threads in ten minutes, %.1f bytes each in the file.

| step | ms |
|---|---|
| read the file | %s |
| lay it out in lanes | %s |
| forty lanes over all of the time, 1200 parts wide; target 100 | %s |
| all lanes | %s |

`, n, float64(file.Len())/float64(n), reads.text("%.0f"), layouts.text("%.0f"), screens.text("%.0f"), all.text("%.0f"))
	return nil
}
