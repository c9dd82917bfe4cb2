package private

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// holdWait is how long another start waits for one that is just ending.
const holdWait = 10 * time.Second

// hold locks a data folder for as long as the file is open, so that a process
// that is killed lets it go. No other process inherits it.
func hold(ctx context.Context, dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, fmt.Errorf("locking the database's folder: %w", err)
	}
	for deadline := time.Now().Add(holdWait); ; {
		err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if err == nil {
			return f, nil
		}
		if !errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, errors.Join(fmt.Errorf("locking the database's folder: %w", err), f.Close())
		}
		if time.Now().After(deadline) {
			return nil, errors.Join(fmt.Errorf("%s: %w", dir, ErrInUse), f.Close())
		}
		select {
		case <-ctx.Done():
			return nil, errors.Join(ctx.Err(), f.Close())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// What an earlier server left gets time to end by itself, then a signal to break
// off, then none.
const (
	endsByItself = 8 * time.Second
	breaksOff    = 5 * time.Second
)

// clearLeft waits for processes of an earlier PostgreSQL in a data folder that is
// held by us: nobody needs them, but they have its files and memory. They run in
// that very folder, by which they are found.
func clearLeft(ctx context.Context, data string) error {
	began := time.Now()
	for signalled := false; ; {
		left := inFolder(data)
		if len(left) == 0 {
			return nil
		}
		waited := time.Since(began)
		sig := syscall.Signal(0)
		switch {
		case waited > endsByItself+breaksOff:
			sig = syscall.SIGKILL
		case waited > endsByItself && !signalled:
			sig, signalled = syscall.SIGQUIT, true
		}
		if sig != 0 {
			for _, pid := range left {
				if err := syscall.Kill(pid, sig); err != nil && !errors.Is(err, syscall.ESRCH) {
					return fmt.Errorf("ending process %d, which an earlier server left: %w", pid, err)
				}
			}
		}
		if waited > endsByItself+2*breaksOff {
			return fmt.Errorf("processes of an earlier PostgreSQL do not end: %v", left)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// inFolder returns the PostgreSQL processes that run in a data folder. One that
// has ended and was not waited for has no folder any more.
func inFolder(data string) (out []int) {
	real, err := filepath.EvalSymlinks(data)
	if err != nil {
		return nil // there is none yet
	}
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		if dir, err := os.Readlink(filepath.Join("/proc", e.Name(), "cwd")); err != nil || dir != real {
			continue
		}
		if exe, err := os.Readlink(filepath.Join("/proc", e.Name(), "exe")); err == nil && strings.HasPrefix(filepath.Base(exe), "postgres") {
			out = append(out, pid)
		}
	}
	return out
}

// ErrNotRunning means that no server runs in a folder.
var ErrNotRunning = errors.New("no server runs with this folder")

// Running returns the address of the database of a server that runs with a
// folder, for who may read its password.
func Running(dir string) (address string, err error) {
	password, err := os.ReadFile(filepath.Join(dir, "password"))
	if err != nil {
		return "", fmt.Errorf("reading the database's password: %w", err)
	}
	f, err := os.Open(filepath.Join(dir, "data", "postmaster.pid"))
	if errors.Is(err, os.ErrNotExist) {
		return "", fmt.Errorf("%s: %w", dir, ErrNotRunning)
	} else if err != nil {
		return "", fmt.Errorf("looking for the database: %w", err)
	}
	defer f.Close()
	var lines []string // process, folder, start, port …
	for s := bufio.NewScanner(f); s.Scan() && len(lines) < 4; {
		lines = append(lines, s.Text())
	}
	if len(lines) < 4 {
		return "", fmt.Errorf("%s: %w", dir, ErrNotRunning)
	}
	u := url.URL{Scheme: "postgres", User: url.UserPassword(userName, strings.TrimSpace(string(password))), Host: net.JoinHostPort("127.0.0.1", lines[3]),
		Path: "/postgres", RawQuery: "sslmode=disable"}
	return u.String(), nil
}
