package option

import (
	"fmt"
	"io"
	"os"
	"path/filepath"

	"entelon/codec/takefile"
)

// WriteFile writes a file that is there whole or not at all. What a user has is not lost:
// one of the inputs is not written over, and a take that has the name is put aside. flag is
// the option that names the file, for errors; said is told what became of the take.
func WriteFile(flag, path string, inputs []string, said io.Writer, write func(io.Writer) error) (err error) {
	for _, in := range inputs {
		if SameFile(in, path) {
			return fmt.Errorf("%s %s would overwrite %s, its own input; give another name", flag, path, in)
		}
	}
	if st, err := os.Stat(path); err == nil && st.IsDir() {
		return fmt.Errorf("%s %s is a folder; give the name of a file in it", flag, path)
	} else if err == nil && !st.Mode().IsRegular() {
		return writeInto(flag, path, write) // a pipe or a device
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".entelon-*")
	if err != nil {
		if pathErr, ok := err.(*os.PathError); ok {
			pathErr.Path = path // the name that was tried means nothing to who reads it
		}
		return fmt.Errorf("%s: %w", flag, err)
	}
	defer func() {
		if err != nil {
			_ = f.Close() // the first error counts
			_ = os.Remove(f.Name())
		}
	}()
	if err := write(f); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return fmt.Errorf("%s %s: %w", flag, path, err)
	}
	if err := os.Chmod(f.Name(), 0o644); err != nil {
		return fmt.Errorf("%s %s: %w", flag, path, err)
	}
	if takefile.IsTake(path) {
		aside, err := takefile.PutAside(path)
		if err != nil {
			return fmt.Errorf("%s %s: %w", flag, path, err)
		}
		fmt.Fprintf(said, "entelon: %s already existed; it is now %s\n", path, aside)
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return fmt.Errorf("%s %s: %w", flag, path, err)
	}
	return nil
}

// writeInto writes into what is no file and is not replaced.
func writeInto(flag, path string, write func(io.Writer) error) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return fmt.Errorf("%s: %w", flag, err)
	}
	if err := write(f); err != nil {
		_ = f.Close() // the first error counts
		return err
	}
	return f.Close()
}

// SameFile reports whether two names are of one file.
func SameFile(a, b string) bool {
	x, err1 := os.Stat(a)
	y, err2 := os.Stat(b)
	return err1 == nil && err2 == nil && os.SameFile(x, y)
}
