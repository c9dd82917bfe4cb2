package runtimes

import (
	"crypto/sha256"
	"encoding/hex"
	"entelon/symbol/elfimage"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strings"
)

// Script is the program that a runtime was told to run.
type Script struct {
	Name string // for reading, "" where there is none
	Path string // of its file, "" where it is not known
}

// ScriptOf finds in a command what its runtime will run. Relative files are below a
// folder.
func ScriptOf(exe string, command []string, dir string) Script {
	if len(command) == 0 {
		return Script{}
	}
	r := Of(filepath.Base(exe))
	if r == nil {
		if Shebang(exe) != "" { // it is itself the script
			return named(exe, dir)
		}
		return Script{}
	}
	name, file := r.Script(command[1:])
	if file != "" {
		return named(file, dir)
	}
	return Script{Name: name}
}

func named(path, dir string) Script {
	if !filepath.IsAbs(path) {
		path = filepath.Join(dir, path)
	}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	base := filepath.Base(path)
	return Script{Name: strings.TrimSuffix(base, filepath.Ext(base)), Path: path}
}

// What is read to tell builds of a script apart is bounded: a script may lie
// in a folder that is not that of one program.
const (
	maxSources = 500
	maxEntries = 20_000
	maxBytes   = 4 << 20 // of one file
)

// readBounded reads a regular file of a script; a program could name anything.
func readBounded(path string) ([]byte, error) {
	f, err := elfimage.OpenRegular(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, maxBytes))
}

// Build tells builds of a script apart by what its source files hold: those
// in its folder, and below. It is "" where there is no script.
func (s Script) Build() string {
	own, err := readBounded(s.Path)
	if s.Path == "" || err != nil {
		return ""
	}
	ext := filepath.Ext(s.Path)
	sum := sha256.New()
	n, entries := 0, 0
	dir := filepath.Dir(s.Path)
	err = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // a folder of others; what cannot be read does not run
		}
		if entries++; entries > maxEntries {
			n = maxSources + 1
			return fs.SkipAll
		}
		if d.IsDir() {
			if base := d.Name(); path != dir && (strings.HasPrefix(base, ".") || base == "node_modules" || base == "site-packages" || base == "__pycache__") {
				return fs.SkipDir
			}
			return nil
		}
		if filepath.Ext(path) != ext || ext == "" {
			return nil
		}
		if n++; n > maxSources {
			return fs.SkipAll
		}
		if st, err := d.Info(); err != nil || st.Size() > maxBytes || !st.Mode().IsRegular() {
			return nil
		}
		b, err := readBounded(path)
		if err != nil {
			return nil
		}
		fmt.Fprintf(sum, "%s %d\n", strings.TrimPrefix(path, dir), len(b))
		sum.Write(b)
		return nil
	})
	if err != nil || n == 0 || n > maxSources {
		sum.Reset()
		sum.Write(own) // not a folder of one program
	}
	return hex.EncodeToString(sum.Sum(nil)[:6])
}
