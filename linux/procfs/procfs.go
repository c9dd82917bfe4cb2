// Package procfs reads what the kernel says of processes and threads below /proc:
// names, owners, mapped files, processor time, and who runs.
//
// Its functions hold nothing and may be called by many goroutines.
package procfs

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"entelon/linux"
)

// ThreadName returns the name of a thread, "" of one that has ended.
func ThreadName(pid, tid uint32) string {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/comm", pid, tid))
	if err != nil {
		return "" // ended already; the record of its name is on its way or lost
	}
	return strings.TrimSuffix(string(b), "\n")
}

// Ticks reads utime and stime from a line of /proc/PID/stat.
func Ticks(stat string) int64 {
	ticks, _, _ := Usage(stat)
	return ticks
}

// Usage reads utime and stime, in ticks, and rss, in pages, from a line of /proc/PID/stat.
func Usage(stat string) (ticks, pages int64, ok bool) {
	f := strings.Fields(stat[strings.LastIndexByte(stat, ')')+1:])
	if len(f) < 22 {
		return 0, 0, false
	}
	user, err1 := strconv.ParseInt(f[11], 10, 64)
	kernel, err2 := strconv.ParseInt(f[12], 10, 64)
	pages, err3 := strconv.ParseInt(f[21], 10, 64)
	if errors.Join(err1, err2, err3) != nil {
		return 0, 0, false
	}
	return user + kernel, pages, true
}

// MappedFiles are the files whose code a process has mapped.
func MappedFiles(pid int) []string {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/maps", pid))
	if err != nil {
		return nil
	}
	var out []string
	for _, line := range strings.Split(string(b), "\n") {
		if f := strings.Fields(line); len(f) >= 6 && strings.Contains(f[1], "x") && strings.HasPrefix(f[5], "/") {
			out = append(out, f[5])
		}
	}
	return out
}

// Threads lists the threads of a process. Its error wraps linux.ErrNoProcess.
func Threads(pid int) ([]int, error) {
	entries, err := os.ReadDir(fmt.Sprintf("/proc/%d/task", pid))
	if err != nil {
		return nil, fmt.Errorf("process %d: %w", pid, linux.ErrNoProcess)
	}
	var out []int
	for _, e := range entries {
		tid, err := strconv.Atoi(e.Name())
		if err == nil {
			out = append(out, tid)
		}
	}
	return out, nil
}

// Started returns when a process began, or otherwise where that is not known.
func Started(pid uint32, otherwise time.Time) time.Time {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return otherwise
	}
	// The name, in brackets, may hold anything; start is the 20th field behind it.
	i := bytes.LastIndexByte(b, ')')
	f := strings.Fields(string(b[i+1:]))
	const startField, ticks = 19, 100
	if i < 0 || len(f) <= startField {
		return otherwise
	}
	n, err := strconv.ParseInt(f[startField], 10, 64)
	var up unix.Timespec
	if err != nil || unix.ClockGettime(unix.CLOCK_BOOTTIME, &up) != nil {
		return otherwise
	}
	return time.Now().Add(-time.Duration(up.Nano()) + time.Duration(n)*time.Second/ticks)
}

// TicksASecond is how often a second the kernel counts processor time in /proc
// (USER_HZ).
const TicksASecond = 100

// Time is the processor time of a whole machine since it began, all processors
// together, in ticks.
type Time struct {
	Total  int64
	Idle   int64
	Stolen int64 // for which the host of a virtual machine kept its processors from it
}

// MachineTime reads that from the first line of /proc/stat: user, nice, system, idle,
// iowait, irq, softirq, steal.
func MachineTime() (t Time, ok bool) {
	b, err := os.ReadFile("/proc/stat")
	if err != nil {
		return t, false
	}
	line, _, _ := strings.Cut(string(b), "\n")
	f := strings.Fields(line)
	if len(f) < 9 || f[0] != "cpu" {
		return t, false
	}
	for i, text := range f[1:9] {
		v, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return t, false
		}
		t.Total += v
		switch i {
		case 3, 4:
			t.Idle += v
		case 7:
			t.Stolen += v
		}
	}
	return t, true
}

// StolenTime is how long the host of this machine has kept its processors from it, all
// together; 0 where that is not known.
func StolenTime() time.Duration {
	t, _ := MachineTime()
	return time.Duration(t.Stolen) * time.Second / TicksASecond
}
