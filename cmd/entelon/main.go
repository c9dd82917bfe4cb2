// Command entelon samples running programs and shows where their time goes.
//
// A command runs in one goroutine; what goes on beside it belongs to the packages that it
// calls.
package main

import (
	"errors"
	"fmt"
	"os"
	"strconv"

	"github.com/spf13/cobra"

	"entelon/capture"
	"entelon/cmd/entelon/begin"
	"entelon/cmd/entelon/comparing"
	"entelon/cmd/entelon/measures"
	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/reading"
	"entelon/cmd/entelon/serving"
	"entelon/cmd/entelon/symbols"
	"entelon/cmd/entelon/terminal"
	"entelon/diagnose/doctor"
)

func main() {
	begin.Done()
	doctor.Spinner()
	err := root().Execute()
	var code option.ExitCode
	switch {
	case errors.As(err, &code):
		os.Exit(int(code))
	case err != nil:
		fmt.Fprintln(os.Stderr, "entelon: "+terminal.OneLine(err))
		if errors.As(err, new(comparing.NoCompare)) {
			os.Exit(comparing.ExitNoCompare)
		}
		os.Exit(1)
	}
}

// joinPairs has --bare-first take the number behind it, which it need not have.
func joinPairs(args []string) (out []string) {
	for i := 0; i < len(args); i++ {
		if args[i] == "--" {
			return append(out, args[i:]...)
		}
		if args[i] == "--bare-first" && i+1 < len(args) {
			if _, err := strconv.Atoi(args[i+1]); err == nil {
				out = append(out, args[i]+"="+args[i+1])
				i++
				continue
			}
		}
		out = append(out, args[i])
	}
	return out
}

func root() *cobra.Command {
	c := &cobra.Command{
		Use:   "entelon",
		Short: "Find out where a program spends its time, and what a new build made slower",
		Long: `Entelon samples running programs, folds their call stacks, and shows where the
time goes, in the terminal and in the browser.`,
		Example: `  entelon take -- ./engraved --scores 200     sample a command from start to end
  entelon take --pid 4711 --for 10s           sample a running process
  entelon live --pid 4711                     what is hot now
  entelon count --function slur.Route -- ./engraved
                                              how often it is called, and by whom
  entelon hot engraved.take                   its hot functions
  entelon tree engraved.take                  who calls whom, and what that costs
  entelon compare before.take after.take      what became slower
  entelon export engraved.take --out x.html   a report in one file
  entelon serve                               the same in the browser
  entelon doctor                              what this machine allows`,
		SilenceUsage:  true,
		SilenceErrors: true,
		Version:       capture.Version,
	}
	c.SetArgs(joinPairs(os.Args[1:]))
	c.SetOut(terminal.PlainWriter{To: os.Stdout})
	c.AddCommand(takeCommand(), exactCommand(), countCommand(), reading.Hot(), reading.Tree(), liveCommand(), measures.Command(), measures.ScopeTopic(), reading.Facts(), reading.Stacks(), reading.Lanes(), reading.Spans(), reading.Events(), comparing.Command(), bisectCommand(), exportCommand(), inventCommand(), addCommand(), sendCommand(), symbols.Command(), serving.ServeCommand(), serving.CollectorCommand(), serving.PersonCommand(), serving.BackupCommand(), serving.RestoreCommand(), doctorCommand(), apiCommand())
	return c
}
