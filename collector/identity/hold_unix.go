//go:build unix

package identity

import (
	"errors"
	"fmt"
	"os"
	"syscall"
)

// hold locks a file for as long as it is open, so that a process that is killed
// lets it go.
func hold(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		if errors.Is(err, syscall.EWOULDBLOCK) {
			err = ErrInUse
		}
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// private is an error unless a folder is this user's and closed to all others.
func private(dir string) error {
	st, err := os.Lstat(dir)
	if err != nil {
		return fmt.Errorf("looking at the collector's folder: %w", err)
	}
	s, ok := st.Sys().(*syscall.Stat_t)
	switch {
	case !st.IsDir():
		return fmt.Errorf("%s is not a folder", dir)
	case !ok || int(s.Uid) != os.Geteuid():
		return fmt.Errorf("%s belongs to another user; choose another folder with --state", dir)
	case st.Mode().Perm()&0o077 != 0:
		return fmt.Errorf("%s can be read or written by others; close it with: chmod 700 %s", dir, dir)
	}
	return nil
}
