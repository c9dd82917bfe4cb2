package nameless

import (
	"errors"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// File makes a file that never has a name, of which nothing is left when it is closed, whoever closes
// it.
func File() (*os.File, error) {
	dir := os.TempDir()
	fd, err := unix.Open(dir, unix.O_TMPFILE|unix.O_RDWR|unix.O_CLOEXEC, 0o600)
	switch {
	case errors.Is(err, unix.EOPNOTSUPP), errors.Is(err, unix.EISDIR), errors.Is(err, unix.ENOENT):
		return unnamed() // a file system, or a kernel, that has no such files
	case err != nil:
		return nil, fmt.Errorf("keeping the upload: %s: %w", dir, err)
	}
	return os.NewFile(uintptr(fd), dir+"/entelon-upload"), nil
}
