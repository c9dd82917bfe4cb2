package rights

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// guarded is an error unless the open file and the folders above it are in the
// hands of this process's user, or of root.
func guarded(f *os.File, path string) error {
	st, err := f.Stat()
	if err != nil {
		return fmt.Errorf("reading what is allowed here: %w", err)
	}
	if !st.Mode().IsRegular() {
		return fmt.Errorf("%s is not a regular file", path)
	}
	if !ours(st) || st.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("%s can be read or written by others; give it to its owner alone, with: chown %d %s; chmod 600 %s", path, os.Geteuid(), path, path)
	}
	full, err := filepath.Abs(path)
	if err == nil {
		full, err = filepath.EvalSymlinks(full)
	}
	if err != nil {
		return fmt.Errorf("reading what is allowed here: %w", err)
	}
	for dir := filepath.Dir(full); ; dir = filepath.Dir(dir) {
		st, err := os.Stat(dir)
		if err != nil {
			return fmt.Errorf("reading what is allowed here: %w", err)
		}
		if !ours(st) || st.Mode().Perm()&0o022 != 0 && st.Mode()&os.ModeSticky == 0 {
			return fmt.Errorf("%s can be replaced by others, since they can write to %s", path, dir)
		}
		if dir == filepath.Dir(dir) {
			return nil
		}
	}
}

func ours(st os.FileInfo) bool {
	s, ok := st.Sys().(*syscall.Stat_t)
	return ok && (s.Uid == 0 || int(s.Uid) == os.Geteuid())
}
