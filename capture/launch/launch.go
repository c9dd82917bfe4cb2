// Package launch starts commands so that their events are in place before their first
// instruction, with the environment, folder and user that they are to have.
//
// A Command belongs to the goroutine that started it; Done and Code may be read by
// others once Done is closed.
package launch

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"

	"entelon/linux/perf"
	"entelon/runtimes"
)

// Command is one that waits to begin, or runs.
type Command struct {
	Cmd    *exec.Cmd
	Path   string
	goes   *os.File
	errs   *os.File
	Done   chan struct{}
	Code   int
	Signal string // that ended it, such as SIGSEGV; "" where it ended by itself
	Set    string // what was set for its runtime
	Log    string // a file that this makes it write
}

// Start finds the command and starts its launcher.
func Start(o Options) (*Command, error) {
	s := o.Settings
	s.Dir = Folder(o)
	if s.Dir != "" {
		if st, err := os.Stat(s.Dir); err != nil || !st.IsDir() {
			return nil, fmt.Errorf("%s: %w", s.Dir, ErrNoDir)
		}
	}
	env, err := Environment(o)
	if err != nil {
		return nil, err
	}
	path, err := findCommand(s.Command[0], s.Dir, variable(env, "PATH"))
	if err != nil {
		return nil, err
	}
	self, err := openLauncher()
	if err != nil {
		return nil, err
	}
	defer self.Close()
	goRead, goWrite, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("preparing the launch: %w", err)
	}
	errRead, errWrite, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(fmt.Errorf("preparing the launch: %w", err), goRead.Close(), goWrite.Close())
	}
	plan := runtimes.Prepared{Path: path, Args: s.Command}
	log := filepath.Join(os.TempDir(), fmt.Sprintf("entelon-%d-%d.log", os.Getpid(), perf.Now()))
	if !s.AsIs {
		plan = runtimes.Prepare(path, s.Command, log)
	}
	l := &Command{Path: path, Set: plan.Set, Log: log, goes: goWrite, errs: errRead, Done: make(chan struct{})}
	l.Cmd = &exec.Cmd{
		// By its open file, since the command's user may not reach its folder.
		Path: fmt.Sprintf("/proc/self/fd/%d", launchSelf), Args: append([]string{"entelon", launchWord, plan.Path}, plan.Args...),
		Dir: s.Dir, Env: env,
		Stdin: o.Stdin, Stdout: o.Stdout, Stderr: o.Stderr,
		ExtraFiles:  []*os.File{goRead, errWrite, self},
		SysProcAttr: &syscall.SysProcAttr{Setsid: o.Clean}, // no terminal of this process's is the command's
	}
	if s.User != "" {
		if l.Cmd.SysProcAttr.Credential, err = Credential(s.User); err != nil {
			return nil, errors.Join(err, goRead.Close(), goWrite.Close(), errRead.Close(), errWrite.Close())
		}
	}
	if o.Tied {
		l.Cmd.SysProcAttr.Pdeathsig = syscall.SIGTERM
	}
	err = l.Cmd.Start()
	goRead.Close()
	errWrite.Close()
	if err != nil {
		if s.User != "" && errors.Is(err, fs.ErrPermission) {
			err = fmt.Errorf("%s may not enter %s: %w", s.User, s.Dir, ErrNoDir)
		} else {
			err = fmt.Errorf("starting the launcher: %w", err)
		}
		return nil, errors.Join(err, goWrite.Close(), errRead.Close())
	}
	return l, nil
}

// Credential has a command run as a user, in all their groups.
func Credential(name string) (*syscall.Credential, error) {
	u, err := lookUp(name)
	if err != nil {
		return nil, err
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
	return c, nil
}

// Begin lets the launcher become the command.
func (l *Command) Begin() error {
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
		<-l.Done
		return fmt.Errorf("%s: %w (%w)", l.Path, ErrNoCommand, whyNot(why))
	}
	return nil
}

// Abandon ends a launcher that shall not become the command.
func (l *Command) Abandon() error {
	err := errors.Join(l.goes.Close(), l.errs.Close())
	_ = l.Cmd.Wait() // it ends with 127, which says nothing new
	return err
}

func (l *Command) wait() {
	defer close(l.Done)
	err := l.Cmd.Wait()
	state := l.Cmd.ProcessState
	switch {
	case state == nil:
		l.Code = 127
	case state.Exited():
		l.Code = state.ExitCode()
	default:
		l.Code = 128
		if ws, ok := state.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
			l.Code += int(ws.Signal())
			l.Signal = unix.SignalName(ws.Signal())
		}
	}
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && l.Code == 0 {
		l.Code = 1 // a stream that we carried broke; the command itself went well
	}
}
