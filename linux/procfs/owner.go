package procfs

import (
	"fmt"
	"os"
	"os/user"
	"strconv"
	"syscall"

	"entelon/linux"
)

// Owner returns the name of the user that a process runs as, or its
// number where it has no name.
func Owner(pid int) (string, error) {
	st, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
	if err != nil {
		return "", fmt.Errorf("process %d: %w", pid, linux.ErrNoProcess)
	}
	s, ok := st.Sys().(*syscall.Stat_t)
	if !ok {
		return "", fmt.Errorf("process %d: %w", pid, linux.ErrNoProcess)
	}
	id := strconv.FormatUint(uint64(s.Uid), 10)
	if u, err := user.LookupId(id); err == nil {
		return u.Username, nil
	}
	return id, nil
}
