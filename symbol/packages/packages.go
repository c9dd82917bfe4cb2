// Package packages finds the debug files of programs among the packages of a distribution
// that has Debian's tools, and gets them without installing anything: which package a file
// is of (dpkg-query), whether there is one with its debug files of the same version
// (apt-cache), the package itself (apt-get), and what is in it (dpkg-deb).
//
// Each call runs a command and waits for it.
package packages

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
)

// Package is one package of one version.
type Package struct {
	Name    string // with the architecture behind a colon, where there are several
	Version string
	Size    int64 // in bytes, as it is fetched; 0 where it is not known
}

// ErrNone says that there is no such package, or no such distribution.
var ErrNone = errors.New("no package")

// what the tools accept as names and versions; nothing that could be an option.
var (
	goodName    = regexp.MustCompile(`^[a-z0-9][a-z0-9+.-]*(:[a-z0-9-]+)?$`)
	goodVersion = regexp.MustCompile(`^[0-9A-Za-z.+:~-]+$`)
)

// maxOutput bounds what is read of a command.
const maxOutput = 1 << 20

// Of returns the package that a file is of.
func Of(ctx context.Context, path string) (Package, error) {
	for _, p := range names(path) {
		out, err := run(ctx, "", "dpkg-query", "--search", "--", escaped(p))
		if err != nil {
			continue // not one of a package, by this name
		}
		for line := range strings.Lines(out) {
			owners, file, ok := strings.Cut(strings.TrimSuffix(line, "\n"), ": ")
			if !ok || file != p || strings.HasPrefix(owners, "diversion by ") {
				continue
			}
			name, _, _ := strings.Cut(owners, ",")
			if !goodName.MatchString(name) {
				continue
			}
			version, err := run(ctx, "", "dpkg-query", "--show", "--showformat", "${Version}", "--", name)
			if err != nil || !goodVersion.MatchString(version) {
				continue
			}
			return Package{Name: name, Version: version}, nil
		}
	}
	return Package{}, fmt.Errorf("%w has %s", ErrNone, path)
}

// names are those under which a package may have a file: its own, the one that it leads to,
// and those from before /bin and /lib became a part of /usr.
func names(path string) []string {
	if !filepath.IsAbs(path) {
		return nil
	}
	out := []string{path}
	if real, err := filepath.EvalSymlinks(path); err == nil && real != path {
		out = []string{real, path}
	}
	for _, p := range out[:len(out):len(out)] {
		if short, ok := strings.CutPrefix(p, "/usr"); ok && strings.HasPrefix(short, "/") {
			out = append(out, short)
		} else {
			out = append(out, "/usr"+p)
		}
	}
	return out
}

// escaped is a path as a pattern that matches only it.
func escaped(path string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(path)
}

// Debug returns the package with the debug files of a package, of the same version.
func Debug(ctx context.Context, p Package) (Package, error) {
	name, arch, _ := strings.Cut(p.Name, ":")
	for _, ending := range []string{"-dbgsym", "-dbg"} {
		d := Package{Name: name + ending, Version: p.Version}
		if arch != "" {
			d.Name += ":" + arch
		}
		out, err := run(ctx, "", "apt-cache", "show", "--", d.Name+"="+d.Version)
		if err != nil {
			continue // it is in none of the lists
		}
		itself := false // and not only what another one provides
		for line := range strings.Lines(out) {
			key, value, _ := strings.Cut(strings.TrimSpace(line), ": ")
			switch key {
			case "Package":
				itself = value == name+ending
			case "Size":
				d.Size, _ = strconv.ParseInt(value, 10, 64) // 0: not known
			}
		}
		if itself {
			return d, nil
		}
	}
	return Package{}, fmt.Errorf("%w with debug files for %s %s in apt's lists; its sources may not include the archive of debug packages", ErrNone, p.Name, p.Version)
}

// Fetch downloads a package and unpacks it in a folder, without installing it. It returns
// the debug files in it.
func Fetch(ctx context.Context, p Package, dir string) (files []string, err error) {
	if _, err := run(ctx, dir, "apt-get", "--quiet=2", "download", "--", p.Name+"="+p.Version); err != nil {
		return nil, fmt.Errorf("downloading %s: %w", p.Name, err)
	}
	archives, err := filepath.Glob(filepath.Join(dir, "*.deb"))
	if err != nil || len(archives) == 0 {
		return nil, errors.Join(err, fmt.Errorf("downloading %s: apt-get has left no package", p.Name))
	}
	tree := filepath.Join(dir, "tree")
	if _, err := run(ctx, dir, "dpkg-deb", "--extract", archives[0], tree); err != nil {
		return nil, fmt.Errorf("unpacking %s: %w", p.Name, err)
	}
	err = filepath.WalkDir(tree, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && strings.HasSuffix(path, ".debug") {
			files = append(files, path)
		}
		return err
	})
	return files, err
}

// run runs a command and returns what it prints.
func run(ctx context.Context, dir, name string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "DEBIAN_FRONTEND=noninteractive")
	var out, wrong bounded
	cmd.Stdout, cmd.Stderr = &out, &wrong
	if err := cmd.Run(); err != nil {
		if line := lastLine(wrong.String()); line != "" {
			return "", fmt.Errorf("%s: %s", name, line)
		}
		return "", fmt.Errorf("%s: %w", name, err)
	}
	return out.String(), nil
}

// lastLine is the last line of a text that says something.
func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.TrimSpace(strings.TrimPrefix(lines[len(lines)-1], "E: "))
}

// bounded keeps the beginning of what is written to it.
type bounded struct{ bytes.Buffer }

// Write implements io.Writer.
func (b *bounded) Write(p []byte) (int, error) {
	b.Buffer.Write(p[:min(len(p), max(0, maxOutput-b.Len()))])
	return len(p), nil
}
