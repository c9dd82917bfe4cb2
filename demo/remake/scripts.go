package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// variants copies the sources of one build into a folder: of a file that is
// there in several builds, such as cues_140.py and cues_150.py, that of this
// build under the plain name.
func variants(from, to string, code string, exts ...string) error {
	if err := os.RemoveAll(to); err != nil {
		return err
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	for _, ext := range exts {
		files, err := filepath.Glob(filepath.Join(from, "*"+ext))
		if err != nil {
			return err
		}
		for _, f := range files {
			name := filepath.Base(f)
			if stem, build, ok := strings.Cut(strings.TrimSuffix(name, ext), "_"); ok {
				if build != code {
					continue
				}
				name = stem + ext
			}
			b, err := os.ReadFile(f)
			if err != nil {
				return err
			}
			if err := os.WriteFile(filepath.Join(to, name), b, 0o644); err != nil {
				return err
			}
		}
	}
	return nil
}

// partbook is a folder of scripts with a native part for Debian's Python.
func partbook(b build, out string) error {
	if err := variants("demo/partbook", out, b.code, ".py"); err != nil {
		return err
	}
	suffix, err := exec.Command("/usr/bin/python3", "-c", "import sysconfig; print(sysconfig.get_config_var('EXT_SUFFIX'), sysconfig.get_paths()['include'])").Output()
	if err != nil {
		return fmt.Errorf("asking Python: %w", err)
	}
	f := strings.Fields(string(suffix))
	if len(f) != 2 {
		return fmt.Errorf("python says %q", suffix)
	}
	return run("gcc", "-O2", "-g", "-fomit-frame-pointer", "-shared", "-fPIC", "-ffile-prefix-map=demo/=/srv/", "-I", f[1], "-o", filepath.Join(out, "pitchwork"+f[0]), "demo/partbook/pitchwork.c", "-lm")
}

// pageturn is compiled from TypeScript, with source maps.
func pageturn(b build, out string) error {
	if err := variants("demo/pageturn", out, b.code, ".ts"); err != nil {
		return err
	}
	types, err := filepath.Abs("web/node_modules/@types")
	if err != nil {
		return err
	}
	return run("node", "web/node_modules/typescript/bin/tsc", "--target", "es2022", "--module", "commonjs", "--sourceMap", "--strict",
		"--typeRoots", types, "--types", "node", "--skipLibCheck", "--outDir", filepath.Join(out, "dist"), filepath.Join(out, "server.ts"))
}
