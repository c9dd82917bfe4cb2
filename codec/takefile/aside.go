package takefile

import (
	"errors"
	"fmt"
	"os"

	"entelon/codec/take"
)

// IsTake reports whether a file is there that is a take, or begins as one.
func IsTake(path string) bool {
	st, err := os.Stat(path)
	if err != nil || !st.Mode().IsRegular() || st.Size() == 0 {
		return false
	}
	_, err = take.ReadFile(path, take.Options{Limits: take.Limits{Block: 1, Unpacked: 1}})
	var broken *take.Error
	return !errors.As(err, &broken) || broken.Reason != take.NotATake
}

// maxAside is how many takes are kept beside one of the same name.
const maxAside = 1000

// PutAside renames a take, whose name is wanted for another one, to the first name that is
// free: its own with .1, .2 and so on behind, which patterns such as *.take do not match.
func PutAside(path string) (aside string, err error) {
	return keepAs(path, path)
}

// keepAs renames the file at from to a free name made of path.
func keepAs(from, path string) (aside string, err error) {
	for n := 1; n <= maxAside; n++ {
		name := fmt.Sprintf("%s.%d", path, n)
		// A link fails where the name is taken, a renaming would not.
		err := os.Link(from, name)
		if errors.Is(err, os.ErrExist) {
			continue
		}
		if err == nil {
			err = os.Remove(from)
		} else if _, there := os.Lstat(name); errors.Is(there, os.ErrNotExist) {
			err = os.Rename(from, name) // a file system without links
		}
		if err != nil {
			return "", fmt.Errorf("putting the older take aside: %w", err)
		}
		return name, nil
	}
	return "", fmt.Errorf("putting the older take aside: %s and %d more are there already", path+".1", maxAside-1)
}
