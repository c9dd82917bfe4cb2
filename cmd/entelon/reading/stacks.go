package reading

import (
	"github.com/spf13/cobra"

	"entelon/cmd/entelon/option"
	"entelon/codec/stacks"
)

// Stacks is `entelon stacks`.
func Stacks() *cobra.Command {
	var chosen option.Choice
	c := &cobra.Command{
		Use:   "stacks FILE",
		Short: "Print every distinct stack with its number of samples, one a line",
		Long: `Prints every distinct stack, root first, with its number of samples, one a line;
with --measure, with its value of that measure instead.`,
		Example: `  entelon stacks engraved.take | sort -k2 -n
  entelon stacks engraved.take --measure waiting
  entelon stacks engraved.take --scope 'code is own and time from 2 s to 5 s'`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := option.ReadTake(args[0])
			if err != nil {
				return err
			}
			m, sc, err := chosen.Of(t)
			if err != nil {
				return err
			}
			return stacks.Write(cmd.OutOrStdout(), t.Profile, m, sc, chosen.Measure != "")
		},
	}
	chosen.Add(c)
	return option.TakeFile(c)
}
