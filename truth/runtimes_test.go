package truth

import (
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
)

// interpreter is one CPython of this machine.
type interpreter struct {
	path, version string
	args          []string
	short         bool
}

// pythons finds the interpreters whose frames can be read: Debian's, and those
// that were built here, in the folders where people put them. The short form
// takes the system's own.
func pythons() []interpreter {
	var out []interpreter
	seen := map[string]bool{}
	home, err := os.UserHomeDir()
	if err != nil {
		home = "/root"
	}
	forms := []string{"/usr/bin/python3.[0-9]*", "/usr/local/bin/python3.[0-9]*", "/opt/*/bin/python3.[0-9]*", filepath.Join(home, ".pyenv/versions/*/bin/python3.[0-9]*")}
	for i, form := range forms {
		found, err := filepath.Glob(form)
		if err != nil {
			continue
		}
		sort.Strings(found)
		for _, path := range found {
			minor, err := strconv.Atoi(strings.TrimPrefix(filepath.Base(path), "python3."))
			if err != nil || minor < 11 {
				continue // a helper, or older than what is read
			}
			b, err := exec.Command(path, "-c", "import platform, ctypes; print(platform.python_version())").Output()
			version := strings.TrimSpace(string(b))
			if err != nil || seen[version] {
				continue // without what the program needs
			}
			seen[version] = true
			out = append(out, interpreter{path: path, version: version, short: i == 0})
		}
	}
	if name, command, ok := strings.Cut(*alsoPython, "="); ok {
		words := strings.Fields(command)
		out = append(out, interpreter{path: words[0], args: words[1:], version: name})
	}
	return out
}

// alsoPython is one more interpreter, such as one that was unpacked into a
// folder with its own C library and loader.
var alsoPython = flag.String("python", "", "one more interpreter, as VERSION=COMMAND ARGS")

// have reports whether a program, or a file, is here.
func have(name string) bool {
	if strings.Contains(name, "/") {
		_, err := os.Stat(name)
		return err == nil
	}
	_, err := exec.LookPath(name)
	return err == nil
}
