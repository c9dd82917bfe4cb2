package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"entelon/people"
	"entelon/sampler"
	"entelon/store"
)

// beside keeps processes running beside the server, and ends them with it.
type beside struct {
	log   *slog.Logger
	mu    sync.Mutex
	cmds  []*exec.Cmd
	ended bool
	// refused is called when a process ends because it will never do; may be nil.
	refused func()
	useless bool
	all     sync.WaitGroup
}

// againAfter is how long it waits before it starts a process again.
const againAfter = time.Second

// keep runs a command, again whenever it ends, until ctx does. nice is how far
// it stands back behind others, 0 for not at all. keep returns when the command
// was started for the first time, or could not be.
func (b *beside) keep(ctx context.Context, words, env []string, nice int) {
	started := make(chan struct{})
	defer func() { <-started }()
	begun := sync.OnceFunc(func() { close(started) })
	b.all.Go(func() {
		defer begun()
		// The death signal is tied to the thread that starts the process.
		runtime.LockOSThread()
		for ctx.Err() == nil {
			cmd := exec.Command(words[0], words[1:]...)
			cmd.Env, cmd.Stderr = append(os.Environ(), env...), os.Stderr
			cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true} // Ctrl-C is for the server
			b.mu.Lock()
			if b.ended {
				b.mu.Unlock()
				return
			}
			err := cmd.Start()
			if err == nil {
				b.cmds = append(b.cmds, cmd)
				if nice > 0 {
					if err := syscall.Setpriority(syscall.PRIO_PROCESS, cmd.Process.Pid, nice); err != nil {
						b.log.Warn("a process beside the server does not stand back behind others", "command", words[0], "error", err)
					}
				}
			}
			b.mu.Unlock()
			begun()
			if err == nil {
				err = cmd.Wait()
			}
			if ctx.Err() != nil || b.over() {
				return
			}
			if cmd.ProcessState != nil && cmd.ProcessState.ExitCode() == exitRefused {
				b.log.Error("a process beside the server was refused and is not started again", "command", words[0])
				b.mu.Lock()
				b.useless = true
				b.mu.Unlock()
				if b.refused != nil {
					b.refused()
				}
				return
			}
			b.log.Warn("a process beside the server ended and is started again", "command", words[0], "error", err)
			sleep(ctx, againAfter)
		}
	})
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
	b.ended = true
	cmds := b.cmds
	b.mu.Unlock()
	for _, c := range cmds {
		if err := c.Process.Signal(syscall.SIGTERM); err != nil && !errors.Is(err, os.ErrProcessDone) {
			b.log.Warn("a process beside the server could not be ended", "error", err)
		}
	}
	done := make(chan struct{})
	go func() { b.all.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(4 * time.Second):
		for _, c := range cmds {
			_ = c.Process.Kill() // it had its time; what it collected stays in its folder
		}
		<-done
	}
}

// startCollector starts the collector of this machine with a token of its own.
func (f serveFlags) startCollector(ctx context.Context, st *store.Store, b *beside, h http.Handler, at net.Addr, spool string) error {
	owner, err := st.FirstPerson(ctx)
	if err != nil {
		return err
	}
	name := "collector of " + sampler.Machine().Host
	known, err := st.Tokens(ctx, owner.ID)
	if err != nil {
		return err
	}
	for _, t := range known {
		if t.Name == name {
			if err := st.RemoveToken(ctx, owner.ID, t.ID); err != nil {
				return err
			}
		}
	}
	_, secret, err := st.AddToken(ctx, owner.ID, name, people.Collect)
	if err != nil {
		return err
	}
	address := at.String()
	if tcp, ok := at.(*net.TCPAddr); f.cert != "" || ok && !tcp.IP.IsLoopback() {
		// On this machine it needs neither the certificate nor the network.
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return fmt.Errorf("answering the collector: %w", err)
		}
		srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
		go func() { <-ctx.Done(); srv.Close() }()
		go func() {
			if err := srv.Serve(l); err != nil && !errors.Is(err, http.ErrServerClosed) {
				b.log.Error("the collector cannot reach the server", "error", err)
			}
		}()
		address = l.Addr().String()
	}
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("finding this program's own file: %w", err)
	}
	b.keep(ctx, []string{self, "collector", "--keep", "--to", "http://" + address, "--spool", spool}, []string{"ENTELON_TOKEN=" + secret}, 0)
	return dropRights(b.log) // what keeps the collector running has them still
}

// dropRights gives up what only the collector needs. Where the server has no
// such rights, nothing is left to give up.
func dropRights(log *slog.Logger) error {
	if os.Geteuid() != 0 {
		return nil
	}
	err := dropCapabilities()
	if errors.Is(err, syscall.ENOTSUP) {
		log.Warn("the server keeps the rights of sampling, since it was built with C code; build it with make")
		return nil
	}
	if err != nil && strings.Contains(err.Error(), "not permitted") {
		return nil // a container took them already
	}
	return err
}
