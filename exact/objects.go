package exact

import (
	"os"
	"path/filepath"
	"regexp"
	"syscall"

	"entelon/core/profile"
	"entelon/exact/counts"
	"entelon/runtimes"
	"entelon/symbol"
)

// Objects are the files of a run, each opened once.
type Objects struct {
	finder *symbol.Finder
	Main   string // the program's own file
	known  map[string]Opened
	Go     bool // the program is of the Go runtime
	opened []*symbol.Object
}

// NewObjects finds debug files as a finder does.
func NewObjects(f *symbol.Finder) *Objects {
	return &Objects{finder: f, known: map[string]Opened{}}
}

// Open opens a file to name addresses in it. One that cannot be read has none.
func (o *Objects) Open(path string) Opened {
	if x, ok := o.known[path]; ok {
		return x
	}
	kind := profile.KindLibrary
	switch {
	case runtimes.Holding(filepath.Base(path)) != nil:
		kind = profile.KindRuntime
	case path == o.Main:
		kind = profile.KindOwn
	}
	x := Opened{Kind: kind}
	// Opening a device could do something, and which files there are, the counts say.
	if st, err := os.Stat(path); err != nil || !st.Mode().IsRegular() {
		o.known[path] = x
		return x
	}
	if f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0); err == nil {
		if object, err := symbol.OpenObject(f, path, kind, o.finder); err == nil {
			o.opened = append(o.opened, object)
			x.Object, x.BuildID = object, object.BuildID
			o.Go = o.Go || kind == profile.KindOwn && object.HasGoSection()
		}
	}
	o.known[path] = x
	return x
}

// interpreters are those that are no runtimes of ours. A shell is none: what it runs are other programs.
var interpreters = regexp.MustCompile(`^(perl|ruby|php|php-cgi|lua|luajit|tclsh|guile|R|octave|[gmn]?awk)[-0-9.]*$`)

// Interpreter is the name of a program that interprets code, or makes it as it runs, of processes;
// "" where none does.
func Interpreter(processes []*counts.Counts) string {
	for _, c := range processes {
		program := filepath.Base(c.Program)
		if runtimes.Holding(program) != nil || interpreters.MatchString(program) {
			return program
		}
		for _, m := range c.Mappings {
			if runtimes.Holding(filepath.Base(m.Path)) != nil {
				return program
			}
		}
	}
	return ""
}

// Close closes them.
func (o *Objects) Close() {
	for _, x := range o.opened {
		_ = x.Close() // it was only read
	}
}

// Identify names the program of a take and its build, by the file that was asked for; name is what
// programs are called by their files. So samples name them, too: one file can be several programs
// by the links to it, and a script is one without a build of its own.
func Identify(set *profile.Settings, facts *profile.Facts, asked string, name func(path string) string) {
	if set.Dir == "" {
		set.Dir, _ = os.Getwd() // it is only told
	}
	script := runtimes.ScriptOf(asked, set.Command, set.Dir)
	if set.Program == "" {
		set.Program = name(asked)
		if script.Name != "" {
			set.Program = script.Name
		}
	}
	if build := script.Build(); build != "" && set.Build == "" {
		set.Build = build
	}
	id, err := symbol.Identify(asked)
	if err == nil {
		facts.BuildID, facts.Revision = id.BuildID, id.Revision
		if set.Build == "" {
			set.Build = id.Name()
		}
	}
	if set.Build == "" {
		set.Build = "unnamed"
	}
}
