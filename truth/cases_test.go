package truth

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// Case is one program, built in one way.
type Case struct {
	Name     string
	Short    bool // among those of make test
	Deep     bool // has stacks that are deeper than any copy, on purpose
	plain    bool // not even small functions are inlined
	nameless bool // stripped without a debug file: nothing to find parts by

	// runs is the command that runs what was built; nil: that itself. authored:
	// stacks are compared without the runtime's own frames, as the author sees them.
	runs     func(out string) []string
	authored bool
	witness  bool // run for no seconds, it has its runtime's own profiler measure its parts

	source    string
	compile   func(c Case, dir, out string) error
	flags     []string
	args      []string
	debugDirs []string // below the folder of the build
	after     func(dir, out string) error
}

func (c Case) build(dir string) (string, error) {
	out := filepath.Join(dir, "program")
	if err := c.compile(c, dir, out); err != nil {
		return "", err
	}
	if c.after != nil {
		if err := c.after(dir, out); err != nil {
			return "", err
		}
	}
	return out, nil
}

func run(name string, args ...string) error {
	if b, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		return fmt.Errorf("%s %s: %w: %s", name, strings.Join(args, " "), err, b)
	}
	return nil
}

func cc(c Case, _, out string) error {
	compiler := "gcc"
	if strings.HasSuffix(c.source, ".cc") {
		compiler = "g++"
	}
	return run(compiler, append(append([]string{"-g", "-pthread", "-o", out}, c.flags...), c.source, "-lm")...)
}

func rustc(c Case, _, out string) error {
	return run("rustc", append([]string{"-g", "--edition", "2021", "--crate-name", "score", "-o", out, c.source}, c.flags...)...)
}

func gobuild(c Case, _, out string) error {
	return run("go", append(append([]string{"build", "-buildvcs=false", "-o", out}, c.flags...), "./"+filepath.Dir(c.source))...)
}

// linked strips the program and leaves a debug file beside it, to which the
// debug link leads.
func linked(_, out string) error {
	for _, args := range [][]string{
		{"objcopy", "--only-keep-debug", out, out + ".debug"},
		{"strip", "--strip-all", out},
		{"objcopy", "--add-gnu-debuglink=" + out + ".debug", out},
	} {
		if err := run(args[0], args[1:]...); err != nil {
			return err
		}
	}
	return nil
}

// byID strips the program and leaves its debug file in a folder by build ID.
func byID(dir, out string) error {
	b, err := exec.Command("readelf", "-n", out).Output()
	if err != nil {
		return fmt.Errorf("readelf: %w", err)
	}
	_, id, ok := strings.Cut(string(b), "Build ID: ")
	if !ok {
		return fmt.Errorf("%s has no build ID", out)
	}
	id = strings.Fields(id)[0]
	folder := filepath.Join(dir, "debug", ".build-id", id[:2])
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	if err := run("objcopy", "--only-keep-debug", "--compress-debug-sections=zlib", out, filepath.Join(folder, id[2:]+".debug")); err != nil {
		return err
	}
	return run("strip", "--strip-all", out)
}

// interpreted builds what a script needs besides itself: a native library.
func interpreted(_ Case, dir, _ string) error {
	return run("gcc", "-g", "-O2", "-shared", "-fPIC", "-o", filepath.Join(dir, "libink.so"), programs+"inklib.c", "-lm")
}

// python runs a script with one of the interpreters that are here. The script
// gets the folder of its library behind the seconds.
func python(p interpreter, source string) func(string) []string {
	return func(string) []string { return append(append([]string{p.path}, p.args...), source) }
}

// tsc compiles TypeScript with the compiler that the front end has, with a
// source map beside the script.
func tsc(c Case, _, out string) error {
	return run("node", "web/node_modules/typescript/bin/tsc", "--target", "es2022", "--module", "commonjs", "--sourceMap", "--lib", "es2022", "--skipLibCheck", "--outDir", filepath.Dir(out), c.source)
}

func javac(c Case, _, out string) error {
	return run("javac", "-d", filepath.Dir(out), c.source)
}

func stripped(_, out string) error { return run("strip", "--strip-all", out) }

// plugins builds the libraries that the program loads.
func plugins(dir, _ string) error {
	for i, name := range []string{"libone.so", "libtwo.so"} {
		if err := run("gcc", "-g", "-O2", "-shared", "-fPIC", fmt.Sprintf("-DWHICH=%d", i+1), "-o", filepath.Join(dir, name), programs+"plugin.c", "-lm"); err != nil {
			return err
		}
	}
	return nil
}

// programs is the folder of the sources, from the top of the repository.
const programs = "truth/programs/"

const (
	framePointers   = "-fno-omit-frame-pointer"
	noFramePointers = "-fomit-frame-pointer"
)

