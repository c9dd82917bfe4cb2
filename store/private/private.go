// Package private starts a PostgreSQL of one's own: on loopback, on a free
// port, in a folder that nobody else reads, and ends it again. The server
// binaries are Debian's.
//
// A server belongs to who started it; a goroutine waits for its end.
package private

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// ErrInUse means that another server runs on the same folder.
var ErrInUse = errors.New("another Entelon uses this folder for its database; end it, or choose another folder with --data")

// ErrMissing means that PostgreSQL is not installed.
var ErrMissing = errors.New("PostgreSQL is not installed; install it with: apt-get install postgresql")

// Server is a PostgreSQL that runs until Stop.
type Server struct {
	Address string // for store.Open
	cmd     *exec.Cmd
	line    *os.File // what holds it: when this is closed, however that comes, it ends
	lock    *os.File
	done    chan struct{}
	log     string
	logged  int64  // length of the log before this start
	remove  string // folder to remove after it has ended
}

// Options choose how it is run.
type Options struct {
	Dir       string // data folder, made if it is not there
	Throwaway bool   // nothing in it needs to survive a crash
}

const userName = "entelon"

// Temporary starts a server whose data is gone when it stops, for tests.
func Temporary(ctx context.Context) (*Server, error) {
	dir, err := os.MkdirTemp("/var/tmp", "entelon-database-*") // a place that every user can reach
	if err != nil {
		return nil, fmt.Errorf("making the database's folder: %w", err)
	}
	s, err := Start(ctx, Options{Dir: dir, Throwaway: true})
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(dir))
	}
	s.remove = dir
	return s, nil
}

// Start starts the server, making its data folder if there is none.
func Start(ctx context.Context, o Options) (*Server, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	who, err := account()
	if err != nil {
		return nil, err
	}
	if err := prepare(o.Dir, who); err != nil {
		return nil, err
	}
	lock, err := hold(ctx, o.Dir)
	if err != nil {
		return nil, err
	}
	var s *Server
	for deadline := time.Now().Add(leftWithin); ; time.Sleep(200 * time.Millisecond) {
		if s, err = start(ctx, o, bin, who); err == nil {
			break
		}
		if !errors.Is(err, errLeft) || ctx.Err() != nil || time.Now().After(deadline) {
			return nil, errors.Join(err, lock.Close())
		}
	}
	s.lock = lock
	return s, nil
}

// errLeft means that something of an earlier server holds the data: one that was
// just being started when its keeper was told to end, and cannot be seen before it
// is there. It ends by itself, since the folder is ours.
var errLeft = errors.New("an earlier server has not ended yet")

// leftWithin is how long that is waited for.
const leftWithin = 30 * time.Second

// start starts the server in a folder that is held, where nothing of an earlier
// one can be left but what is ending.
func start(ctx context.Context, o Options, bin string, who *syscall.Credential) (*Server, error) {
	data := filepath.Join(o.Dir, "data")
	if err := clearLeft(ctx, data); err != nil {
		return nil, err
	}
	password, err := secret(filepath.Join(o.Dir, "password"), who)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		if err := initialise(ctx, bin, data, filepath.Join(o.Dir, "password"), who); err != nil {
			return nil, err
		}
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	s := &Server{done: make(chan struct{}), log: filepath.Join(o.Dir, "log")}
	u := url.URL{Scheme: "postgres", User: url.UserPassword(userName, password), Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(port)),
		Path: "/postgres", RawQuery: "sslmode=disable"}
	s.Address = u.String()
	if err := s.run(bin, data, port, o.Throwaway, who); err != nil {
		return nil, err
	}
	if err := s.await(ctx); err != nil {
		return nil, errors.Join(err, s.Stop())
	}
	return s, nil
}

// binaries finds the newest of Debian's servers.
func binaries() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if err != nil {
		return "", fmt.Errorf("looking for PostgreSQL: %w", err)
	}
	if len(found) == 0 {
		return "", ErrMissing
	}
	version := func(p string) int {
		n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(p)))) // an odd name sorts first
		return n
	}
	sort.Slice(found, func(i, j int) bool { return version(found[i]) < version(found[j]) })
	return filepath.Dir(found[len(found)-1]), nil
}

