package serving

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/option"
	"entelon/collector"
	"entelon/collector/identity"
	"entelon/collector/rights"
	"entelon/receive"
)

// CollectorCommand collects for a server.
func CollectorCommand() *cobra.Command {
	var to, state, allowed, spansAt string
	var again, tied bool
	var symbols option.Symbols
	var logs option.Log
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
  entelon collector --spans-at 127.0.0.1:4318
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
			finder, err := symbols.Finder()
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
			base, err := ServerAddress("--to", to)
			if err != nil {
				return err
			}
			log, err := logs.Logger(os.Stderr)
			if err != nil {
				return err
			}
			if err := keepSamplingRights(log, allow.AsRoot()); err != nil {
				return err
			}
			w := collector.New(collector.NewClient(base, folder, who), folder.Spool(), allow, finder, log)
			if spansAt != "" {
				if w.Spans, err = receive.Listen(spansAt, true); err != nil {
					return fmt.Errorf("--spans-at %s: %w", spansAt, err)
				}
				defer func() {
					if err := w.Spans.Close(); err != nil {
						log.Warn("the receiver of spans", "error", err)
					}
				}()
				log.Info("receiving spans", "address", w.Spans.Address())
			}
			if err = w.Run(ctx); errors.Is(err, collector.ErrRefused) {
				return option.ExitCode(ExitRefused) // it is in the log
			}
			return err
		},
	}
	c.PersistentFlags().StringVar(&state, "state", collectorDir(), "the `FOLDER` of this collector's key and of what it has still to deliver")
	c.Flags().StringVar(&to, "to", "", "the server's `URL` (default: where it was enrolled)")
	c.Flags().StringVar(&allowed, "rights", rights.UsualPlace(), "the `FILE` that says what this machine allows")
	c.Flags().StringVar(&spansAt, "spans-at", "", "receive the spans that programs send by OpenTelemetry's protocol (OTLP over HTTP and gRPC) at this `ADDRESS`, such as 127.0.0.1:4318, for the takes of that time")
	c.Flags().BoolVar(&again, "keep", false, "start the collector again whenever it ends by itself")
	c.Flags().BoolVar(&tied, "until-closed", false, "end when standard input is closed")
	_ = c.Flags().MarkHidden("until-closed")
	symbols.Add(c)
	logs.Add(c)
	_ = c.MarkPersistentFlagDirname("state")
	_ = c.MarkFlagFilename("rights")
	c.AddCommand(enrolCommand(&state))
	return c
}

// ExitRefused is the exit code of a collector whose key the server does not
// know. Starting it again would change nothing.
const ExitRefused = 3

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
func keepCollecting(ctx context.Context, logs *option.Log) error {
	log, err := logs.Logger(os.Stderr)
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
		return option.ExitCode(ExitRefused)
	}
	return nil
}
