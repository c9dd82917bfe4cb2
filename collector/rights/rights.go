// Package rights reads the file in which a machine's owner says what collecting
// may do there, and holds jobs against it. Whatever a server asks for, the file
// has the last word; without one, Default does.
//
// A file names what is allowed; everything else is refused:
//
//	commands:                      # a command runs if one entry allows it
//	  - users: [engraver]          # as whom; the first where a job names nobody
//	    programs: [/srv/shop/bin/] # files, patterns, or folders with all below them; absent: any
//	    folders: [/srv/shop]       # where it may run, and below; absent: anywhere
//	    people: [mara]             # who may ask for it; absent: whoever may collect
//	attach: ["*"]                  # whose processes may be sampled; "*" is everybody's
//	machine: true                  # the whole machine, and control groups
//
// Rights are read once and not changed; many goroutines may ask them.
package rights

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"entelon/core/profile"
)

// Place is where the file of a collector that runs as root is looked for.
const Place = "/etc/entelon/collector.yaml"

// UsualPlace is where the file of this process's user is looked for: a collector
// that does not run as root cannot read root's.
func UsualPlace() string {
	if os.Geteuid() == 0 {
		return Place
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return Place
	}
	return filepath.Join(dir, "entelon", "collector.yaml")
}

// Anybody stands for every user.
const Anybody = "*"

// largest bounds the file, in bytes.
const largest = 1 << 20

// Rights are what collecting may do on this machine.
type Rights struct {
	Commands []Command `yaml:"commands"`
	Attach   []string  `yaml:"attach"`
	Machine  bool      `yaml:"machine"`

	from string // the file, "" for the default
}

// Command allows some commands.
type Command struct {
	Users    []string `yaml:"users"`
	Programs []string `yaml:"programs"`
	Folders  []string `yaml:"folders"`
	People   []string `yaml:"people"`
}

// ErrRefused is wrapped by everything that Check returns.
var ErrRefused = errors.New("this machine does not allow it")

// Default is what is allowed without a file. A collector that runs as root
// launches commands as nobody, who owns nothing; another one as itself.
func Default() *Rights {
	who := "nobody"
	if os.Geteuid() != 0 {
		who = self()
	}
	return &Rights{Commands: []Command{{Users: []string{who}}}, Attach: []string{Anybody}, Machine: true}
}

func self() string {
	u, err := user.Current()
	if err != nil {
		return fmt.Sprint(os.Geteuid())
	}
	return u.Username
}

// Read reads the file at path, or returns Default where there is none. A file
// that others than its owner can read or write is refused, as is one in a
// folder in which others could replace it.
func Read(path string) (*Rights, error) {
	f, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return Default(), nil
	} else if err != nil {
		return nil, fmt.Errorf("reading what is allowed here: %w", err)
	}
	defer f.Close()
	if err := guarded(f, path); err != nil {
		return nil, err
	}
	b, err := io.ReadAll(io.LimitReader(f, largest+1))
	if err != nil {
		return nil, fmt.Errorf("reading what is allowed here: %w", err)
	}
	if len(b) > largest {
		return nil, fmt.Errorf("%s is larger than %d kB", path, largest>>10)
	}
	r := &Rights{from: path}
	if err := yaml.UnmarshalWithOptions(b, r, yaml.Strict()); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("%s: %s", path, strings.Join(strings.Fields(yaml.FormatError(err, false, false)), " "))
	}
	for i, c := range r.Commands {
		if len(c.Users) == 0 {
			return nil, fmt.Errorf("%s: entry %d of commands names no users", path, i+1)
		}
		for _, p := range slices.Concat(c.Programs, c.Folders) {
			if _, err := filepath.Match(p, ""); err != nil || !filepath.IsAbs(p) {
				return nil, fmt.Errorf("%s: %q is not an absolute path or a pattern of one", path, p)
			}
		}
	}
	return r, nil
}

// Check holds a job against the rights. It returns the settings with the user
// filled in, or an error that wraps ErrRefused. find returns the file that
// settings would run; owner the user of a process; who is the person who asked.
func (r *Rights) Check(set profile.Settings, who string, find func(profile.Settings) (string, error), owner func(pid int) (string, error)) (profile.Settings, error) {
	pids := set.PIDs
	if len(pids) == 0 && set.PID != 0 {
		pids = []int{set.PID}
	}
	switch {
	case len(pids) > 0:
		for _, pid := range pids {
			name, err := owner(pid)
			if err != nil {
				return set, err
			}
			if !r.MayAttach(name) {
				return set, r.refuse(fmt.Sprintf("sampling process %d, which belongs to %s", pid, name))
			}
		}
		return set, nil
	case set.Machine || set.Group != "":
		if !r.Machine {
			return set, r.refuse("sampling the whole machine, or a control group")
		}
		return set, nil
	case len(set.Command) == 0:
		return set, nil // there is nothing to allow
	}
	return r.command(set, who, find)
}

