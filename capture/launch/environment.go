package launch

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// ownVariables is how the names of Entelon's own environment variables begin.
// No command ever gets one.
const ownVariables = "ENTELON_"

// Search paths of environments that are made, as Debian gives them at a login.
const (
	rootPath = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
	userPath = "/usr/local/bin:/usr/bin:/bin"
)

// Environment returns what a launched command sees of the environment. Where
// it is made, the command gets what a login of its user would have, and nothing
// of this process; else it inherits everything but Entelon's own variables. The
// settings' own variables come last and win, after what is given for this time only.
func Environment(o Options) ([]string, error) {
	base := slices.DeleteFunc(os.Environ(), func(kv string) bool { return strings.HasPrefix(kv, ownVariables) })
	if o.Clean {
		var err error
		if base, err = login(o.Settings.User); err != nil {
			return nil, err
		}
	}
	return append(append(base, o.Given...), o.Settings.Env...), nil
}

// login is the environment that a user, "" for this process's own, has after a
// login.
func login(name string) ([]string, error) {
	u, err := lookUp(name)
	if err != nil {
		return nil, err
	}
	path := userPath
	if u.Uid == "0" {
		path = rootPath
	}
	return []string{"PATH=" + path, "HOME=" + u.HomeDir, "USER=" + u.Username, "LOGNAME=" + u.Username, "SHELL=/bin/sh", "LANG=C.UTF-8"}, nil
}

// lookUp finds a user by name, "" for this process's own. A process whose user
// has no entry is nobody in particular, at home in the root folder.
func lookUp(name string) (*user.User, error) {
	if name != "" {
		u, err := user.Lookup(name)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, ErrNoUser)
		}
		return u, nil
	}
	id := strconv.Itoa(os.Geteuid())
	u, err := user.LookupId(id)
	if err != nil {
		return &user.User{Uid: id, Gid: strconv.Itoa(os.Getegid()), Username: id, HomeDir: "/"}, nil
	}
	return u, nil
}

// Folder is where a command runs: where the settings say, else, for a clean
// launch, at its user's home, or in the root folder where there is none.
func Folder(o Options) string {
	if o.Settings.Dir != "" || !o.Clean {
		return o.Settings.Dir
	}
	if u, err := lookUp(o.Settings.User); err == nil {
		if st, err := os.Stat(u.HomeDir); err == nil && st.IsDir() && u.HomeDir != "" {
			return u.HomeDir
		}
	}
	return "/"
}

// variable returns the value of a name in an environment; the last one counts.
func variable(env []string, name string) string {
	value := ""
	for _, kv := range env {
		if v, ok := strings.CutPrefix(kv, name+"="); ok {
			value = v
		}
	}
	return value
}

// findCommand resolves a command as a shell would, but relative to the
// directory in which it will run and with the PATH that it will have.
func findCommand(name, dir, search string) (string, error) {
	if strings.Contains(name, "/") {
		full := name
		if !filepath.IsAbs(name) {
			full = filepath.Join(dir, name)
		}
		full, err := filepath.Abs(full)
		if err != nil {
			return "", fmt.Errorf("finding the command: %w", err)
		}
		st, err := os.Stat(full)
		switch {
		case err != nil:
			return "", fmt.Errorf("%s: %w", name, ErrNoCommand)
		case st.IsDir() || st.Mode()&0o111 == 0:
			return "", fmt.Errorf("%s: %w (the file there cannot be run)", name, ErrNoCommand)
		}
		return full, nil
	}
	refused := false
	for _, place := range filepath.SplitList(search) {
		if place == "" {
			place = "."
		}
		path := filepath.Join(place, name)
		if place == "." {
			path = "./" + name
		}
		found, err := exec.LookPath(path)
		if err == nil {
			return filepath.Abs(found)
		}
		refused = refused || errors.Is(err, fs.ErrPermission)
	}
	if refused {
		return "", fmt.Errorf("%s: %w (the file in PATH cannot be run)", name, ErrNoCommand)
	}
	return "", fmt.Errorf("%s: %w", name, ErrNoCommand)
}

// Find returns the absolute path of the file that the settings of a
// clean launch would run, before symbolic links are followed.
func Find(o Options) (string, error) {
	env, err := Environment(o)
	if err != nil {
		return "", err
	}
	return findCommand(o.Settings.Command[0], Folder(o), variable(env, "PATH"))
}
