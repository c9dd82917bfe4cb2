package main

import (
	"bytes"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"entelon/cmd/entelon/reading"
)

// waiting starts a take of a shell that says "ready", acts on signals as told
// by traps, and then works until one of them ends it.
func waiting(t *testing.T, file, traps string, before ...string) (*exec.Cmd, *bytes.Buffer) {
	t.Helper()
	words := append(before, program("entelon"), "take", "--out", file, "--", "sh", "-c", traps+"; echo ready; while :; do :; done")
	cmd := exec.Command(words[0], words[1:]...)
	out := &bytes.Buffer{}
	ready := make(chan struct{})
	cmd.Stdout = writerFunc(func(b []byte) (int, error) {
		n, err := out.Write(b)
		if strings.Contains(string(b), "ready") {
			close(ready)
		}
		return n, err
	})
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Kill() }) // it has mostly ended by then
	select {
	case <-ready:
	case <-time.After(20 * time.Second):
		t.Fatal("the command does not begin")
	}
	time.Sleep(100 * time.Millisecond)
	return cmd, out
}

type writerFunc func([]byte) (int, error)

func (f writerFunc) Write(b []byte) (int, error) { return f(b) }

// TestSignalsReachTheCommand: what is sent to Entelon alone comes through.
func TestSignalsReachTheCommand(t *testing.T) {
	mustSample(t)
	for _, c := range []struct {
		sig  syscall.Signal
		name string
	}{{syscall.SIGTERM, "TERM"}, {syscall.SIGHUP, "HUP"}, {syscall.SIGINT, "INT"}} {
		if signal.Ignored(c.sig) {
			continue // these tests run under nohup, and it stays ignored
		}
		file := filepath.Join(t.TempDir(), "x.take")
		cmd, out := waiting(t, file, "trap 'echo got "+c.name+"; exit 9' "+c.name)
		if err := cmd.Process.Signal(c.sig); err != nil {
			t.Fatal(err)
		}
		if err := cmd.Wait(); err == nil || cmd.ProcessState.ExitCode() != 9 {
			t.Errorf("%s: it ended with %v", c.name, err)
		}
		if !strings.Contains(out.String(), "got "+c.name) {
			t.Errorf("%s: the command says %q", c.name, out)
		}
		if f := parse[reading.FactsJSON](t, "facts", "--json", file); !f.Whole || f.Samples == 0 {
			t.Errorf("%s: whole %v, %d samples", c.name, f.Whole, f.Samples)
		}
	}
}

// TestIgnoredSignalsStayIgnored: under nohup a hang-up ends neither.
func TestIgnoredSignalsStayIgnored(t *testing.T) {
	mustSample(t)
	file := filepath.Join(t.TempDir(), "x.take")
	cmd, _ := waiting(t, file, "trap 'exit 4' TERM", "nohup")
	if err := cmd.Process.Signal(syscall.SIGHUP); err != nil {
		t.Fatal(err)
	}
	time.Sleep(300 * time.Millisecond)
	if err := cmd.Process.Signal(syscall.Signal(0)); err != nil {
		t.Fatalf("the hang-up ended it: %v", err)
	}
	if err := cmd.Process.Signal(os.Signal(syscall.SIGTERM)); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err == nil || cmd.ProcessState.ExitCode() != 4 {
		t.Errorf("it ended with %v", err)
	}
}

// TestForEndsTheCollectingOnly: the command works on and its exit code counts.
func TestForEndsTheCollectingOnly(t *testing.T) {
	mustSample(t)
	file := filepath.Join(t.TempDir(), "x.take")
	begin := time.Now()
	r := entelon(t, "take", "--for", "300ms", "--out", file, "--", "sh", "-c", program("shares")+" 1.5 > /dev/null; echo whole; exit 6")
	if r.code != 6 || r.stdout != "whole\n" || time.Since(begin) < 1400*time.Millisecond {
		t.Errorf("exit code %d after %v, it says %q", r.code, time.Since(begin), r.stdout)
	}
	if f := parse[reading.FactsJSON](t, "facts", "--json", file); f.EndedBy != "time" || f.DurationNS > 1e9 || f.ExitCode != nil {
		t.Errorf("ended by %s after %d ns", f.EndedBy, f.DurationNS)
	}
}