func (r *Rights) command(set profile.Settings, who string, find func(profile.Settings) (string, error)) (profile.Settings, error) {
	as := set.User
	var missing error
	for _, c := range r.Commands {
		if len(c.People) > 0 && !slices.Contains(c.People, who) {
			continue
		}
		if set.User = as; as == "" {
			set.User = c.Users[0]
		} else if !slices.Contains(c.Users, as) && !slices.Contains(c.Users, Anybody) {
			continue
		}
		if set.User == Anybody {
			set.User = self()
		}
		path, err := find(set)
		if err != nil {
			missing = errors.Join(missing, err)
			continue
		}
		if within(c.Programs, path) && (set.Dir == "" && len(c.Folders) == 0 || set.Dir != "" && below(c.Folders, set.Dir)) {
			if set.User == self() {
				set.User = "" // it needs no change of users
			}
			return set, nil
		}
	}
	set.User = as
	if missing != nil {
		return set, missing
	}
	text := fmt.Sprintf("the command %s", set.Command[0])
	if as != "" {
		text += " as " + as
	}
	if set.Dir != "" {
		text += " in " + set.Dir
	}
	return set, r.refuse(text)
}

func (r *Rights) refuse(what string) error {
	if r.from == "" {
		return fmt.Errorf("%w: %s; its owner can allow it in %s", ErrRefused, what, UsualPlace())
	}
	return fmt.Errorf("%w: %s; see %s there", ErrRefused, what, r.from)
}

// within reports whether a file is one of those allowed, once symbolic links
// are followed. No patterns allow every file.
func within(patterns []string, path string) bool {
	if len(patterns) == 0 {
		return true
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(patterns, func(p string) bool {
		if strings.HasSuffix(p, "/") {
			return below([]string{p}, filepath.Dir(real))
		}
		if target, err := filepath.EvalSymlinks(p); err == nil {
			p = target
		}
		ok, err := filepath.Match(p, real)
		return err == nil && ok
	})
}

// below reports whether a folder is one of those allowed or below it, once
// symbolic links are followed. No folders allow every one.
func below(allowed []string, dir string) bool {
	if len(allowed) == 0 {
		return true
	}
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(allowed, func(a string) bool {
		a, err := filepath.EvalSymlinks(a)
		if err != nil {
			return false
		}
		rel, err := filepath.Rel(a, real)
		return err == nil && rel != ".." && !strings.HasPrefix(rel, "../")
	})
}

// Sentences says in plain words what is allowed, for the page.
func (r *Rights) Sentences() []string {
	var out []string
	for _, c := range r.Commands {
		s := "Commands as " + strings.Join(c.Users, ", ")
		if len(c.Programs) > 0 {
			s += ": " + strings.Join(c.Programs, ", ")
		}
		if len(c.Folders) > 0 {
			s += "; in " + strings.Join(c.Folders, ", ")
		}
		if len(c.People) > 0 {
			s += "; for " + strings.Join(c.People, ", ")
		}
		out = append(out, s+".")
	}
	if len(r.Commands) == 0 {
		out = append(out, "No commands.")
	}
	switch {
	case slices.Contains(r.Attach, Anybody):
		out = append(out, "Sampling any process.")
	case len(r.Attach) > 0:
		out = append(out, "Sampling processes of "+strings.Join(r.Attach, ", ")+".")
	default:
		out = append(out, "No sampling of running processes.")
	}
	if !r.Machine {
		out = append(out, "No sampling of the whole machine or of control groups.")
	}
	return out
}

// MayAttach reports whether processes of a user may be sampled.
func (r *Rights) MayAttach(owner string) bool {
	return slices.Contains(r.Attach, Anybody) || slices.Contains(r.Attach, owner)
}

// AsRoot reports whether some command may run as root.
func (r *Rights) AsRoot() bool {
	return slices.ContainsFunc(r.Commands, func(c Command) bool {
		return slices.ContainsFunc(c.Users, func(name string) bool {
			if name == Anybody || name == "root" {
				return true
			}
			u, err := user.Lookup(name)
			return err == nil && u.Uid == "0"
		})
	})
}
