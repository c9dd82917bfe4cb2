package capture

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"unicode"

	"golang.org/x/sys/unix"

	"entelon/runtimes"
	"entelon/symbol"
)

// identify finds out which build of which program this is.
func (s *session) identify() error {
	set := &s.o.Settings
	if s.exe == "" {
		s.identifyPlace()
		return nil
	}
	s.exe = strings.TrimSuffix(s.exe, " (deleted)")
	s.facts.Executable = s.exe
	real, err := filepath.EvalSymlinks(s.exe)
	if err != nil {
		real = s.exe
	}
	path := real
	if set.PID != 0 {
		path = fmt.Sprintf("/proc/%d/exe", set.PID)
		if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", set.PID)); err == nil {
			set.Command = strings.Split(strings.TrimSuffix(string(b), "\x00"), "\x00")
		}
		if dir, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", set.PID)); err == nil {
			set.Dir = dir
		}
	} else if set.Dir == "" {
		if set.Dir, err = os.Getwd(); err != nil {
			return fmt.Errorf("finding the directory: %w", err)
		}
	}
	script := runtimes.ScriptOf(s.exe, set.Command, set.Dir)
	s.world.SetMain(real, script.Path)
	if script.Name != "" && set.Program == "" {
		set.Program = script.Name
	}
	if build := script.Build(); build != "" && set.Build == "" {
		set.Build = build
	}
	// A script has no identity of its own; its build is then "unnamed".
	if id, err := symbol.Identify(path); err == nil {
		s.facts.BuildID, s.facts.Revision, s.unoptimised = id.BuildID, id.Revision, id.Unoptimised
		if set.Build == "" {
			set.Build = id.Name()
		}
	} else if set.Build == "" {
		set.Build = "unnamed"
	}
	if set.Program == "" {
		set.Program = ProgramName(calledAs(s.exe, set.PID, set.Command))
	}
	return nil
}

// calledAs is the path of a process's program by the name that it was started by, which may
// be that of a link: one file can be several programs.
func calledAs(exe string, pid int, command []string) string {
	if pid == 0 || len(command) == 0 {
		return exe
	}
	// Who changes his command line writes it as one text, often with a colon behind the name.
	words := strings.Fields(command[0])
	if len(words) == 0 {
		return exe
	}
	name := filepath.Base(strings.TrimSuffix(words[0], ":"))
	for _, path := range []string{words[0], filepath.Join(filepath.Dir(exe), name)} {
		a, err1 := os.Stat(fmt.Sprintf("/proc/%d/root%s", pid, path))
		b, err2 := os.Stat(fmt.Sprintf("/proc/%d/exe", pid))
		if err1 == nil && err2 == nil && filepath.IsAbs(path) && os.SameFile(a, b) {
			return filepath.Join(filepath.Dir(exe), name)
		}
	}
	return exe
}

// versioned is a file's name that ends with a version, such as engraved-3.5.0.
var versioned = regexp.MustCompile(`^(.*?[^-_.0-9])(?:[-_.]v?|)[0-9]+(\.[0-9]+)+$`)

// ProgramName is a file's name without a version at its end, so that builds of
// one program are builds of one program.
func ProgramName(path string) string {
	base := strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return '_'
		}
		return r
	}, filepath.Base(path))
	if m := versioned.FindStringSubmatch(base); m != nil {
		return m[1]
	}
	return base
}

// identifyPlace names what is not a program: a machine or a control group.
func (s *session) identifyPlace() {
	set := &s.o.Settings
	name := "machine"
	if set.Group != "" {
		name = filepath.Base(set.Group)
	}
	if set.Program == "" {
		set.Program = name
	}
	if set.Build == "" {
		set.Build = kernelRelease() // what the machine runs in any case
	}
}

// kernelRelease is the kernel's version, "unnamed" where it does not tell.
func kernelRelease() string {
	var u unix.Utsname
	if unix.Uname(&u) != nil {
		return "unnamed"
	}
	return unix.ByteSliceToString(u.Release[:])
}
