package perf

import (
	"fmt"

	"golang.org/x/sys/unix"
)

// EventID returns the number by which the kernel calls an event in its records.
func EventID(fd int) (uint64, error) {
	// PERF_EVENT_IOC_ID writes a u64; IoctlGetInt has room for one on 64-bit machines.
	v, err := unix.IoctlGetInt(fd, unix.PERF_EVENT_IOC_ID)
	if err != nil {
		return 0, fmt.Errorf("asking for an event's number: %w", err)
	}
	return uint64(v), nil
}

// Now is the monotonic time in nanoseconds, which is the clock of all records.
func Now() uint64 {
	var ts unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_MONOTONIC, &ts); err != nil {
		panic(err) // the kernel always has this clock
	}
	return uint64(ts.Nano())
}
