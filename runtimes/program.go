// Package runtimes tells programs that a language runtime runs from others: which file
// is a runtime's, which script it was told to run, what it has to be started with so
// that its functions have names. What is one runtime's alone is in a folder below.
//
// Nothing here holds anything; all may be called by many goroutines.
package runtimes

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strings"

	"entelon/runtimes/python"
	"entelon/symbol"
)

// runtimes are the forms of names of files that hold a language runtime and
// nothing of the program that runs on it.
var runtimes = []string{"node", "nodejs", "libnode.so*", "java", "libjvm.so", "libjava.so", "libjli.so"}

func IsRuntime(name string) bool { return python.IsInterpreter(name) || matches(name, runtimes) }

func matches(name string, forms []string) bool {
	for _, f := range forms {
		if ok, err := filepath.Match(f, name); ok && err == nil {
			return true
		}
	}
	return false
}

// script is the program that a runtime was told to run.
type Script struct {
	Name string // for reading, "" where there is none
	Path string // of its file, "" where it is not known
}

// Options of runtimes that have their value in the next argument.
var optionsWithValue = map[string][]string{
	"python": {"-X", "-W", "--check-hash-based-pycs"},
	"node":   {"-r", "--require", "--import", "--loader", "-C", "--conditions", "--env-file"},
	"java":   {"-cp", "-classpath", "--class-path", "-p", "--module-path", "--add-modules", "--add-opens", "--add-exports", "--add-reads", "--source"},
}

// scriptOf finds in a command what its runtime will run.
func ScriptOf(exe string, command []string, dir string) Script {
	family := FamilyOf(filepath.Base(exe))
	if family == "" || len(command) == 0 {
		if Shebang(exe) != "" && len(command) > 0 { // it is itself the script
			return named(exe, dir)
		}
		return Script{}
	}
	for args := command[1:]; len(args) > 0; args = args[1:] {
		a := args[0]
		switch {
		case family == "python" && a == "-m" || family == "java" && (a == "-m" || a == "--module"):
			if len(args) > 1 {
				return Script{Name: args[1]}
			}
			return Script{}
		case family == "java" && a == "-jar" && len(args) > 1:
			return named(args[1], dir)
		case a == "-c" && family == "python" || family == "node" && (a == "-e" || a == "--eval" || a == "-p"), a == "-":
			return Script{}
		case strings.HasPrefix(a, "-"):
			for _, o := range optionsWithValue[family] {
				if a == o && len(args) > 1 {
					args = args[1:]
					break
				}
			}
		case family == "java" && !strings.HasSuffix(a, ".java"):
			return Script{Name: a[strings.LastIndexByte(a, '.')+1:]}
		default:
			return named(a, dir)
		}
	}
	return Script{}
}

func FamilyOf(base string) string {
	switch {
	case python.IsInterpreter(base):
		return "python"
	case base == "node" || base == "nodejs":
		return "node"
	case base == "java":
		return "java"
	}
	return ""
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
	mostSources = 500
	mostEntries = 20_000
	mostBytes   = 4 << 20 // of one file
)

// readBounded reads a regular file of a script; a program could name anything.
func readBounded(path string) ([]byte, error) {
	f, err := symbol.OpenRegular(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, mostBytes))
}

// build tells builds of a script apart by what its source files hold: those
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
		if entries++; entries > mostEntries {
			n = mostSources + 1
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
		if n++; n > mostSources {
			return fs.SkipAll
		}
		if st, err := d.Info(); err != nil || st.Size() > mostBytes || !st.Mode().IsRegular() {
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
	if err != nil || n == 0 || n > mostSources {
		sum.Reset()
		sum.Write(own) // not a folder of one program
	}
	return hex.EncodeToString(sum.Sum(nil)[:6])
}
