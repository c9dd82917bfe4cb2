// Package libraries finds the files that the loader will map for a program. It has no state.
package libraries

import (
	"debug/elf"
	"os"
	"path/filepath"
	"strings"
)

// NeededFiles are a program's file and the libraries that the loader will
// find for it, the program first: those that it names, and that these name in
// turn, in the folders where the loader looks.
func NeededFiles(program string) []string {
	var out []string
	seen := map[string]bool{}
	queue := []string{program}
	for len(queue) > 0 && len(out) < 1000 {
		path := queue[0]
		queue = queue[1:]
		if seen[path] {
			continue
		}
		seen[path] = true
		out = append(out, path)
		f, err := elf.Open(path)
		if err != nil {
			continue
		}
		needed, err := f.ImportedLibraries()
		if err == nil {
			folders := loaderFolders(f, path)
			for _, name := range needed {
				if found := inFolders(folders, name); found != "" {
					queue = append(queue, found)
				}
			}
		}
		f.Close()
	}
	return out
}

// loaderFolders are where the loader looks for a file's libraries.
func loaderFolders(f *elf.File, path string) []string {
	var out []string
	for _, tag := range []elf.DynTag{elf.DT_RPATH, elf.DT_RUNPATH} {
		paths, err := f.DynString(tag)
		if err != nil {
			continue
		}
		for _, list := range paths {
			for _, p := range strings.Split(list, ":") {
				p = strings.NewReplacer("$ORIGIN", filepath.Dir(path), "${ORIGIN}", filepath.Dir(path)).Replace(p)
				out = append(out, p)
			}
		}
	}
	out = append(out, filepath.SplitList(os.Getenv("LD_LIBRARY_PATH"))...)
	out = append(out, configuredFolders("/etc/ld.so.conf", 0)...)
	return append(out, "/lib", "/usr/lib", "/lib64", "/usr/lib64")
}

// configuredFolders reads the loader's configuration: one folder a line, and
// lines that include other files.
func configuredFolders(file string, depth int) []string {
	b, err := os.ReadFile(file)
	if err != nil || depth > 4 {
		return nil
	}
	var out []string
	for _, line := range strings.Split(string(b), "\n") {
		line, _, _ = strings.Cut(strings.TrimSpace(line), "#")
		f := strings.Fields(line)
		switch {
		case len(f) == 2 && f[0] == "include":
			more, err := filepath.Glob(f[1])
			if err != nil {
				continue
			}
			for _, m := range more {
				out = append(out, configuredFolders(m, depth+1)...)
			}
		case len(f) == 1:
			out = append(out, f[0])
		}
	}
	return out
}

func inFolders(folders []string, name string) string {
	if strings.Contains(name, "/") {
		return name
	}
	for _, d := range folders {
		path := filepath.Join(d, name)
		if st, err := os.Stat(path); err == nil && st.Mode().IsRegular() {
			return path
		}
	}
	return ""
}
