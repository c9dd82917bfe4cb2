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
	"slices"
	"strconv"
	"strings"
	"time"

	"entelon/codec/take"
)

// program is one of the demo's, with the work that each of its takes does.
type program struct {
	name   string
	args   []string
	builds []build
	takes  int // of each build: the more the less alike they are
	make   func(b build, out string) error
	// script is what a runtime runs in the folder that make has made; "" where
	// make has made the program itself.
	script []string
	exact  []string // arguments of the exact run that each build has a take of, too; nil for none
}

type build struct {
	name string
	code string // what selects the build in the source
	note string
}

var programs = []program{
	{"engraved", []string{"--scores", "300"}, []build{{"3.4.0", "", ""}, {"3.5.0", "v350", "lines under sung-out syllables"}, {"3.5.1", "v350,v351", "slurs ask the skyline once"}, {"3.6.0", "v350,v351,v360", "glyphs are found again; a braided border"}}, 5, engraved, nil, nil},
	{"inkraster", []string{"150"}, []build{{"1.2.0", "120", ""}, {"1.3.0", "130", "ink spreads into the paper"}}, 3, inkraster, nil, []string{"15"}},
	{"partbook", []string{"45"}, []build{{"1.4.0", "140", ""}, {"1.5.0", "150", "cues before rests end"}}, 3, partbook, []string{"/usr/bin/python3", "partbook.py"}, nil},
	{"pageturn", []string{"3500"}, []build{{"2.1.0", "210", ""}, {"2.2.0", "220", "repeats are shaded"}}, 3, pageturn, []string{"node", "dist/server.js"}, nil},
}

func engraved(b build, out string) error {
	return run("go", "build", "-trimpath", "-buildvcs=false", "-tags", b.code, "-o", out, "./demo/engraved")
}

// inkraster is optimised and keeps no frame pointers, as most programs.
func inkraster(b build, out string) error {
	sources, err := filepath.Glob("demo/inkraster/*.cc")
	if err != nil {
		return err
	}
	return run("g++", append([]string{"-std=c++17", "-O2", "-g", "-fomit-frame-pointer", "-pthread", "-ffile-prefix-map=demo/=/srv/", "-DBUILD=" + b.code, "-o", out}, sources...)...)
}

func main() {
	only := flag.String("only", "", "only the program of this name")
	builds := flag.String("builds", "", "only these builds, with commas")
	out := flag.String("out", "demo/takes", "folder for the takes")
	spans := flag.Bool("spans", false, "only the takes with spans, which root makes")
	setter := flag.Bool("setter", false, "only the take of the platesetter")
	services := flag.Bool("services", false, "only the takes of services that run already")
	exact := flag.Bool("exact", false, "only the takes of exact runs")
	flag.Parse()
	if *spans || *setter {
		make := followed
		if *setter {
			make = exposed
		}
		if err := make(*out); err != nil {
			fmt.Fprintln(os.Stderr, "remake:", err)
			os.Exit(1)
		}
		return
	}
	if !*exact && (*only == "" || *only == "engraved") {
		if err := attached(*out, *builds); err != nil {
			fmt.Fprintln(os.Stderr, "remake:", err)
			os.Exit(1)
		}
	}
	for _, p := range programs {
		if *services || *only != "" && *only != p.name {
			continue
		}
		var err error
		if !*exact {
			err = p.remake(*out, *builds)
		}
		if err == nil && p.exact != nil {
			err = p.remakeExact(*out, *builds)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "remake:", err)
			os.Exit(1)
		}
	}
}

// remakeExact makes a take of each build in which everything is counted.
func (p program) remakeExact(out, only string) error {
	for _, b := range p.builds {
		if only != "" && !slices.Contains(strings.Split(only, ","), b.name) {
			continue
		}
		exe := filepath.Join("bin", p.name+"-"+b.name)
		if err := p.make(b, exe); err != nil {
			return err
		}
		file := filepath.Join(out, fmt.Sprintf("%s-%s-exact.take", p.name, b.name))
		if err := run("bin/entelon", append([]string{"exact", "--out", file, "--program", p.name, "--build", b.name, "--note", b.note, "--", exe}, p.exact...)...); err != nil {
			return err
		}
		if err := p.nameless(file); err != nil {
			return err
		}
	}
	return nil
}

