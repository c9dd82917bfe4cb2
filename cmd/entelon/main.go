// Command entelon samples running programs and shows where their time goes.
package main

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"entelon/capture"
	"entelon/cmd/entelon/begin"
	"entelon/codec/take"
	"entelon/diagnose/doctor"
)

func main() {
	begin.Done()
	doctor.Spinner()
	err := root().Execute()
	var code exitCode
	switch {
	case errors.As(err, &code):
		os.Exit(int(code))
	case err != nil:
		fmt.Fprintln(os.Stderr, "entelon: "+oneLine(err))
		if errors.As(err, new(noCompare)) {
			os.Exit(exitNoCompare)
		}
		os.Exit(1)
	}
}

// exitCode ends the program with a launched command's own code.
type exitCode int

func (c exitCode) Error() string { return fmt.Sprintf("the command ended with exit code %d", int(c)) }

func root() *cobra.Command {
	c := &cobra.Command{
		Use:   "entelon",
		Short: "Find out where a program spends its time, and what a new build made slower",
		Long: `Entelon samples running programs, folds their call stacks, and shows where the
time goes, in the terminal and in the browser.`,
		Example: `  entelon take -- ./engraved --scores 200     sample a command from start to end
  entelon take --pid 4711 --for 10s           sample a running process
  entelon count --function slur.Route -- ./engraved
                                              how often it is called, and by whom
  entelon hot engraved.take                   its hot functions
  entelon compare before.take after.take      what became slower
  entelon export engraved.take --out x.html   a report in one file
  entelon serve                               the same in the browser
  entelon doctor                              what this machine allows`,
		SilenceUsage:  true,
		SilenceErrors: true,
		Version:       capture.Version,
	}
	c.SetOut(plainWriter{os.Stdout})
	c.AddCommand(takeCommand(), countCommand(), hotCommand(), factsCommand(), stacksCommand(), compareCommand(), bisectCommand(), exportCommand(), inventCommand(), sendCommand(), serveCommand(), collectorCommand(), personCommand(), backupCommand(), restoreCommand(), doctorCommand(), apiCommand())
	return c
}

// oneLine makes a single clear line of an error, with what to do where known.
func oneLine(err error) string {
	line, remedy := err.Error(), ""
	var broken *take.Error
	if errors.As(err, &broken) {
		remedy = broken.Remedy()
	} else {
		remedy = capture.Remedy(err)
	}
	line = plainText(strings.ReplaceAll(line, "\n", "; "), "")
	if remedy != "" {
		return line + "; " + remedy
	}
	return line
}
