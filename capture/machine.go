package capture

import (
	"bufio"
	"os"
	"runtime"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"entelon/core/profile"
)

// Machine describes this machine. What it does not tell stays empty.
func Machine() profile.Machine {
	m := profile.Machine{OS: runtime.GOOS + "/" + runtime.GOARCH, Processors: runtime.NumCPU(), Entelon: Version, StartedAt: time.Now().UTC()}
	var u unix.Utsname
	if unix.Uname(&u) == nil {
		m.Host, m.Kernel = unix.ByteSliceToString(u.Nodename[:]), unix.ByteSliceToString(u.Release[:])
	}
	var si unix.Sysinfo_t
	if unix.Sysinfo(&si) == nil {
		m.MemoryB = int64(si.Totalram) * int64(si.Unit)
	}
	if f, err := os.Open("/proc/cpuinfo"); err == nil {
		defer f.Close()
		for sc := bufio.NewScanner(f); sc.Scan(); {
			if k, v, ok := strings.Cut(sc.Text(), ":"); ok && strings.TrimSpace(k) == "model name" {
				m.Processor = strings.TrimSpace(v)
				break
			}
		}
	}
	return m
}

// ownCPU is the processor time that this process has used, in nanoseconds.
func ownCPU() int64 {
	var r unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &r) != nil {
		return 0
	}
	return r.Utime.Nano() + r.Stime.Nano()
}
