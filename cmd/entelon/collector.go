package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/signal"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"entelon/collector/identity"
	"entelon/collector/rights"
	"entelon/server/api"
	"entelon/symbol"
)

func collectorCommand() *cobra.Command {
	var to, state, allowed string
	var again, tied bool
	var symbols symbolFlags
	var logs logFlags
	c := &cobra.Command{
		Use:   "collector",
		Short: "Collect on this machine for a server",
		Long: `Makes the takes on this machine that people ask a server for. It asks the server
for work, so that nothing has to reach this machine, and it is the only part that
needs the rights of sampling. Takes are kept in a folder until the server has
them: what was collected outlives a server, a database and a collector that ends.

A collector is enrolled once, with a link. What it may do on this machine is said
by the machine's owner, in ` + rights.Place + `; without that file commands run
as nobody, and never as root. docs/security.md has its form.`,
		Example: `  entelon collector enrol https://perf.shop.example:7420/enrol/…
  entelon collector
  entelon collector --state /srv/entelon-collector --keep`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			if tied {
				ctx = untilClosed(ctx, os.Stdin)
			}
			if again {
				return keepCollecting(ctx, &logs)
			}
			allow, err := rights.Read(allowed)
			if err != nil {
				return err
			}
			finder, err := symbols.finder()
			if err != nil {
				return err
			}
			folder, err := identity.Open(state, lockWait)
			if err != nil {
				return err
			}
			defer folder.Close()
			who, err := folder.Load()
			if err != nil {
				return err
			}
			if to == "" {
				to = who[0].Server
			}
			base, err := serverAddress("--to", to)
			if err != nil {
				return err
			}
			log, err := logs.logger(os.Stderr)
			if err != nil {
				return err
			}
			if err := keepSamplingRights(log, allow.AsRoot()); err != nil {
				return err
			}
			w := &collector{
				server: &serverClient{base: base, folder: folder, who: who, client: &http.Client{Timeout: time.Minute}},
				spool:  folder.Spool(), allow: allow, finder: finder, log: log,
			}
			return w.run(ctx)
		},
	}
	c.PersistentFlags().StringVar(&state, "state", collectorDir(), "the `FOLDER` of this collector's key and of what it has still to deliver")
	c.Flags().StringVar(&to, "to", "", "the server's `URL` (default: where it was enrolled)")
	c.Flags().StringVar(&allowed, "rights", rights.UsualPlace(), "the `FILE` that says what this machine allows")
	c.Flags().BoolVar(&again, "keep", false, "start the collector again whenever it ends by itself")
	c.Flags().BoolVar(&tied, "until-closed", false, "end when standard input is closed")
	_ = c.Flags().MarkHidden("until-closed")
	symbols.add(c)
	logs.add(c)
	_ = c.MarkPersistentFlagDirname("state")
	_ = c.MarkFlagFilename("rights")
	c.AddCommand(enrolCommand(&state))
	return c
}

// lockWait is how long a collector waits for one before it that is just ending.
const lockWait = 10 * time.Second

// collectorDir is where a collector keeps its key and its spool by default.
func collectorDir() string { return dataDir() + "-collector" }

// untilClosed ends a context when a file is closed at its other end, whoever
// holds that and however it dies.
func untilClosed(ctx context.Context, f io.Reader) context.Context {
	ctx, end := context.WithCancel(ctx)
	go func() {
		_, _ = io.Copy(io.Discard, f) // an error is an end, too
		end()
	}()
	return ctx
}

// keepCollecting runs this very command as another process, and again whenever
// that ends.
func keepCollecting(ctx context.Context, logs *logFlags) error {
	log, err := logs.logger(os.Stderr)
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("finding this program's own file: %w", err)
	}
	args := []string{self}
	for _, a := range os.Args[1:] {
		if a != "--keep" && a != "--keep=true" && a != "--until-closed" {
			args = append(args, a)
		}
	}
	ctx, end := context.WithCancel(ctx)
	defer end()
	b := &beside{refused: end, log: log}
	b.keep(ctx, process{words: args})
	<-ctx.Done()
	b.end()
	if b.wasRefused() {
		return exitCode(exitRefused)
	}
	return nil
}

// collector makes takes for a server.
type collector struct {
	server *serverClient
	spool  string
	allow  *rights.Rights
	finder *symbol.Finder
	log    *slog.Logger
	jobs   sync.WaitGroup
	ending context.Context // done when the collector shall end
	mu     sync.Mutex
	active map[string]bool // jobs that it works on
}

func (w *collector) begin(id string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.active == nil {
		w.active = map[string]bool{}
	}
	w.active[id] = true
}

func (w *collector) done(id string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.active, id)
}

// doing are the jobs that it works on, so that the server sees which got lost.
func (w *collector) doing() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	out := make([]string, 0, len(w.active))
	for id := range w.active {
		out = append(out, id)
	}
	return out
}

// exitRefused is the exit code of a collector whose key the server does not
// know. Starting it again would change nothing.
const exitRefused = 3

// retryAfter is how long it waits where the server does not answer.
const retryAfter = time.Second

func (w *collector) run(ctx context.Context) error {
	w.ending = ctx
	w.leftOver()
	report := machineReport()
	report.Allows = w.allow.Sentences()
	quiet := false
	for ctx.Err() == nil {
		var next api.NextJobOut
		err := w.server.post(ctx, "collector/next", api.CollectorIn{Report: report, Doing: w.doing()}, &next)
		var refused refusal
		switch {
		case ctx.Err() != nil:
		case errors.As(err, &refused) && (refused.status == http.StatusUnauthorized || refused.status == http.StatusForbidden):
			w.jobs.Wait()
			w.log.Error("the server does not let this collector in", "error", err)
			return exitCode(exitRefused)
		case err != nil:
			if !quiet {
				w.log.Warn("the server does not answer; trying again", "error", err)
			}
			quiet = true
			sleep(ctx, retryAfter)
		case next.Job != nil:
			w.begin(next.Job.ID)
			w.jobs.Go(func() {
				defer w.done(next.Job.ID)
				w.do(ctx, next.Job)
			})
			quiet = false
		default:
			quiet = false
		}
	}
	w.jobs.Wait() // takes that are being made end with what they have
	return nil
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
