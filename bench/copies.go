package main

import (
	"bytes"
	"fmt"
	"os/exec"
	"path/filepath"

	"entelon/codec/take"
)

// copies measures how many stacks are whole when so much of each is copied and
// nothing more, as for a user who may not run programs in the kernel.
func copies(b *bytes.Buffer, dir string, _ int, _ string) error {
	if _, err := exec.LookPath("setpriv"); err != nil {
		fmt.Fprint(b, "## How much of a stack to copy\n\nsetpriv is not here, so this was not measured.\n\n")
		return nil
	}
	rust := []string{"rustc", "-g", "--edition", "2021", "--crate-name", "score", "truth/programs/score.rs"}
	builds := []struct {
		name string
		args []string
	}{
		{"shapes, C -O2", []string{"gcc", "truth/programs/shapes.c", "-g", "-O2", "-lm"}},
		{"raster, C++ -O0", []string{"g++", "truth/programs/raster.cc", "-g", "-O0"}},
		{"score, Rust -O0", rust},
		{"score, Rust -O2", append(rust[:len(rust):len(rust)], "-C", "opt-level=2")},
		{"a C++ compiler, stripped", nil},
	}
	sizes := []string{"2k", "4k", "8k", "16k", "24k", "62k"}
	fmt.Fprint(b, "## How much of a stack to copy\n\nComplete stacks in percent when that much of each is copied and no more of deep ones; one run each. The default is 4k where deeper ones are told apart at the moment of the sample, else 24k.\n\n| program |")
	for _, s := range sizes {
		fmt.Fprintf(b, " %s |", s)
	}
	fmt.Fprint(b, "\n|---|---|---|---|---|---|---|\n")
	for i, x := range builds {
		run := []string{"g++", "-O2", "-fsyntax-only", "truth/programs/raster.cc"}
		if x.args != nil {
			program := filepath.Join(dir, fmt.Sprintf("copies%d", i))
			if text, err := exec.Command(x.args[0], append(x.args[1:len(x.args):len(x.args)], "-o", program)...).CombinedOutput(); err != nil {
				return fmt.Errorf("%s: %w: %s", x.name, err, text)
			}
			run = []string{program, "1"}
		}
		fmt.Fprintf(b, "| %s |", x.name)
		for _, size := range sizes {
			file := filepath.Join(dir, "copies.take")
			args := append([]string{"--bounding-set=-all", "--inh-caps=-all", "bin/entelon", "take", "--stack", size, "--symbol-cache", "off", "--out", file, "--"}, run...)
			if text, err := exec.Command("setpriv", args...).CombinedOutput(); err != nil {
				return fmt.Errorf("%s with %s: %w: %s", x.name, size, err, text)
			}
			t, err := take.ReadFile(file, take.Options{})
			if err != nil {
				return err
			}
			fmt.Fprintf(b, " %.1f |", 100*t.Facts.CompleteShare())
		}
		fmt.Fprintln(b)
	}
	fmt.Fprintln(b)
	return nil
}
