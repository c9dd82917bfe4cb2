package session

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"entelon/capture"
	"entelon/capture/launch"
	"entelon/codec/take"
	"entelon/codec/takefile"
	"entelon/core/profile"
	"entelon/exact"
	"entelon/symbol"
)

// A collector makes an exact take by a process of its own, which is this program once more, with
// apartWord as its only argument. It runs as the user that the command runs as, so that whatever
// the command does to its counts, or says of which files it has, is read with that user's rights
// alone. It writes the take to its standard output, where it is checked like any that somebody
// sends; of who made it, with which settings, the collector believes itself.
const apartWord = "__exact"

// init is that process, before anything else of this program, whichever program that is.
func init() {
	if len(os.Args) == 2 && os.Args[1] == apartWord {
		os.Exit(serveApart(os.Stdin, os.Stdout, os.Stderr))
	}
}

// order is what that process is told on its standard input.
type order struct {
	Settings  profile.Settings
	DebugDirs []string
	For       time.Duration
}

// Times that a command, and the process that runs it, have to end once they are asked to.
const (
	endsWithin  = 3 * time.Second
	tellsWithin = 2 * time.Minute
)

// serveApart makes the take that is ordered, and writes why where it could not be made.
func serveApart(in io.Reader, out, errs io.Writer) int {
	var o order
	err := json.NewDecoder(in).Decode(&o)
	if err == nil {
		err = o.make(out)
	}
	if err != nil {
		fmt.Fprintln(errs, strings.ReplaceAll(err.Error(), "\n", "; "))
		return 1
	}
	return 0
}

func (o *order) make(out io.Writer) error {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, syscall.SIGINT)
	defer stop()
	if o.For > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, o.For, context.DeadlineExceeded)
		defer cancel()
	}
	folder, err := os.MkdirTemp("", "entelon-exact-take-*")
	if err != nil {
		return fmt.Errorf("making a folder for the take: %w", err)
	}
	defer os.RemoveAll(folder)
	sink := &takefile.File{Path: filepath.Join(folder, "run.take")}
	_, err = Make(ctx, Options{
		Settings: o.Settings, Finder: &symbol.Finder{Dirs: o.DebugDirs}, Apart: true,
		Started: func(signal func(int)) {
			context.AfterFunc(ctx, func() {
				signal(int(syscall.SIGTERM))
				time.AfterFunc(endsWithin, func() { signal(int(syscall.SIGKILL)) })
			})
		},
	}, sink)
	if err != nil {
		return errors.Join(err, sink.Discard())
	}
	if err := sink.Close(nil); err != nil {
		return err
	}
	f, err := os.Open(sink.Path)
	if err == nil {
		defer f.Close()
		_, err = io.Copy(out, f)
	}
	if err != nil {
		return fmt.Errorf("handing on the take: %w", err)
	}
	return nil
}

// Apart makes an exact take in a process of its own, as a collector does: with the command's user
// and the environment of a login. limits bound what is read of the take. Where ctx ends, the
// command is ended, and what it had done until then is the take.
func Apart(ctx context.Context, set profile.Settings, finder *symbol.Finder, limits take.Limits) (*profile.Take, error) {
	lo := launch.Options{Settings: set, Clean: true}
	env, err := launch.Environment(lo)
	if err != nil {
		return nil, err
	}
	self, err := os.Open("/proc/self/exe") // by its open file, since the user may not reach its folder
	if err != nil {
		return nil, fmt.Errorf("finding this program's own file: %w", err)
	}
	defer self.Close()
	const selfAt = 3
	set.Dir = launch.Folder(lo)
	if st, err := os.Stat(set.Dir); err != nil || !st.IsDir() {
		return nil, fmt.Errorf("%s: %w", set.Dir, launch.ErrNoDir)
	}
	o := order{Settings: set, For: time.Duration(set.ForNS)}
	if finder != nil {
		o.DebugDirs = finder.Dirs
	}
	b, err := json.Marshal(o)
	if err != nil {
		return nil, fmt.Errorf("telling what is to be run: %w", err)
	}
	var said bounded
	cmd := &exec.Cmd{
		Path: fmt.Sprintf("/proc/self/fd/%d", selfAt), Args: []string{"entelon", apartWord}, Dir: set.Dir, Env: env,
		Stdin: bytes.NewReader(b), Stderr: &said, ExtraFiles: []*os.File{self}, WaitDelay: time.Second,
		SysProcAttr: &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGTERM},
	}
	if set.User != "" {
		if cmd.SysProcAttr.Credential, err = launch.Credential(set.User); err != nil {
			return nil, err
		}
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, fmt.Errorf("starting the exact run: %w", err)
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting the exact run: %w", err)
	}
	stopped := context.AfterFunc(ctx, func() {
		_ = cmd.Process.Signal(syscall.SIGTERM) // it may have ended
		time.AfterFunc(tellsWithin, func() { _ = cmd.Process.Kill() })
	})
	defer stopped()
	t, bad := readApart(out, set, limits)
	if bad != nil {
		_, _ = io.Copy(io.Discard, out) // so that it can say why
	}
	if err := cmd.Wait(); err != nil {
		if why := strings.TrimSpace(said.String()); why != "" {
			return nil, errors.New(why)
		}
		return nil, fmt.Errorf("the exact run: %w", err)
	}
	return t, bad
}

// readApart reads a take that another user may have written, and says itself what it was to be.
func readApart(from io.Reader, set profile.Settings, limits take.Limits) (*profile.Take, error) {
	t, err := take.Read(bufio.NewReader(from), "the exact run's take", take.Options{Limits: limits})
	if err != nil {
		return nil, err
	}
	if t.Facts.Exact == nil {
		return nil, errors.New("the exact run's take is not one of an exact run")
	}
	for _, name := range []string{t.Settings.Program, t.Settings.Build} {
		if err := profile.CheckName(name); err != nil {
			return nil, fmt.Errorf("the exact run's take: %w", err)
		}
	}
	exact.Settle(&set)
	set.Program, set.Build, set.Exact, set.Measures = t.Settings.Program, t.Settings.Build, true, []string{}
	began := t.Machine.StartedAt
	t.Settings, t.Machine = set, capture.Machine()
	t.Machine.StartedAt = began
	return t, nil
}

// bounded keeps the first of what is written.
type bounded struct{ b []byte }

const maxSaid = 4 << 10

func (x *bounded) Write(b []byte) (int, error) {
	x.b = append(x.b, b[:min(len(b), maxSaid-len(x.b))]...)
	return len(b), nil
}

func (x *bounded) String() string { return strings.ToValidUTF8(string(x.b), "") }
