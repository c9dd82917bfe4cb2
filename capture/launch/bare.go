package launch

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"syscall"
	"time"

	"entelon/core/profile"
)

// Bare runs the command once without sampling it. What it prints on standard
// output is dropped, since the sampled run prints it again, and its standard input
// is empty, since it can be read only once. Cancelling ctx ends it.
func Bare(ctx context.Context, o Options) (*profile.Bare, error) {
	s := o.Settings
	env, err := Environment(o)
	if err != nil {
		return nil, err
	}
	path, err := findCommand(s.Command[0], Folder(o), variable(env, "PATH"))
	if err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, path, s.Command[1:]...)
	cmd.Args[0] = s.Command[0]
	cmd.Dir, cmd.Env, cmd.Stderr = Folder(o), env, o.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: o.Clean}
	if s.User != "" {
		if cmd.SysProcAttr.Credential, err = Credential(s.User); err != nil {
			return nil, err
		}
	}
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 2 * time.Second
	begin := time.Now()
	err = cmd.Run()
	took := time.Since(begin)
	if ctx.Err() != nil {
		return nil, errors.New("it was stopped while it ran without sampling")
	}
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return nil, fmt.Errorf("running it without sampling first: %w", err)
	}
	st := cmd.ProcessState
	return &profile.Bare{DurationNS: took.Nanoseconds(), CPUNS: (st.UserTime() + st.SystemTime()).Nanoseconds(), ExitCode: st.ExitCode()}, nil
}