// Cases are all programs in all ways.
func Cases() []Case {
	var out []Case
	c := func(name, source string, compile func(Case, string, string) error, flags ...string) *Case {
		out = append(out, Case{Name: name, source: programs + source, compile: compile, flags: flags})
		return &out[len(out)-1]
	}
	for _, level := range []string{"-O0", "-O1", "-O2", "-O3"} {
		for _, fp := range []string{framePointers, noFramePointers} {
			c("shapes "+level+" "+fp, "shapes.c", cc, level, fp).Short = level == "-O2" || (level == "-O0" && fp == framePointers)
			c("raster "+level+" "+fp, "raster.cc", cc, level, fp).Short = level == "-O2" && fp == noFramePointers
		}
	}
	c("shapes static", "shapes.c", cc, "-O2", "-static", noFramePointers).Short = true
	c("shapes static-pie", "shapes.c", cc, "-O2", "-static-pie", noFramePointers)
	c("shapes not position-independent", "shapes.c", cc, "-O2", "-no-pie", "-fno-pie", noFramePointers)
	c("shapes link-time optimised", "shapes.c", cc, "-O2", "-flto", noFramePointers).Short = true
	c("shapes size-optimised", "shapes.c", cc, "-Os", noFramePointers)
	c("shapes DWARF 4", "shapes.c", cc, "-O2", "-gdwarf-4", noFramePointers)
	c("shapes compressed", "shapes.c", cc, "-O2", "-gz=zlib", noFramePointers)
	c("shapes in .debug_frame only", "shapes.c", cc, "-O2", "-fno-asynchronous-unwind-tables", "-fno-exceptions", noFramePointers)
	c("shapes stripped, debug link", "shapes.c", cc, "-O2", noFramePointers).after = linked
	x := c("shapes stripped, build ID", "shapes.c", cc, "-O2", noFramePointers)
	x.after, x.debugDirs, x.Short = byID, []string{"debug"}, true
	x = c("shapes stripped", "shapes.c", cc, "-O2", noFramePointers)
	x.after, x.nameless = stripped, true
	c("raster link-time optimised", "raster.cc", cc, "-O3", "-flto", noFramePointers)
	c("raster static", "raster.cc", cc, "-O2", "-static", noFramePointers)
	for _, fp := range []string{framePointers, noFramePointers} {
		c("deep "+fp, "deep.c", cc, "-O2", "-fno-optimize-sibling-calls", fp).Deep = true
		c("signals "+fp, "signals.c", cc, "-O2", fp)
		x = c("signals on a stack of their own "+fp, "signals.c", cc, "-O2", fp)
		x.args, x.Short = []string{"own"}, fp == noFramePointers
		x = c("loading "+fp, "loading.c", cc, "-O2", fp)
		x.after, x.Short = plugins, fp == noFramePointers
		c("family "+fp, "family.c", cc, "-O2", fp).Short = fp == noFramePointers
	}
	c("clocks", "clocks.c", cc, "-O2").Short = true
	c("clocks, bound when called", "clocks.c", cc, "-O0", "-no-pie", "-fno-builtin", "-Wl,-z,lazy", noFramePointers)
	for _, level := range []string{"0", "1", "2", "3"} {
		c("score -O"+level, "score.rs", rustc, "-C", "opt-level="+level).Short = level == "2"
	}
	c("score with frame pointers", "score.rs", rustc, "-C", "opt-level=2", "-C", "force-frame-pointers=yes")
	c("score link-time optimised", "score.rs", rustc, "-C", "opt-level=3", "-C", "lto=fat")
	c("score new mangling", "score.rs", rustc, "-C", "opt-level=2", "-C", "symbol-mangling-version=v0")
	c("score static", "score.rs", rustc, "-C", "opt-level=2", "-C", "target-feature=+crt-static")
	c("gopher", "gopher/main.go", gobuild).Short = true
	c("gopher stripped", "gopher/main.go", gobuild, "-ldflags=-s -w")
	c("gopher position-independent", "gopher/main.go", gobuild, "-buildmode=pie")
	c("gopher not optimised", "gopher/main.go", gobuild, "-gcflags=all=-N -l").plain = true
	c("cgo", "cgo/main.go", gobuild).Short = true
	c("cgo stripped", "cgo/main.go", gobuild, "-ldflags=-s -w")
	for _, p := range pythons() {
		x = c("partbook, CPython "+p.version, "partbook.py", interpreted)
		x.runs, x.authored, x.Short = python(p, x.source), true, p.short
		x.args, x.witness = []string{"{dir}"}, true
	}
	if have("node") && have("web/node_modules/typescript/bin/tsc") {
		x = c("pageturn, TypeScript on Node.js", "pageturn.ts", tsc)
		x.runs, x.authored, x.Short = func(out string) []string { return []string{"node", filepath.Join(filepath.Dir(out), "pageturn.js")} }, true, true
		x.witness = true
	}
	if have("java") && have("javac") {
		x = c("press, Java", "java/shop/Press.java", javac)
		x.runs, x.authored, x.Short = func(out string) []string {
			return []string{"java", "-Xcomp", "-XX:CompileCommand=quiet", "-XX:CompileCommand=compileonly,shop.Press::*", "-cp", filepath.Dir(out), "shop.Press"}
		}, true, true
	}
	return out
}
