package sampler

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
)

// launchWord, as the first argument, makes this binary a launcher: a process
// that waits until its events are in place and then becomes the command. So
// the command is sampled from its very first instruction, is never stopped,
// and keeps what it is given: streams, directory, environment, group, terminal.
const launchWord = "__launch"

// The launcher's extra files.
const (
	launchGo    = 3 // a byte here means: become the command
	launchError = 4 // why that failed; closed without a word when it worked
)

func init() {
	// The events are on the first thread; it must be the one that becomes the command.
	if isLauncher() {
		runtime.LockOSThread()
	}
}

func isLauncher() bool { return len(os.Args) > 3 && os.Args[1] == launchWord }

// Launcher becomes the command if this process was started to do so, and
// returns otherwise. It must be called first in main.
func Launcher() {
	if !isLauncher() {
		return
	}
	syscall.CloseOnExec(launchGo)
	syscall.CloseOnExec(launchError)
	var b [1]byte
	if n, err := syscall.Read(launchGo, b[:]); n != 1 || err != nil {
		os.Exit(127) // whoever started us has gone
	}
	err := syscall.Exec(os.Args[2], os.Args[3:], os.Environ())
	// If this cannot be reported either, the exit code still tells.
	_, _ = syscall.Write(launchError, []byte(err.Error()))
	os.Exit(127)
}

// launched is a command that waits to begin, or runs.
type launched struct {
	cmd  *exec.Cmd
	path string
	goes *os.File
	errs *os.File
	done chan struct{}
	code int
	set  string // what was set for its runtime
	log  string // a file that this makes it write
}

// launch finds the command and starts its launcher.
func launch(o Options) (*launched, error) {
	s := o.Settings
	if s.Dir != "" {
		if st, err := os.Stat(s.Dir); err != nil || !st.IsDir() {
			return nil, fmt.Errorf("%s: %w", s.Dir, ErrNoDir)
		}
	}
	path, err := findCommand(s.Command[0], s.Dir)
	if err != nil {
		return nil, err
	}
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("finding this program's own file: %w", err)
	}
	goRead, goWrite, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("preparing the launch: %w", err)
	}
	errRead, errWrite, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(fmt.Errorf("preparing the launch: %w", err), goRead.Close(), goWrite.Close())
	}
	plan := launchPlan{path: path, args: s.Command}
	log := filepath.Join(os.TempDir(), fmt.Sprintf("entelon-%d-%d.log", os.Getpid(), monotonic()))
	if !s.AsIs {
		plan = planLaunch(path, s.Command, log)
	}
	l := &launched{path: path, set: plan.set, log: log, goes: goWrite, errs: errRead, done: make(chan struct{})}
	l.cmd = &exec.Cmd{
		Path: self, Args: append([]string{self, launchWord, plan.path}, plan.args...),
		Dir: s.Dir, Env: append(os.Environ(), s.Env...),
		Stdin: o.Stdin, Stdout: o.Stdout, Stderr: o.Stderr,
		ExtraFiles: []*os.File{goRead, errWrite},
	}
	if s.User != "" {
		if l.cmd.SysProcAttr, err = asUser(s.User); err != nil {
			return nil, errors.Join(err, goRead.Close(), goWrite.Close(), errRead.Close(), errWrite.Close())
		}
	}
	if o.Tied {
		if l.cmd.SysProcAttr == nil {
			l.cmd.SysProcAttr = &syscall.SysProcAttr{}
		}
		l.cmd.SysProcAttr.Pdeathsig = syscall.SIGTERM
	}
	err = l.cmd.Start()
	goRead.Close()
	errWrite.Close()
	if err != nil {
		return nil, errors.Join(fmt.Errorf("starting the launcher: %w", err), goWrite.Close(), errRead.Close())
	}
	return l, nil
}

// asUser has a command run as a user, in all their groups.
func asUser(name string) (*syscall.SysProcAttr, error) {
	u, err := user.Lookup(name)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, ErrNoUser)
	}
	uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
	ids, err3 := u.GroupIds()
	if err := errors.Join(err1, err2, err3); err != nil {
		return nil, fmt.Errorf("looking up the user %s: %w", name, err)
	}
	c := &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	for _, id := range ids {
		if n, err := strconv.ParseUint(id, 10, 32); err == nil {
			c.Groups = append(c.Groups, uint32(n))
		}
	}
	return &syscall.SysProcAttr{Credential: c}, nil
}

// findCommand resolves a command as a shell would, but relative to the
// directory in which it will run.
func findCommand(name, dir string) (string, error) {
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
	path, err := exec.LookPath(name)
	if err != nil && !errors.Is(err, exec.ErrDot) {
		if errors.Is(err, fs.ErrPermission) {
			return "", fmt.Errorf("%s: %w (the file in PATH cannot be run)", name, ErrNoCommand)
		}
		return "", fmt.Errorf("%s: %w", name, ErrNoCommand)
	}
	return filepath.Abs(path)
}

// begin lets the launcher become the command.
func (l *launched) begin() error {
	_, err := l.goes.Write([]byte{1})
	if err = errors.Join(err, l.goes.Close()); err != nil {
		return fmt.Errorf("starting the command: %w", err)
	}
	why, err := io.ReadAll(l.errs)
	if err = errors.Join(err, l.errs.Close()); err != nil {
		return fmt.Errorf("starting the command: %w", err)
	}
	go l.wait()
	if len(why) > 0 {
		<-l.done
		return fmt.Errorf("%s: %w (%s)", l.path, ErrNoCommand, why)
	}
	return nil
}

// abandon ends a launcher that shall not become the command.
func (l *launched) abandon() error {
	err := errors.Join(l.goes.Close(), l.errs.Close())
	_ = l.cmd.Wait() // it ends with 127, which says nothing new
	return err
}

func (l *launched) wait() {
	defer close(l.done)
	err := l.cmd.Wait()
	state := l.cmd.ProcessState
	switch {
	case state == nil:
		l.code = 127
	case state.Exited():
		l.code = state.ExitCode()
	default:
		l.code = 128
		if ws, ok := state.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
			l.code += int(ws.Signal())
		}
	}
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && l.code == 0 {
		l.code = 1 // a stream that we carried broke; the command itself went well
	}
}
