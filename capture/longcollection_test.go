package capture

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"testing"
	"time"

	"entelon/capture/pairing"
	"entelon/core/measure"
	"entelon/core/profile"
)

// held is what this process holds: bytes of live memory, and open files.
func held(t *testing.T) (bytes uint64, files int) {
	t.Helper()
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	fds, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		t.Fatal(err)
	}
	return m.HeapAlloc, len(fds)
}

// TestFiveHundredWindows samples programs that come and go for as many windows, and
// holds as much at the end as near the beginning.
func TestFiveHundredWindows(t *testing.T) {
	// Each round runs a program under a name of its own, so that its file, its process
	// and its frames are new.
	shell := exec.Command("sh", "-c", `cd "$0"; i=0; while :; do i=$((i+1)); cp "$1" p$i; ./p$i -c 'x = sum(i*i for i in range(30000))' 2>/dev/null; rm p$i; done`, t.TempDir(), "/usr/bin/python3")
	if err := shell.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = shell.Process.Kill(); _ = shell.Wait() }()
	const windows, early = 500, 100
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	n, samples, processes := 0, 0, map[string]bool{}
	var bytes [2]uint64
	var files [2]int
	var known [2]string
	var alive [2]int
	var s *session
	look := func(i int) {
		bytes[i], files[i] = held(t)
		ps := s.resolver.Processes
		known[i], alive[i] = fmt.Sprintf("%d processes", len(ps.Known)), len(ps.Known)
	}
	o := Options{
		Settings: profile.Settings{PID: shell.Process.Pid, RateHz: 997, Measures: []string{measure.CPU, measure.Waiting}},
		Every:    20 * time.Millisecond,
	}
	o.Window = func(w pairing.Window) error {
		if err := w.Profile.Check(); err != nil {
			return err
		}
		for _, p := range w.Profile.Processes {
			processes[fmt.Sprint(p.PID)] = true
		}
		samples += w.Profile.Samples.Len()
		switch n++; n {
		case early:
			look(0)
		case windows:
			look(1)
			cancel()
		}
		return nil
	}
	s = newSession(o, NoSink{})
	res, err := s.collect(ctx)
	if err != nil || res.SinkErr != nil {
		t.Fatal(err, res.SinkErr)
	}
	for _, w := range res.Take.Facts.Warnings {
		if w.Code == "fault" {
			t.Error(w.Text)
		}
	}
	t.Logf("%d windows with %d samples of %d processes; %d and %d bytes, %d and %d files, %s and %s", n, samples, len(processes), bytes[0], bytes[1], files[0], files[1], known[0], known[1])
	if n < windows || samples < windows || len(processes) < 20 {
		t.Errorf("%d windows with %d samples of %d processes", n, samples, len(processes))
	}
	// Each program that is held has a file of its own, and tables of that of about a megabyte;
	// how many are held when one looks is chance.
	if more := max(0, alive[1]-alive[0]) + 4; bytes[1] > bytes[0]*5/4+uint64(more)<<20 || alive[1] > 60 || files[1] > files[0]+8 {
		t.Errorf("%d bytes and %d files were held after %d windows, %d and %d after %d", bytes[0], files[0], early, bytes[1], files[1], n)
	}
}
