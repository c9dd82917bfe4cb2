package serving

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// process is what is kept running beside another.
type process struct {
	words []string // the command
	nice  int      // how far it stands back behind others, 0 for not at all
	// byInput: it ends when its standard input is closed, which needs no right to
	// send it signals, and happens however this process dies.
	byInput bool
	// file is the command's open file, for who may not reach its folder any more by
	// the time it is started; nil: it is found by its name.
	file *os.File
}

// opened is a process whose command is found and opened now.
func opened(words []string, nice int) (process, error) {
	path, err := exec.LookPath(words[0])
	if err != nil {
		return process{}, err
	}
	f, err := os.Open(path)
	return process{words: words, nice: nice, file: f}, err
}

// kept is a process that was started.
type kept struct {
	process
	cmd  *exec.Cmd
	line io.Closer // nil, or what ends it when it is closed
}

func (k *kept) end() error {
	if k.line != nil {
		return k.line.Close()
	}
	err := k.cmd.Process.Signal(syscall.SIGTERM)
	if errors.Is(err, os.ErrProcessDone) {
		return nil
	}
	return err
}

// beside keeps processes running beside the server, and ends them with it.
type beside struct {
	log   *slog.Logger
	mu    sync.Mutex
	all   []*kept
	ended bool
	// refused is called when a process ends because it will never do; may be nil.
	refused func()
	useless bool
	running sync.WaitGroup
}

// againAfter is how long it waits before it starts a process again.
const againAfter = time.Second

// endWithin is how long processes have to end by themselves.
const endWithin = 6 * time.Second

// keep runs a command, again whenever it ends, until ctx does. It returns when
// the command was started for the first time, or could not be.
func (b *beside) keep(ctx context.Context, p process) {
	started := make(chan struct{})
	defer func() { <-started }()
	begun := sync.OnceFunc(func() { close(started) })
	b.running.Go(func() {
		defer begun()
		// The death signal is tied to the thread that starts the process.
		runtime.LockOSThread()
		for ctx.Err() == nil {
			k, err := b.start(p)
			if k == nil && err == nil {
				return // all are ending
			}
			begun()
			if err == nil {
				err = k.cmd.Wait()
			}
			if ctx.Err() != nil || b.over() {
				return
			}
			if k != nil && k.cmd.ProcessState.ExitCode() == ExitRefused {
				b.giveUp(p)
				return
			}
			b.log.Warn("a helper process of the server ended and is being restarted", "command", p.words[0], "error", err)
			sleep(ctx, againAfter)
		}
	})
}

// start starts a process; nil and no error where all are to end.
func (b *beside) start(p process) (*kept, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.ended {
		return nil, nil
	}
	k := &kept{process: p, cmd: exec.Command(p.words[0], p.words[1:]...)}
	// Nothing of Entelon's own is for others to see.
	k.cmd.Env = slices.DeleteFunc(os.Environ(), func(kv string) bool { return strings.HasPrefix(kv, "ENTELON_") })
	k.cmd.Stderr = os.Stderr
	k.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true} // Ctrl-C is for the server
	if p.file != nil {
		k.cmd.Path, k.cmd.Err = "/proc/self/fd/3", nil
		k.cmd.ExtraFiles = []*os.File{p.file}
	}
	if p.byInput {
		line, err := k.cmd.StdinPipe()
		if err != nil {
			return nil, err
		}
		k.line = line
	}
	if err := k.cmd.Start(); err != nil {
		return nil, err
	}
	b.all = append(b.all, k)
	if p.nice > 0 {
		if err := syscall.Setpriority(syscall.PRIO_PROCESS, k.cmd.Process.Pid, p.nice); err != nil {
			b.log.Warn("the priority of a helper process could not be lowered", "command", p.words[0], "error", err)
		}
	}
	return k, nil
}

// giveUp notes that a process will never do.
func (b *beside) giveUp(p process) {
	b.log.Error("a process beside the server was refused and is not started again", "command", p.words[0])
	b.mu.Lock()
	b.useless = true
	b.mu.Unlock()
	if b.refused != nil {
		b.refused()
	}
}

func (b *beside) wasRefused() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.useless
}

func (b *beside) over() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.ended
}

// end ends all of them and waits for a while.
func (b *beside) end() {
	b.mu.Lock()
	already := b.ended
	b.ended = true
	all := b.all
	b.mu.Unlock()
	if already {
		return
	}
	for _, k := range all {
		if err := k.end(); err != nil && !errors.Is(err, os.ErrClosed) {
			b.log.Warn("a helper process could not be told to stop", "command", k.words[0], "error", err)
		}
	}
	done := make(chan struct{})
	go func() { b.running.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(endWithin):
		for _, k := range all {
			_ = k.cmd.Process.Kill() // it had its time, and what it collected stays in its folder; it may be another user's
		}
		select {
		case <-done:
		case <-time.After(time.Second):
			b.log.Warn("a helper process is still finishing its work")
		}
	}
}

// sleep waits for a while, or until ctx is cancelled.
func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
