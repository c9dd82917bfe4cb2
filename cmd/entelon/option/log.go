package option

import (
	"fmt"
	"io"
	"log/slog"
	"strings"

	"github.com/spf13/cobra"
)

// logFlags choose how a process that runs for long writes its log.
type Log struct{ Format, Level string }

// Add gives a command the flags.
func (f *Log) Add(c *cobra.Command) {
	c.Flags().StringVar(&f.Format, "log-format", "json", "write the log as `json` or text")
	c.Flags().StringVar(&f.Level, "log-level", "info", "the least `LEVEL` to write: debug, info, warn or error")
	_ = c.RegisterFlagCompletionFunc("log-format", cobra.FixedCompletions([]string{"json", "text"}, cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("log-level", cobra.FixedCompletions([]string{"debug", "info", "warn", "error"}, cobra.ShellCompDirectiveNoFileComp))
}

// Logger returns the log that the flags choose.
func (f *Log) Logger(w io.Writer) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(strings.ToUpper(f.Level))); err != nil {
		return nil, fmt.Errorf("--log-level %q: choose debug, info, warn or error", f.Level)
	}
	o := &slog.HandlerOptions{Level: level}
	switch f.Format {
	case "json":
		return slog.New(slog.NewJSONHandler(w, o)), nil
	case "text":
		return slog.New(slog.NewTextHandler(w, o)), nil
	}
	return nil, fmt.Errorf("--log-format %q: choose json or text", f.Format)
}
