// Package sourcefiles reads the source that a take brings along, as far as it may be read and fits.
// It has no state.
package sourcefiles

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"unicode/utf8"

	"entelon/core/profile"
)

// What a take brings of a program's source at most, in bytes.
const (
	maxSourceFile = 4 << 20
	maxSourceText = 48 << 20
)

// Read reads the files of the program's own functions that were sampled. dir is
// where the program was started. The facts are told which of them are not there.
func Read(p *profile.Profile, dir string, facts *profile.Facts) []profile.Source {
	seen := map[string]bool{}
	var paths []string
	for _, f := range p.Functions {
		name := p.Strings[f.File]
		own := f.Kind == profile.KindOwn || f.Kind == profile.KindInterpreter || f.Kind == profile.KindJIT
		if own && name != "" && !seen[name] && !strings.HasPrefix(name, "<") {
			seen[name] = true
			paths = append(paths, name)
		}
	}
	slices.Sort(paths)
	var out []profile.Source
	var missing []string
	room := maxSourceText
	for _, name := range paths {
		text, err := findSource(name, dir, min(room, maxSourceFile))
		if err != nil {
			missing = append(missing, name)
			continue
		}
		room -= len(text)
		out = append(out, profile.Source{Path: name, Text: text})
	}
	if len(missing) > 0 {
		example := missing[0]
		facts.Warn("source", fmt.Sprintf("Of %d source files %d could not be kept with the take, such as %s: they are not on this machine, too large, or not for everybody to read.", len(paths), len(missing), example),
			"Take where the source is, or give its folder to the server with --source.")
	}
	return out
}

// findSource reads a file by the name that the program's lines have for it. A build
// may have cut the beginning of its paths off: the rest is looked for from the
// folder in which the program was started, a name without any folder only there.
func findSource(name, dir string, most int) (string, error) {
	if filepath.IsAbs(name) {
		return readSource(name, most)
	}
	parts := strings.Split(filepath.ToSlash(filepath.Clean(name)), "/")
	var first error
	for i := 0; i == 0 || i < len(parts)-1; i++ {
		tail := filepath.Join(parts[i:]...)
		if !filepath.IsLocal(tail) {
			continue
		}
		text, err := readSource(filepath.Join(dir, tail), most)
		if err == nil {
			return text, nil
		}
		if first == nil {
			first = err
		}
	}
	return "", first
}

// readSource reads a text that everybody may read: what a program's lines name
// is what its builder wrote there, and the collector may read more than he.
func readSource(path string, most int) (string, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a named pipe would wait for ever
	if err != nil {
		return "", err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return "", err
	}
	if !st.Mode().IsRegular() || st.Mode().Perm()&0o004 == 0 {
		return "", os.ErrPermission
	}
	b, err := io.ReadAll(io.LimitReader(f, int64(most)+1))
	if err != nil {
		return "", err
	}
	if len(b) > most || !utf8.Valid(b) || bytes.IndexByte(b, 0) >= 0 {
		return "", fmt.Errorf("%s is too large, or not text", path)
	}
	return string(b), nil
}
