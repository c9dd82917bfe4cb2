package main

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/terminal"
	"entelon/codec/otlp"
	"entelon/codec/take"
	"entelon/core/profile"
	"entelon/core/spans"
)

func addCommand() *cobra.Command {
	var out string
	var shift time.Duration
	c := &cobra.Command{
		Use:   "add TAKE SPANS --out OUT",
		Short: "Add spans that the program told of itself to a take",
		Long: `Adds spans from a file of OpenTelemetry's trace data (OTLP, as protobuf or JSON, or JSON
with one message a line) to a take of the same time, and writes both as a new take. They
are then looked at like those that Entelon measured: in the lens Spans, by entelon spans,
and in scopes (during span draw).

A span belongs to the process of the take that its resource names (process.pid) and to the
thread that it names itself (thread.id), where the take has them, so that it can be told what
held it up; others stand under the service's name. What lies outside the take is left out and
counted. Where the clock that the spans were told by is known to be wrong, --shift is added.`,
		Example: `  entelon add engraved.take spans.json --out traced.take
  entelon add engraved.take spans.pb --shift -1.5s --out traced.take
  entelon spans traced.take --name draw --blame 1%`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if out == "" {
				return errors.New("--out: give the name of the take to write")
			}
			t, err := option.ReadTake(args[0])
			if err != nil {
				return err
			}
			f, err := os.Open(args[1])
			if err != nil {
				return err
			}
			defer f.Close()
			told, err := otlp.Read(f)
			if err != nil {
				return fmt.Errorf("%s: %w", args[1], err)
			}
			with, added, err := spans.Add(t, told, shift)
			if errors.Is(err, spans.ErrOutside) {
				return fmt.Errorf("%s: %w: they began from %s to %s, and the take did at %s; --shift says by how much a clock is wrong", args[1], err, wallTime(added.From), wallTime(added.To), wallTime(originOf(t)))
			}
			if err != nil {
				return fmt.Errorf("%s: %w", args[1], err)
			}
			var b bytes.Buffer
			if err := take.Write(&b, with); err != nil {
				return err
			}
			if err := option.WriteFile("--out", out, args, cmd.ErrOrStderr(), func(w io.Writer) error {
				_, err := w.Write(b.Bytes())
				return err
			}); err != nil {
				return err
			}
			_, err = fmt.Fprintln(cmd.OutOrStdout(), terminal.Plain(added.String(), ""))
			return err
		},
	}
	c.Flags().StringVar(&out, "out", "", "the take to write, `OUT`")
	c.Flags().DurationVar(&shift, "shift", 0, "add this `TIME` to all spans, such as -1.5s")
	return option.TakeFile(c)
}

func originOf(t *profile.Take) int64 {
	if t.Facts.OriginUnixNS != 0 {
		return t.Facts.OriginUnixNS
	}
	return t.Machine.StartedAt.UnixNano()
}

func wallTime(ns int64) string { return time.Unix(0, ns).UTC().Format("2006-01-02T15:04:05.000Z") }
