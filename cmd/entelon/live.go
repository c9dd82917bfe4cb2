package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"entelon/sampler"
	"entelon/server"
	"entelon/store"
)

const liveFor = 6 * time.Second

// live makes takes of one given command when the page asks for it. The command
// comes from the command line of the server, never from a request.
type live struct {
	store   *store.Store
	command []string
	denied  error

	mu      sync.Mutex
	cancel  context.CancelFunc
	done    chan struct{}
	started time.Time
	state   server.LiveState
}

func newLive(st *store.Store, command []string) *live {
	l := &live{store: st, command: command, denied: sampler.Allowed()}
	l.state = server.LiveState{Offered: l.denied == nil, Program: programName(command), Seconds: liveFor.Seconds()}
	if l.denied != nil {
		l.state.Why = oneLine(l.denied)
	}
	return l
}

// programName is the base name without the build: engraved-3.5.0 is engraved.
func programName(command []string) string {
	name, _, _ := strings.Cut(filepath.Base(command[0]), "-")
	return name
}

func buildName(command []string) string {
	_, build, ok := strings.Cut(filepath.Base(command[0]), "-")
	if !ok {
		return ""
	}
	return build
}

func (l *live) State() server.LiveState {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.state
	if s.Running {
		s.Elapsed = time.Since(l.started).Seconds()
		s.StartedAt = l.started.UTC().Format(time.RFC3339)
	}
	return s
}

func (l *live) Start() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.denied != nil {
		return errors.New(oneLine(l.denied))
	}
	if l.state.Running {
		return errors.New("a live take is running already; wait for it to end")
	}
	ctx, cancel := context.WithCancel(context.Background())
	l.cancel, l.done, l.started = cancel, make(chan struct{}), time.Now()
	l.state.Running, l.state.Take, l.state.Error = true, "", ""
	go l.run(ctx, l.done)
	return nil
}

// Stop ends the take that is running and waits until it is kept.
func (l *live) Stop() {
	l.mu.Lock()
	running, cancel, done := l.state.Running, l.cancel, l.done
	l.mu.Unlock()
	if running {
		cancel()
		<-done
	}
}

func (l *live) run(ctx context.Context, done chan struct{}) {
	defer close(done)
	key, err := l.take(ctx)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.state.Running, l.state.Take = false, key
	if err != nil {
		l.state.Error = oneLine(err)
	}
}

func (l *live) take(ctx context.Context) (key string, err error) {
	dir, err := os.MkdirTemp("", "entelon-live-*")
	if err != nil {
		return "", fmt.Errorf("preparing a live take: %w", err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	self, err := os.Executable()
	if err != nil {
		return "", fmt.Errorf("finding this program's own file: %w", err)
	}
	file := filepath.Join(dir, "live.take")
	args := []string{"take", "--out", file, "--for", liveFor.String(), "--program", programName(l.command), "--note", "live, from the page"}
	if b := buildName(l.command); b != "" {
		args = append(args, "--build", b)
	}
	args = append(append(args, "--"), l.command...)
	var says bytes.Buffer
	cmd := exec.Command(self, args...)
	cmd.Stderr = &says
	// Should the server be killed, the take and its program end too. The death
	// signal is tied to the thread that starts the process.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	if err := cmd.Start(); err != nil {
		return "", fmt.Errorf("starting a live take: %w", err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	// When the time is over the command itself, a service, would go on.
	over, cancel := context.WithTimeout(ctx, liveFor+500*time.Millisecond)
	defer cancel()
	select {
	case err = <-ended:
	case <-over.Done():
		if err := cmd.Process.Signal(syscall.SIGTERM); err != nil && !errors.Is(err, os.ErrProcessDone) {
			return "", fmt.Errorf("ending the live take: %w", err)
		}
		err = <-ended
	}
	f, openErr := os.Open(file)
	if openErr != nil {
		return "", errors.Join(fmt.Errorf("the live take was not made: %s", strings.TrimSpace(says.String())), err)
	}
	defer f.Close()
	t, _, err := l.store.Add(context.WithoutCancel(ctx), f, "the live take", 1<<30)
	if err != nil {
		return "", err
	}
	return t.Key, nil
}
