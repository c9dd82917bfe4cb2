// Command remake makes the demo's takes anew: it builds the demo's programs in
// all their builds, has Entelon sample each several times, and writes the
// takes into demo/takes. It must run where sampling is allowed, from the top
// of the repository, after make build.
package main

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"entelon/codec/take"
)

type build struct {
	name string
	tags string
	note string
}

var builds = []build{
	{"3.4.0", "", ""},
	{"3.5.0", "v350", "lines under sung-out syllables"},
}

func main() {
	times := flag.Int("times", 3, "takes of each build")
	scores := flag.String("scores", "300", "scores that each take engraves")
	out := flag.String("out", "demo/takes", "folder for the takes")
	flag.Parse()
	if err := remake(*times, *scores, *out); err != nil {
		fmt.Fprintln(os.Stderr, "remake:", err)
		os.Exit(1)
	}
}

func remake(times int, scores, out string) error {
	for i := range times {
		for _, b := range builds { // in turns, so that a slow hour meets all builds alike
			program := filepath.Join("bin", "engraved-"+b.name)
			if err := run("go", "build", "-trimpath", "-buildvcs=false", "-tags", b.tags, "-o", program, "./demo/engraved"); err != nil {
				return err
			}
			file := filepath.Join(out, fmt.Sprintf("engraved-%s-%d.take", b.name, i+1))
			if err := run("bin/entelon", "take", "--out", file, "--program", "engraved", "--build", b.name, "--note", b.note,
				"--", program, "--scores", scores); err != nil {
				return err
			}
			if err := nameless(file); err != nil {
				return err
			}
		}
	}
	return nil
}

// nameless replaces what is particular to the machine that made a take by the
// shop's own.
func nameless(file string) error {
	t, err := take.ReadFile(file, take.Options{})
	if err != nil {
		return err
	}
	t.Machine.Host, t.Machine.Processor = "bench-1", ""
	t.Settings.Dir = "/srv/engraved"
	t.Facts.Executable = filepath.Join(t.Settings.Dir, t.Settings.Command[0])
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	if err := take.Write(f, t); err != nil {
		return err
	}
	return f.Close()
}

func run(name string, args ...string) error {
	cmd := exec.Command(name, args...)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}
