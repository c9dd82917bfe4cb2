package rights

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"entelon/core/profile"
)

// held writes a file of rights and reads it.
func held(t *testing.T, text string) *Rights {
	t.Helper()
	path := filepath.Join(t.TempDir(), "collector.yaml")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	r, err := Read(path)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func find(set profile.Settings) (string, error) { return set.Command[0], nil }

func owner(pid int) (string, error) {
	if pid == 1 {
		return "root", nil
	}
	return "engraver", nil
}

func TestWhatAFileAllows(t *testing.T) {
	dir := t.TempDir()
	for _, d := range []string{"bin", "work/deep", "other"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for _, f := range []string{"bin/engraved", "bin/engraved-3.5.0", "other/evil"} {
		if err := os.WriteFile(filepath.Join(dir, f), nil, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink(filepath.Join(dir, "other/evil"), filepath.Join(dir, "bin/engraved-link")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(filepath.Join(dir, "other"), filepath.Join(dir, "work/out")); err != nil {
		t.Fatal(err)
	}
	in := func(p string) string { return filepath.Join(dir, p) }
	r := held(t, `
commands:
  - users: [engraver, printer]
    programs: [`+in("bin/engraved*")+`]
    folders: [`+in("work")+`]
  - users: [inker]
    programs: [`+in("bin")+`/]
    people: [mara]
attach: [engraver]
`)
	for name, c := range map[string]struct {
		set  profile.Settings
		who  string
		as   string // the user that comes of it, "" for a refusal
		says string
	}{
		"the first user":         {profile.Settings{Command: []string{in("bin/engraved")}, Dir: in("work")}, "ole", "engraver", ""},
		"another one":            {profile.Settings{Command: []string{in("bin/engraved-3.5.0")}, Dir: in("work/deep"), User: "printer"}, "ole", "printer", ""},
		"root":                   {profile.Settings{Command: []string{in("bin/engraved")}, Dir: in("work"), User: "root"}, "ole", "", "as root"},
		"another program":        {profile.Settings{Command: []string{in("other/evil")}, Dir: in("work")}, "ole", "", "evil"},
		"a link out of it":       {profile.Settings{Command: []string{in("bin/engraved-link")}, Dir: in("work")}, "ole", "", "engraved-link"},
		"another folder":         {profile.Settings{Command: []string{in("bin/engraved")}, Dir: in("other")}, "ole", "", "other"},
		"a folder by a link":     {profile.Settings{Command: []string{in("bin/engraved")}, Dir: in("work/out")}, "ole", "", "out"},
		"out by dots":            {profile.Settings{Command: []string{in("bin/engraved")}, Dir: in("work") + "/../other"}, "ole", "", "other"},
		"no folder where needed": {profile.Settings{Command: []string{in("bin/engraved")}}, "ole", "", "engraved"},
		"who may":                {profile.Settings{Command: []string{in("bin/engraved")}, User: "inker"}, "mara", "inker", ""},
		"who may not":            {profile.Settings{Command: []string{in("bin/engraved")}, User: "inker"}, "ole", "", "inker"},
		"machine":                {profile.Settings{Machine: true}, "mara", "", "the whole machine"},
		"a group":                {profile.Settings{Group: "x"}, "mara", "", "control group"},
		"root's process":         {profile.Settings{PIDs: []int{7, 1}}, "mara", "", "process 1"},
	} {
		got, err := r.Check(c.set, c.who, find, owner)
		if c.as == "" {
			if !errors.Is(err, ErrRefused) || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v", name, err)
			}
		} else if err != nil || got.User != c.as {
			t.Errorf("%s: as %q, %v", name, got.User, err)
		}
	}
	if _, err := r.Check(profile.Settings{PIDs: []int{7}}, "ole", find, owner); err != nil {
		t.Error(err)
	}
}

// TestDefault: without a file nobody runs a command as root, named or not.
func TestDefault(t *testing.T) {
	r, err := Read(filepath.Join(t.TempDir(), "none.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	if os.Geteuid() != 0 {
		t.Skip("as another user commands run as that user")
	}
	got, err := r.Check(profile.Settings{Command: []string{"/bin/true"}}, "mara", find, owner)
	if err != nil || got.User != "nobody" || r.AsRoot() {
		t.Errorf("as %q, %v", got.User, err)
	}
	for _, name := range []string{"root", "postgres", "toor"} {
		if _, err := r.Check(profile.Settings{Command: []string{"/bin/true"}, User: name}, "mara", find, owner); !errors.Is(err, ErrRefused) {
			t.Errorf("as %s: %v", name, err)
		}
	}
}

// TestFilesThatOthersCouldHaveWritten are refused, as are those that say
// something that is not known: a limit that is misspelt would be none.
func TestFilesThatOthersCouldHaveWritten(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), mode); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(path, mode); err != nil {
			t.Fatal(err)
		}
		return path
	}
	open := filepath.Join(dir, "open")
	if err := os.Mkdir(open, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(open, 0o777); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct{ path, says string }{
		"readable":   {write("a", "machine: true", 0o644), "by others"},
		"writable":   {write("b", "machine: true", 0o602), "by others"},
		"replaced":   {write("open/c", "machine: true", 0o600), "replaced"},
		"unknown":    {write("d", "comands: []", 0o600), "comands"},
		"no users":   {write("e", "commands:\n  - programs: [/bin/true]", 0o600), "names no users"},
		"relative":   {write("f", "commands:\n  - users: [x]\n    programs: [bin/true]", 0o600), "absolute"},
		"bad folder": {write("g", "commands:\n  - users: [x]\n    folders: ['/a[']", 0o600), "absolute"},
	} {
		if _, err := Read(c.path); err == nil || !strings.Contains(err.Error(), c.says) || strings.Contains(err.Error(), "\n") {
			t.Errorf("%s: %v", name, err)
		}
	}
	// What is not in a file is not allowed, and an empty one allows nothing.
	r, err := Read(write("h", "", 0o600))
	if err != nil {
		t.Fatal(err)
	}
	for _, set := range []profile.Settings{{Machine: true}, {PIDs: []int{7}}, {Command: []string{"/bin/true"}}} {
		if _, err := r.Check(set, "mara", find, owner); !errors.Is(err, ErrRefused) {
			t.Errorf("%+v: %v", set, err)
		}
	}
}
