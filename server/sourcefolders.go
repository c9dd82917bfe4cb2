package server

import (
	"errors"
	"io/fs"
	"os"
)

// sourceFolders are the folders with the source of programs. Each is held open
// from the start: the server may have given up the rights by which it is reached.
type sourceFolders struct {
	dirs []string
	held map[string]*os.Root
}

func openFolders(dirs []string) sourceFolders {
	f := sourceFolders{dirs: dirs, held: map[string]*os.Root{}}
	for _, dir := range dirs {
		if root, err := os.OpenRoot(dir); err == nil {
			f.held[dir] = root // one that is not there yet may come
		}
	}
	return f
}

// read reads a file below a folder: as the folder is now, or, where that is out
// of reach, as it was at the start.
func (f sourceFolders) read(dir, name string) (string, error) {
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
