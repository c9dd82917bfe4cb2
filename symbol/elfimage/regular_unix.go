//go:build unix

package elfimage

import (
	"errors"
	"os"
	"syscall"
)

// OpenRegular opens a file that a program under observation has named. Where it
// leads to something else than a regular file, such as a pipe that nobody writes
// to, that is an error and not a wait.
func OpenRegular(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK|syscall.O_NOCTTY, 0)
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err == nil && !st.Mode().IsRegular() {
		err = &os.PathError{Op: "open", Path: path, Err: errors.New("it is not a regular file")}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}
