package request

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"syscall"
	"unicode/utf8"
)

// SourceFolders are the folders with the source of programs. Each is held open
// from the start: the server may have given up the rights by which it is reached.
type SourceFolders struct {
	Dirs []string
	held map[string]*os.Root
}

// OpenFolders opens folders with source; one that cannot be opened is left out.
func OpenFolders(dirs []string) SourceFolders {
	f := SourceFolders{Dirs: dirs, held: map[string]*os.Root{}}
	for _, dir := range dirs {
		if root, err := os.OpenRoot(dir); err == nil {
			f.held[dir] = root // one that is not there yet may come
		}
	}
	return f
}

// Read reads a file below a folder: as the folder is now, or, where that is out
// of reach, as it was at the start.
func (f SourceFolders) Read(dir, name string) (string, error) {
	root, err := os.OpenRoot(dir)
	if err == nil {
		text, err := readSource(root, name)
		return text, errors.Join(err, root.Close())
	}
	if held := f.held[dir]; held != nil && errors.Is(err, fs.ErrPermission) {
		return readSource(held, name)
	}
	return "", err
}

// largestSource bounds a source file, in bytes.
const largestSource = 4 << 20

// ErrLarge is the error about a source that is not shown.
var ErrLarge = fmt.Errorf("its source is larger than %d MB, or not text", largestSource>>20)

func readSource(root *os.Root, name string) (string, error) {
	f, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe must not hold us
	if err != nil {
		return "", err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil || !st.Mode().IsRegular() {
		return "", errors.Join(err, os.ErrNotExist)
	}
	b, err := io.ReadAll(io.LimitReader(f, largestSource+1))
	if err != nil {
		return "", err
	}
	if len(b) > largestSource || !utf8.Valid(b) || bytes.IndexByte(b, 0) >= 0 {
		return "", ErrLarge
	}
	return string(b), nil
}