// account returns whom to run it as: PostgreSQL refuses to run as root.
func account() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("%w (there is no user postgres to run it as)", ErrMissing)
	}
	uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
	if err := errors.Join(err1, err2); err != nil {
		return nil, fmt.Errorf("looking up the user postgres: %w", err)
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

func own(path string, who *syscall.Credential) error {
	if who == nil {
		return nil
	}
	return os.Chown(path, int(who.Uid), int(who.Gid))
}

func prepare(dir string, who *syscall.Credential) error {
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return fmt.Errorf("making the database's folder: %w", err)
	}
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return fmt.Errorf("making the database's folder: %w", err)
	}
	if err := own(dir, who); err != nil {
		return fmt.Errorf("making the database's folder: %w", err)
	}
	return nil
}

// secret returns the password of the database, made at the first start.
func secret(path string, who *syscall.Credential) (string, error) {
	b, err := os.ReadFile(path)
	if err == nil && len(b) > 0 {
		return strings.TrimSpace(string(b)), nil
	}
	var raw [16]byte
	if _, err := rand.Read(raw[:]); err != nil {
		panic(err) // the standard library never lets this happen
	}
	s := hex.EncodeToString(raw[:])
	made := path + ".new"
	err = os.WriteFile(made, []byte(s), 0o600)
	if err == nil {
		err = own(made, who)
	}
	if err == nil {
		err = os.Rename(made, path)
	}
	if err != nil {
		return "", fmt.Errorf("making the database's password: %w", err)
	}
	return s, nil
}

// initialise makes the database, whole or not at all.
func initialise(ctx context.Context, bin, data, password string, who *syscall.Credential) error {
	made := data + ".new"
	if err := os.RemoveAll(made); err != nil {
		return fmt.Errorf("making the database: %w", err)
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", made, "-U", userName, "-E", "UTF8", "--locale=C.UTF-8",
		"--auth=scram-sha-256", "--pwfile="+password)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who, Setpgid: true}
	cmd.Dir = "/"
	if out, err := cmd.CombinedOutput(); err != nil {
		return errors.Join(fmt.Errorf("making the database: %w: %s", err, bytes.TrimSpace(out)), os.RemoveAll(made))
	}
	if err := os.Rename(made, data); err != nil {
		return fmt.Errorf("making the database: %w", err)
	}
	return nil
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fmt.Errorf("finding a free port: %w", err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	return port, l.Close()
}

// keeper starts a command again when it was killed, unless it ended at once,
// and ends it when its standard input is closed, or it is told to end. One that
// was killed may need a moment until what it left lets go of its memory. Whoever
// kills the keeper itself ends the command, too, by the kernel's hand. The command
// is told to end until it does: it is deaf while it begins.
const keeper = `
pid= ends= ran=
finish() {
	[ -n "$pid" ] && { while kill -INT "$pid" 2>/dev/null; do sleep 0.2; done; } </dev/null >/dev/null 2>&1 &
}
trap 'ends=1; finish' INT TERM
exec 3<&0 </dev/null
setpriv --pdeathsig KILL sh -c 'read -r line <&3; kill -TERM '$$ &
exec 3<&-
tries=0
while [ -z "$ends" ]; do
	began=$(date +%s)
	setpriv --pdeathsig INT "$@" & pid=$!
	[ -n "$ends" ] && finish
	wait "$pid"; code=$?
	while kill -0 "$pid" 2>/dev/null; do wait "$pid"; code=$?; done # a signal ends a wait, too
	pid=
	[ -n "$ends" ] && exit 0
	[ $code -gt 128 ] && ran=1
	[ $(($(date +%s) - began)) -ge 2 ] && ran=1 tries=0
	tries=$((tries + 1))
	[ -z "$ran" ] || [ $tries -gt 20 ] && exit 1
	echo "PostgreSQL ended and is started again"
	sleep 0.5
done
exit 0`

