package main

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/terminal"
	"entelon/codec/takefile"
	"entelon/core/invent"
	"entelon/core/measure"
)

func inventCommand() *cobra.Command {
	n := invent.Invention{Samples: 1_000_000, Stacks: 200_000, Seed: 1, Lanes: 8}
	var out string
	c := &cobra.Command{
		Use:   "invent --out FILE",
		Short: "Make a take of any size that nobody measured",
		Long: `Makes a take of any size, the same for the same seed, to try how Entelon copes
with it. It says of itself that it is invented.`,
		Example: `  entelon invent --out large.take
  entelon invent --samples 10000000 --stacks 1000000 --seed 3 --out larger.take
  entelon invent --intervals 10000000 --lanes 300 --seconds 600 --out lanes.take
  entelon invent --build 2 --out large-2.take # to compare with large.take`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			switch {
			case out == "":
				return errors.New("give the file to write with --out")
			case n.Samples < 1 || n.Samples > 200_000_000:
				return fmt.Errorf("--samples %d: give a number from 1 to 200000000", n.Samples)
			case n.Stacks < 1 || n.Stacks > 20_000_000:
				return fmt.Errorf("--stacks %d: give a number from 1 to 20000000", n.Stacks)
			case n.Intervals < 0 || n.Intervals > 100_000_000:
				return fmt.Errorf("--intervals %d: give a number from 0 to 100000000", n.Intervals)
			case n.Lanes < 1 || n.Lanes > 100_000:
				return fmt.Errorf("--lanes %d: give a number from 1 to 100000", n.Lanes)
			case n.Seconds < 0 || n.Seconds > 1_000_000:
				return fmt.Errorf("--seconds %d: give a number from 0 to 1000000", n.Seconds)
			}
			t := n.Take()
			sink := &takefile.File{Path: out}
			if err := sink.Prepare(); err != nil {
				return err
			}
			if err := sink.Begin(t.Settings, t.Machine); err != nil {
				return err
			}
			err := sink.Append(t.Profile)
			if err == nil {
				err = sink.Facts(t.Facts)
			}
			if err := sink.Close(err); err != nil {
				return err
			}
			st, err := os.Stat(out)
			if err != nil {
				return err
			}
			if n.Intervals > 0 {
				fmt.Fprintf(os.Stderr, "entelon: invented %s samples and %s intervals in %s (%s)\n", terminal.Thin(int64(n.Samples)), terminal.Thin(int64(t.Profile.Intervals.Len())), out, measure.Amount(st.Size(), measure.Bytes))
				return nil
			}
			fmt.Fprintf(os.Stderr, "entelon: invented %s samples on %s stacks in %s (%.1f bytes a sample)\n", terminal.Thin(int64(n.Samples)), terminal.Thin(int64(n.Stacks)), out, float64(st.Size())/float64(n.Samples))
			return nil
		},
	}
	c.Flags().IntVar(&n.Samples, "samples", n.Samples, "how many samples")
	c.Flags().IntVar(&n.Stacks, "stacks", n.Stacks, "how many distinct stacks")
	c.Flags().Uint64Var(&n.Seed, "seed", n.Seed, "the take is the same for the same `NUMBER`")
	c.Flags().StringVar(&n.Build, "build", "", "another `BUILD` of the same program: the same stacks, other samples")
	c.Flags().IntVar(&n.Intervals, "intervals", 0, "how many waits, system calls and requests to disks, besides the samples")
	c.Flags().IntVar(&n.Lanes, "lanes", n.Lanes, "of how many threads these are")
	c.Flags().IntVar(&n.Seconds, "seconds", 0, "how long the take is at least")
	c.Flags().StringVarP(&out, "out", "o", "", "the `FILE.take` to write")
	return c
}
