package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/cmd/entelon/reading"
)

// asked builds a program that asks the kernel for known things, and takes it in a folder of a long name.
func asked(t *testing.T, measures ...string) (file, folder string, port string) {
	t.Helper()
	mustSample(t)
	if os.Geteuid() != 0 {
		t.Skip("what events are about is seen by root")
	}
	exe := filepath.Join(t.TempDir(), "asks")
	if b, err := exec.Command("cc", "-g", "-O1", "-o", exe, "testdata/asks/asks.c").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	folder = filepath.Join(t.TempDir(), "Größe: 7 \"Proofs\"", strings.Repeat("long", 20))
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	file = filepath.Join(t.TempDir(), "x.take")
	words := []string{"take", "--out", file}
	for _, m := range measures {
		words = append(words, "--measure", m)
	}
	r := entelon(t, append(words, "--", exe, folder)...)
	if r.code != 0 {
		t.Fatal(r.stderr)
	}
	for line := range strings.Lines(r.stdout) {
		if n, ok := strings.CutPrefix(line, "port "); ok {
			port = strings.TrimSpace(n)
		}
	}
	return file, folder, port
}

// TestWhatEventsAreAbout: each call, request, fault, allocation, signal and program that is begun has what
// it was about, and all of that agrees with what the program did.
func TestWhatEventsAreAbout(t *testing.T) {
	file, folder, port := asked(t, "syscalls", "disk", "faults", "allocations", "function:engrave(bars=arg1,ink=arg2)", "tracepoint:signal:signal_deliver", "tracepoint:sched:sched_process_exec", "tracepoint:sched:sched_process_fork")
	rows := func(kind, where string) reading.EventsJSON {
		t.Helper()
		words := []string{"events", file, "--kind", kind, "--json", "--limit", "0", "--sort", "time"}
		if where != "" {
			words = append(words, "--where", where)
		}
		return parse[reading.EventsJSON](t, words...)
	}
	// A name of a folder that is longer than 63 bytes is cut, and says so.
	plates := filepath.Dir(folder) + "/" + strings.Repeat("long", 20)[:63] + "…/plates"
	total := func(x reading.EventsJSON) (n int64) {
		for _, r := range x.Rows {
			if b, ok := r.Attributes["bytes"].(float64); ok {
				n += int64(b)
			}
		}
		return n
	}
	for _, c := range []struct {
		kind, where string
		rows        int
		bytes       int64
	}{
		{"syscalls", "name is write and file matches " + quotedText(`/plates$`), 50, 1000 * 50 * 51 / 2},
		{"syscalls", "name is fsync and file-type is file", 50, 0},
		{"syscalls", "name is pread64 and file matches " + quotedText(`/plates$`), 30, 30 * 4096},
		{"syscalls", "name is pread64 and bytes > 4095 B", 30, 30 * 4096},
		{"syscalls", "name is openat and error is ENOENT and duration under 1 s", 7, 0},
		{"syscalls", "name is sendto and file is " + quotedText("tcp 127.0.0.1:"+port), 20, 20 * 300},
		{"syscalls", "name is recvfrom and file-type is socket", 20, 20 * 300},
		{"syscalls", "name is sendto and file is counter", 10, 10 * 77},
		{"syscalls", "name is read and file-type is pipe", 5, 55},
		{"syscalls", "name is connect, accept and file-type is socket", 3, 0},
		{"faults", "file matches " + quotedText(`/plates$`), 40, 0},
		{"allocations", "bytes at least 12345 B and bytes under 12445 B", 100, 12345*100 + 99*100/2},
		{"function:engrave", "", 9, 0},
		{"function:engrave", "bars at least 4 and bars at most 6", 3, 0},
		{"function:engrave", "ink is -900", 1, 0},
		{"tracepoint:signal:signal_deliver", "sig is 10", 3, 0},
		{"tracepoint:sched:sched_process_exec", "filename is /bin/true", 1, 0},
		{"tracepoint:sched:sched_process_fork", "", 1, 0},
	} {
		got := rows(c.kind, c.where)
		if c.where == "name is openat and error is ENOENT and duration under 1 s" {
			// The loader, too, looks for what is not there.
			for i := len(got.Rows) - 1; i >= 0; i-- {
				if got.Rows[i].Function != "missing" {
					got.Rows = append(got.Rows[:i], got.Rows[i+1:]...)
				}
			}
		}
		if len(got.Rows) != c.rows || total(got) != c.bytes {
			t.Errorf("%s where %s: %d rows and %d bytes, want %d and %d", c.kind, c.where, len(got.Rows), total(got), c.rows, c.bytes)
		}
	}
	if got := rows("syscalls", "name is fsync"); len(got.Rows) > 0 && got.Rows[0].Attributes["file"] != plates {
		t.Errorf("the file is %v, want %s", got.Rows[0].Attributes["file"], plates)
	}
	// The plates are on a disk, or in memory if that is where temporary files are here.
	disk := rows("disk", "")
	for _, r := range disk.Rows {
		if ns, _ := r.Attributes["duration"].(float64); ns <= 0 || ns > 10e9 || r.Attributes["device"] == "" {
			t.Errorf("a request of %v", r.Attributes)
		}
	}
	if onDisk(t, folder) && total(rows("disk", "name is write")) < 1000*50*51/2 {
		t.Errorf("%d bytes were written to disks", total(rows("disk", "name is write")))
	}
	for _, g := range rows("syscalls", "name is write").By {
		if g.Column == "file" && (len(g.Texts) < 2 || g.Texts[0].Text != plates && g.Texts[1].Text != plates) {
			t.Errorf("by file: %+v", g)
		}
	}
	for words, want := range map[string]string{
		"--kind disk --sort pages":                "--sort pages: these events have no number \"pages\"; they have duration, bytes; or choose time",
		"--kind syscalls --where bytes>>1":        "--where: at character 6",
		"--kind syscalls --by ink":                "--by ink: these events have no such text",
		"--kind syscalls --where error=is=EPIPES": "--where:",
	} {
		args := []string{"events", file}
		for _, w := range strings.Fields(words) {
			args = append(args, strings.ReplaceAll(w, "_", " "))
		}
		if r := entelon(t, args...); r.code == 0 || !strings.Contains(r.stderr, want) || strings.Count(r.stderr, "\n") > 2 {
			t.Errorf("%s: %q", words, r.stderr)
		}
	}
	if r := entelon(t, "events", file, "--where", "page is 7"); !strings.Contains(r.stderr, `No event of the take has "page"`) || !strings.Contains(r.stdout, "no such event") {
		t.Errorf("%q, %q", r.stdout, r.stderr)
	}
	// What it ran in while it wrote is asked for in any command.
	whole, in := parse[reading.HotJSON](t, "hot", file, "--json", "--measure", "disk-bytes"), parse[reading.HotJSON](t, "hot", file, "--json", "--measure", "disk-bytes", "--scope", "in events where kind is syscalls and name is fsync")
	if onDisk(t, folder) && (in.Total <= 0 || in.Total > whole.Total) {
		t.Errorf("%d of %d bytes went to disks in fsync", in.Total, whole.Total)
	}
	r := entelon(t, "events", file, "--kind", "syscalls", "--where", "name is write", "--sort", "bytes", "--by", "file", "--limit", "1")
	for _, want := range []string{"48.8 KiB", "by file", "/plates", "55 B"} {
		if !strings.Contains(r.stdout, want) {
			t.Errorf("%q is not in\n%s", want, r.stdout)
		}
	}
}

func quotedText(s string) string { return fmt.Sprintf("%q", s) }

// onDisk reports whether a folder is on a disk of its own device.
func onDisk(t *testing.T, folder string) bool {
	t.Helper()
	out, err := exec.Command("findmnt", "-n", "-o", "SOURCE", "--target", folder).Output()
	if err != nil {
		t.Log(err)
		return false
	}
	return strings.HasPrefix(string(out), "/dev/")
}