// run starts the server in a process group of its own, so that Ctrl-C reaches
// us alone. It ends when we do, however we do, since its keeper's input ends then.
func (s *Server) run(bin, data string, port int, throwaway bool, who *syscall.Credential) error {
	args := []string{"-D", data, "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
		"-c", "max_connections=60", "-c", "max_wal_size=512MB", "-c", "shared_buffers=128MB", "-c", "logging_collector=off", "-c", "log_min_messages=warning"}
	if throwaway {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	out, err := os.OpenFile(s.log, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("making the database's log: %w", err)
	}
	defer out.Close()
	if st, err := out.Stat(); err == nil {
		s.logged = st.Size()
	}
	// A shell of that user's keeps it running: the server may have given up the
	// right to start something as another user by the time it is needed again.
	s.cmd = exec.Command("/bin/sh", append([]string{"-c", keeper, "sh", filepath.Join(bin, "postgres")}, args...)...)
	s.cmd.Dir, s.cmd.Stdout, s.cmd.Stderr = "/", out, out
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who, Setpgid: true}
	s.cmd.Env = []string{"PATH=/usr/bin:/bin", "LANG=C.UTF-8"}
	ours, err := s.lifeline()
	if err != nil {
		return err
	}
	if err := s.cmd.Start(); err != nil {
		return errors.Join(fmt.Errorf("starting PostgreSQL: %w", err), ours.Close(), s.line.Close())
	}
	go func() {
		_ = s.cmd.Wait() // why it ended is in its log
		close(s.done)
	}()
	return ours.Close()
}

// lifeline makes the pipe whose other end is the keeper's input.
func (s *Server) lifeline() (theirs *os.File, err error) {
	if theirs, s.line, err = os.Pipe(); err != nil {
		return nil, fmt.Errorf("starting PostgreSQL: %w", err)
	}
	s.cmd.Stdin = theirs
	return theirs, nil
}

// answersWithin is how long the server may take until it answers, and recovery
// within how long one that was killed may take to put its data in order.
const (
	answersWithin  = 30 * time.Second
	recoversWithin = 30 * time.Minute
)

// await waits until it answers.
func (s *Server) await(ctx context.Context) error {
	began := time.Now()
	for {
		c, err := pgx.Connect(ctx, s.Address)
		if err == nil {
			return c.Close(ctx)
		}
		select {
		case <-s.done:
			b, _ := os.ReadFile(s.log) // without its log there is still the fact
			b = b[min(s.logged, int64(len(b))):]
			err := fmt.Errorf("PostgreSQL ended at once: %s", bytes.TrimSpace(b))
			if bytes.Contains(b, []byte("shared memory block")) || bytes.Contains(b, []byte("postmaster.pid")) {
				err = fmt.Errorf("%w: %w", errLeft, err)
			}
			return err
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(30 * time.Millisecond):
		}
		within := answersWithin
		var starting *pgconn.PgError
		if errors.As(err, &starting) && starting.Code == "57P03" { // it recovers
			within = recoversWithin
		}
		if time.Since(began) > within {
			return fmt.Errorf("PostgreSQL does not answer: %w", err)
		}
	}
}

// Done is closed when the server has ended and is not started again.
func (s *Server) Done() <-chan struct{} { return s.done }

// Stop ends the server, letting running work be broken off, and waits for it.
func (s *Server) Stop() error {
	err := s.line.Close()
	if errors.Is(err, os.ErrClosed) {
		err = nil
	}
	select {
	case <-s.done:
	case <-time.After(30 * time.Second):
		return errors.Join(err, fmt.Errorf("PostgreSQL (process %d) does not end", s.cmd.Process.Pid))
	}
	if s.lock != nil {
		err = errors.Join(err, s.lock.Close())
	}
	if s.remove != "" {
		err = errors.Join(err, os.RemoveAll(s.remove))
	}
	return err
}
