package procfs

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strconv"
	"strings"

	"entelon/linux"
)

// Refusal says why a process cannot be sampled whose executable could not be read: err.
func Refusal(pid int, err error) error {
	b, statErr := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if statErr != nil {
		return fmt.Errorf("process %d: %w", pid, linux.ErrNoProcess)
	}
	state, flags := stateOf(string(b))
	switch {
	case state == "Z" || state == "X":
		err = linux.ErrEnded
	case flags&kernelThread != 0:
		err = linux.ErrKernelThread
	case !errors.Is(err, fs.ErrPermission):
		err = linux.ErrNoProcess
	case os.Geteuid() == 0:
		err = linux.ErrProtected
	default:
		return fmt.Errorf("process %d belongs to another user: %w", pid, linux.ErrNotAllowed)
	}
	return fmt.Errorf("process %d: %w", pid, err)
}

// kernelThread is the kernel's flag PF_KTHREAD.
const kernelThread = 0x00200000

// stateOf reads a line of /proc/PID/stat: the state's letter, and the kernel's flags.
func stateOf(stat string) (state string, flags uint64) {
	f := strings.Fields(stat[strings.LastIndexByte(stat, ')')+1:])
	if len(f) < 7 {
		return "", 0
	}
	flags, err := strconv.ParseUint(f[6], 10, 64)
	if err != nil {
		return f[0], 0
	}
	return f[0], flags
}
