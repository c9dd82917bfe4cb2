package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"entelon/sampler"
	"entelon/server"
	"entelon/symbol"
)

func collectorCommand() *cobra.Command {
	var to, token, name, spool string
	var again bool
	var symbols symbolFlags
	c := &cobra.Command{
		Use:   "collector --to URL",
		Short: "Collect on this machine for a server",
		Long: `Makes the takes on this machine that people ask a server for. It asks the server
for work, so that nothing has to reach this machine, and it is the only part that
needs the rights of sampling. Takes are kept in a folder until the server has
them: what was collected outlives a server, a database and a collector that ends.`,
		Example: `  ENTELON_TOKEN=… entelon collector --to https://perf.shop.example:7420
  entelon collector --to http://127.0.0.1:7420 --name press-2 --spool /var/spool/entelon`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			base, err := url.Parse(to)
			if err != nil || base.Host == "" || (base.Scheme != "http" && base.Scheme != "https") {
				return fmt.Errorf("--to %q is not the address of a server; write it as http://HOST:PORT", to)
			}
			if token == "" {
				return errors.New("a collector needs a token with the role collect; make one on the page, under You, and give it in $ENTELON_TOKEN")
			}
			if name == "" {
				name = sampler.Machine().Host
			}
			if err := os.MkdirAll(spool, 0o700); err != nil {
				return fmt.Errorf("--spool: %w", err)
			}
			finder, err := symbols.finder()
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			if again {
				return keepCollecting(ctx)
			}
			w := &collector{base: base, token: token, name: name, spool: spool, finder: finder, log: slog.New(slog.NewTextHandler(os.Stderr, nil)), client: &http.Client{Timeout: time.Minute}}
			return w.run(ctx)
		},
	}
	c.Flags().StringVar(&to, "to", "http://127.0.0.1:7420", "the server's `URL`")
	c.Flags().StringVar(&token, "token", os.Getenv("ENTELON_TOKEN"), "a `TOKEN` with the role collect (default: $ENTELON_TOKEN)")
	c.Flags().StringVar(&name, "name", "", "the `NAME` of this collector (default: the machine's)")
	c.Flags().StringVar(&spool, "spool", filepath.Join(os.TempDir(), "entelon-collector"), "keep takes in this `FOLDER` until the server has them")
	c.Flags().BoolVar(&again, "keep", false, "start the collector again whenever it ends by itself")
	symbols.add(c)
	_ = c.MarkFlagDirname("spool")
	return c
}

// keepCollecting runs this very command as another process, and again whenever
// that ends.
func keepCollecting(ctx context.Context) error {
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("finding this program's own file: %w", err)
	}
	args := []string{self}
	for _, a := range os.Args[1:] {
		if a != "--keep" && a != "--keep=true" {
			args = append(args, a)
		}
	}
	ctx, end := context.WithCancel(ctx)
	defer end()
	b := &beside{refused: end, log: slog.New(slog.NewTextHandler(os.Stderr, nil))}
	b.keep(ctx, args, nil, 0)
	<-ctx.Done()
	b.end()
	if b.wasRefused() {
		return exitCode(exitRefused)
	}
	return nil
}

// collector makes takes for a server.
type collector struct {
	base   *url.URL
	token  string
	name   string
	spool  string
	finder *symbol.Finder
	log    *slog.Logger
	client *http.Client
	jobs   sync.WaitGroup
	ending context.Context // done when the collector shall end
}

// exitRefused is the exit code of a collector whose token the server does not
// know. Starting it again would change nothing.
const exitRefused = 3

// retryAfter is how long it waits where the server does not answer.
const retryAfter = time.Second

func (w *collector) run(ctx context.Context) error {
	w.ending = ctx
	w.leftOver(ctx)
	report := machineReport()
	quiet := false
	for ctx.Err() == nil {
		var next server.NextJobOut
		err := w.post(ctx, "collector/next", server.CollectorIn{Name: w.name, Report: report}, &next)
		var refused refusal
		switch {
		case ctx.Err() != nil:
		case errors.As(err, &refused) && (refused.status == http.StatusUnauthorized || refused.status == http.StatusForbidden):
			w.jobs.Wait()
			w.log.Error("the server does not let this collector in; give it another token", "error", err)
			return exitCode(exitRefused)
		case err != nil:
			if !quiet {
				w.log.Warn("the server does not answer; trying again", "error", err)
			}
			quiet = true
			sleep(ctx, retryAfter)
		case next.Job != nil:
			w.jobs.Go(func() { w.do(ctx, next.Job) })
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
