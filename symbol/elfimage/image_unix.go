//go:build unix

package elfimage

import (
	"errors"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// MapFile maps a whole regular file for reading. Should the file be cut short
// while it is mapped, reading it is a fault that the caller must recover from
// (debug.SetPanicOnFault).
func MapFile(f *os.File) ([]byte, error) {
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !st.Mode().IsRegular() {
		return nil, errors.New("it is not a regular file")
	}
	if st.Size() == 0 {
		return nil, errors.New("it is empty")
	}
	return unix.Mmap(int(f.Fd()), 0, int(st.Size()), unix.PROT_READ, unix.MAP_PRIVATE)
}

// fileState names a file with all that changes when its bytes do: whoever may
// write to it cannot set the time of its last change.
func fileState(f *os.File) string {
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		return ""
	}
	return fmt.Sprint(st.Dev, " ", st.Ino, " ", st.Size, " ", st.Mtim.Nano(), " ", st.Ctim.Nano())
}

// UnmapFile lets go of a file that was mapped.
func UnmapFile(b []byte) error { return unix.Munmap(b) }
