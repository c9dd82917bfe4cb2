package main

import (
	"fmt"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/terminal"
	"entelon/collector"
	"entelon/diagnose/doctor"
)

func doctorCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "doctor",
		Short: "Tell what this machine allows, and what would help where it does not",
		Long: `Looks at what can be collected on this machine with this user's rights, and says
what would help where something is missing. It changes nothing. The exit code is
1 where programs cannot be sampled at all.`,
		Example: `  entelon doctor
  sudo entelon doctor
  entelon doctor --json`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r := collector.Report()
			if asJSON {
				if err := terminal.PrintJSON(cmd.OutOrStdout(), r); err != nil {
					return err
				}
			} else {
				fmt.Fprintf(cmd.OutOrStdout(), "%s: %s, Linux %s, %d processors\n\n", r.Machine.Host, r.Machine.Processor, r.Machine.Kernel, r.Machine.Processors)
				tw := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
				words := map[string]string{doctor.CheckGood: "good", doctor.CheckPart: "in part", doctor.CheckBad: "no"}
				for _, x := range r.Checks {
					fmt.Fprintf(tw, "%s\t%s\t%s\n", words[x.State], x.Name, x.Text)
					if x.Remedy != "" && x.State != doctor.CheckGood {
						fmt.Fprintf(tw, "\t\t→ %s\n", x.Remedy)
					}
				}
				if err := tw.Flush(); err != nil {
					return err
				}
			}
			for _, x := range r.Checks {
				if x.State == doctor.CheckBad {
					return option.ExitCode(1)
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}