func (p program) remake(out, only string) error {
	for i := range p.takes {
		for _, b := range p.builds { // in turns, so that a slow hour meets all builds alike
			if only != "" && !slices.Contains(strings.Split(only, ","), b.name) {
				continue
			}
			exe := filepath.Join("bin", p.name+"-"+b.name)
			if err := p.make(b, exe); err != nil {
				return err
			}
			file := filepath.Join(out, fmt.Sprintf("%s-%s-%d.take", p.name, b.name, i+1))
			args := []string{"take", "--out", file, "--program", p.name, "--build", b.name, "--note", b.note}
			if p.script != nil {
				dir, err := filepath.Abs(exe)
				if err != nil {
					return err
				}
				args = append(append(args, "--dir", dir, "--"), p.script...)
			} else {
				args = append(args, "--", exe)
			}
			if err := run("bin/entelon", append(args, p.args...)...); err != nil {
				return err
			}
			if err := p.nameless(file); err != nil {
				return err
			}
		}
	}
	return nil
}

// attached makes takes of the engraving service while it runs: a workload of its own.
func attached(out, only string) error {
	p := programs[0]
	for i := range 2 {
		for _, b := range p.builds[:2] {
			if only != "" && !slices.Contains(strings.Split(only, ","), b.name) {
				continue
			}
			exe := filepath.Join("bin", p.name+"-"+b.name)
			if err := p.make(b, exe); err != nil {
				return err
			}
			file := filepath.Join(out, fmt.Sprintf("%s-%s-service-%d.take", p.name, b.name, i+1))
			if err := p.attach(exe, file, b); err != nil {
				return err
			}
		}
	}
	return nil
}

// followed makes the take of 3.7.0 in which one page in a hundred is slow.
func followed(out string) error {
	p := programs[0]
	b := build{"3.7.0", "v350,v351,v360,v370", "glyphs are saved while it serves"}
	exe := filepath.Join("bin", p.name+"-"+b.name)
	if err := p.make(b, exe); err != nil {
		return err
	}
	file := filepath.Join(out, fmt.Sprintf("%s-%s-spans.take", p.name, b.name))
	args := []string{"take", "--out", file, "--program", p.name, "--build", b.name, "--note", b.note}
	for _, m := range []string{"cpu", "waiting", "goroutines", "span:main.Engrave", "span:glyph.Save"} {
		args = append(args, "--measure", m)
	}
	if err := run("bin/entelon", append(args, "--", exe, "--scores", "300", "--workers", "1")...); err != nil {
		return err
	}
	if err := p.nameless(file); err != nil {
		return err
	}
	return exposed(out)
}

// exposed makes the take of the platesetter, whose queue becomes longer, since pages are engraved faster than
// plates are exposed.
func exposed(out string) error {
	p, b := program{name: "platesetter"}, build{"1.0.0", "", "forty-eight pages, and a plate of each"}
	engraved := filepath.Join("bin", "engraved-3.6.0")
	if err := programs[0].make(build{"3.6.0", "v350,v351,v360", ""}, engraved); err != nil {
		return err
	}
	exe := filepath.Join("bin", "platesetter-1.0.0")
	if err := run("go", "build", "-trimpath", "-buildvcs=false", "-o", exe, "./demo/platesetter"); err != nil {
		return err
	}
	file := filepath.Join(out, "platesetter-1.0.0-spans.take")
	err := run("bin/entelon", "take", "--out", file, "--program", p.name, "--build", b.name, "--note", b.note, "--spans-at", "127.0.0.1:0",
		"--rate", "499", "--measure", "cpu", "--measure", "waiting", "--measure", "syscalls", "--", exe, "--engraved", engraved, "--pages", "48", "--expose", "60ms")
	if err != nil {
		return err
	}
	return p.nameless(file)
}

// attach samples the program while it serves.
func (p program) attach(exe, file string, b build) error {
	service := exec.Command(exe, "--drive", "--workers", "1")
	if err := service.Start(); err != nil {
		return err
	}
	defer func() {
		_ = service.Process.Kill() // it would serve for ever
		_ = service.Wait()
	}()
	time.Sleep(time.Second)
	err := run("bin/entelon", "take", "--out", file, "--program", p.name, "--build", b.name, "--note", b.note, "--pid", strconv.Itoa(service.Process.Pid), "--for", "7s", "--rate", "499")
	if err != nil {
		return err
	}
	return p.nameless(file)
}

// nameless replaces what is particular to the machine that made a take by the
// shop's own.
func (p program) nameless(file string) error {
	t, err := take.ReadFile(file, take.Options{})
	if err != nil {
		return err
	}
	t.Machine.Host, t.Machine.Processor = "bench-1", ""
	here := t.Settings.Dir
	t.Settings.Dir = "/srv/" + p.name
	for i, s := range t.Profile.Strings {
		if rest, ok := strings.CutPrefix(s, here+"/"); ok {
			t.Profile.Strings[i] = filepath.Join(t.Settings.Dir, rest)
		}
	}
	if p.script == nil {
		t.Facts.Executable = filepath.Join(t.Settings.Dir, t.Settings.Command[0])
	}
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
