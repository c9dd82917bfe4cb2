package capture

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"entelon/capture/launch"
	"entelon/capture/rings"
	"entelon/core/profile"
	"entelon/linux/cgroup"
	"entelon/linux/procfs"
)

// subject is what is sampled: a command, which is launched, processes that
// run, a control group, or the whole machine.
type subject struct {
	command *launch.Command // nil where a process was attached to
	exe     string          // of the command, or the first process
	pids    []int           // that are attached to, or the command's
	group   *os.File        // the folder of a control group, nil where none is sampled
}

// find finds it, or launches it, and completes the settings.
func (s *subject) find(o *Options) (err error) {
	set := &o.Settings
	switch {
	case set.Machine:
	case set.Group != "":
		if s.group, set.Group, err = cgroup.Open(set.Group); err != nil {
			return err
		}
	case set.PID != 0 || len(set.PIDs) > 0:
		s.pids = set.PIDs
		if len(s.pids) == 0 {
			s.pids = []int{set.PID}
		}
		set.PID = s.pids[0]
		if len(s.pids) == 1 {
			set.PIDs = nil
		}
		for i, pid := range s.pids {
			exe, err := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid))
			if err != nil {
				return procfs.Refusal(pid, err)
			}
			if i == 0 {
				s.exe = exe
			}
		}
	default:
		if s.command, err = launch.Start(o.Launching()); err != nil {
			return err
		}
		s.pids = []int{s.command.Cmd.Process.Pid}
		s.exe = s.command.Path
		if s.command.Set != "" && o.Notice != nil {
			o.Notice(s.command.Set)
		}
	}
	return nil
}

// close lets go of the control group.
func (s *subject) close() error {
	if s.group == nil {
		return nil
	}
	return s.group.Close()
}

// text names it, for an error.
func (s *subject) text(set profile.Settings) string {
	switch {
	case set.Machine:
		return "the whole machine"
	case set.Group != "":
		return "the control group " + set.Group
	case len(s.pids) == 1:
		return fmt.Sprintf("process %d", s.pids[0])
	}
	return fmt.Sprintf("processes %s", strings.Trim(fmt.Sprint(s.pids), "[]"))
}

// open opens the events of a target on it; kernel says that the kernel's part is sampled.
func (s *subject) open(t *rings.Target, set profile.Settings, kernel bool) error {
	switch {
	case set.Machine:
		return t.Add(rings.Everyone, 0, false)
	case set.Group != "":
		return t.Add(int(s.group.Fd()), rings.InGroup, false)
	case s.command != nil:
		// Only the kernel program needs to know at once what was mapped.
		if err := t.Add(s.pids[0], 0, false); err != nil || t.Other == nil {
			return err
		}
		return t.Watch(s.pids[0], kernel)
	}
	for _, pid := range s.pids {
		if err := t.Attach(pid); err != nil {
			return err
		}
	}
	return nil
}

// ended returns a channel that is closed when all that are sampled have ended.
// A machine or a control group does not end.
func (s *subject) ended() <-chan struct{} {
	if s.command != nil {
		return s.command.Done
	}
	done := make(chan struct{})
	if len(s.pids) == 0 {
		return done
	}
	var all sync.WaitGroup
	for _, pid := range s.pids {
		fd, err := unix.PidfdOpen(pid, 0)
		if err != nil {
			continue // it has ended since it was attached to
		}
		all.Go(func() {
			defer unix.Close(fd)
			for {
				_, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, -1)
				if !errors.Is(err, unix.EINTR) {
					return
				}
			}
		})
	}
	go func() { all.Wait(); close(done) }()
	return done
}
