package main

import (
	"fmt"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// samplingRights are the capabilities that let a process look into others or
// into the kernel.
var samplingRights = []uint{
	unix.CAP_SYS_ADMIN, unix.CAP_SYS_PTRACE, unix.CAP_PERFMON, unix.CAP_BPF, unix.CAP_SYSLOG,
	unix.CAP_SYS_RAWIO, unix.CAP_SYS_MODULE, unix.CAP_NET_ADMIN, unix.CAP_NET_RAW,
}

// dropCapabilities gives these rights up on all threads, for good, and for
// whatever this process starts.
func dropCapabilities() error {
	for _, c := range samplingRights {
		if _, _, e := syscall.AllThreadsSyscall(unix.SYS_PRCTL, unix.PR_CAPBSET_DROP, uintptr(c), 0); e != 0 && e != syscall.EINVAL {
			return fmt.Errorf("giving up the rights of sampling: %w", e)
		}
	}
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	if err := unix.Capget(&header, &data[0]); err != nil {
		return fmt.Errorf("reading this process's rights: %w", err)
	}
	for _, c := range samplingRights {
		bit := uint32(1) << (c % 32)
		d := &data[c/32]
		d.Effective, d.Permitted, d.Inheritable = d.Effective&^bit, d.Permitted&^bit, d.Inheritable&^bit
	}
	if _, _, e := syscall.AllThreadsSyscall(unix.SYS_CAPSET, uintptr(unsafe.Pointer(&header)), uintptr(unsafe.Pointer(&data[0])), 0); e != 0 {
		return fmt.Errorf("giving up the rights of sampling: %w", e)
	}
	return nil
}
