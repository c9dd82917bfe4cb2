package main

import (
	"cmp"
	"fmt"
	"io"
	"math"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"entelon/core/compare"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/tree"
)

type compareJSON struct {
	Baseline  sideOut      `json:"baseline"`
	Candidate sideOut      `json:"candidate"`
	Measure   string       `json:"measure"`
	Unit      string       `json:"unit"` // of every figure below
	Scale     string       `json:"scale"`
	Functions []compareOut `json:"functions"`
}

type sideOut struct {
	File       string `json:"file"`
	Program    string `json:"program"`
	Build      string `json:"build"`
	BuildID    string `json:"build_id"`
	Total      int64  `json:"total"`
	Samples    int64  `json:"samples"`
	DurationNS int64  `json:"duration_ns"`
}

type figureOut struct {
	Self  float64 `json:"self"`
	Total float64 `json:"total"`
}

type compareOut struct {
	Name       string    `json:"name"`
	Module     string    `json:"module"`
	Baseline   figureOut `json:"baseline"`
	Candidate  figureOut `json:"candidate"`
	DeltaSelf  float64   `json:"delta_self"`
	DeltaTotal float64   `json:"delta_total"`
	State      string    `json:"state"`
}

func compareCommand() *cobra.Command {
	var asJSON, full bool
	var scaleName string
	var chosen choice
	var limit int
	c := &cobra.Command{
		Use:   "compare BASELINE CANDIDATE",
		Short: "Show function by function what changed from one take to another",
		Example: `  entelon compare engraved-3.4.0.take engraved-3.5.0.take
  entelon compare --scale second before.take after.take
  entelon compare --scope 'function is slur.Route and not idle' before.take after.take
  entelon compare --json before.take after.take`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			scale, err := compare.ParseScale(scaleName)
			if err != nil {
				return fmt.Errorf("--scale: %w", err)
			}
			a, err := readTake(args[0])
			if err != nil {
				return err
			}
			b, err := readTake(args[1])
			if err != nil {
				return err
			}
			ma, sca, errA := chosen.of(a)
			mb, scb, errB := chosen.of(b)
			if errA != nil || errB != nil {
				return cmp.Or(errA, errB)
			}
			if wa, wb := a.Profile.Words(ma), b.Profile.Words(mb); wa.Name != wb.Name || wa.Unit != wb.Unit {
				return fmt.Errorf("the baseline's measure is %s and the candidate's %s; choose one that both have with --measure", wa.Label, wb.Label)
			}
			sa, sb := side(a, ma, sca), side(b, mb, scb)
			rows, err := compare.Functions(sa, sb, scale)
			if err != nil {
				return err
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), compareResult(args, a, b, ma, sa, sb, scale, rows))
			}
			return printCompare(cmd.OutOrStdout(), a, b, ma, sa, sb, scale, rows, limit, full)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON, all functions")
	c.Flags().BoolVar(&full, "full", false, "print names in full, with packages, parameters and template arguments")
	chosen.add(c)
	c.Flags().StringVar(&scaleName, "scale", "total", "divide both sides by their total, by each second, or by none")
	c.Flags().IntVar(&limit, "limit", 30, "how many rows; 0 means all")
	_ = c.RegisterFlagCompletionFunc("scale", cobra.FixedCompletions([]string{"total", "second", "none"}, cobra.ShellCompDirectiveNoFileComp))
	return takeFile(c)
}

func side(t *profile.Take, measure int, sc scope.Scope) compare.Side {
	tr := tree.New(t.Profile)
	c := tr.Cost(measure, sc)
	return compare.Side{Profile: t.Profile, Functions: tr.Functions(c), Total: c.Total(0), Samples: c.TotalSamples(0), DurationNS: t.Facts.DurationNS}
}

func compareResult(args []string, a, b *profile.Take, measure int, sa, sb compare.Side, scale compare.Scale, rows []compare.Row) compareJSON {
	one := func(file string, t *profile.Take, s compare.Side) sideOut {
		return sideOut{file, t.Settings.Program, t.Settings.Build, t.Facts.BuildID, s.Total, s.Samples, s.DurationNS}
	}
	m := a.Profile.Measures[measure]
	out := compareJSON{
		Baseline: one(args[0], a, sa), Candidate: one(args[1], b, sb), Measure: a.Profile.Strings[m.Name],
		Unit: scale.Unit(a.Profile.Strings[m.Unit]), Scale: string(scale), Functions: []compareOut{},
	}
	for _, r := range rows {
		out.Functions = append(out.Functions, compareOut{r.Name, r.Module, figureOut{r.Baseline.Self, r.Baseline.Total},
			figureOut{r.Candidate.Self, r.Candidate.Total}, r.DeltaSelf, r.DeltaTotal, string(r.State)})
	}
	return out
}

func printCompare(w io.Writer, a, b *profile.Take, measure int, sa, sb compare.Side, scale compare.Scale, rows []compare.Row, limit int, full bool) error {
	fmt.Fprintf(w, "%s %s → %s %s", a.Settings.Program, a.Settings.Build, b.Settings.Program, b.Settings.Build)
	words := a.Profile.Words(measure)
	factor, unit := 1.0, ""
	switch words.Unit {
	case "ns":
		factor, unit = 1e-6, "ms of "
	case "bytes":
		factor, unit = 1.0/1024, "KiB of "
	}
	switch scale {
	case compare.ByTotal:
		factor = 100
		fmt.Fprintln(w, "   figures in % of each side's "+words.Label)
	case compare.BySecond:
		fmt.Fprintln(w, "   figures in "+unit+words.Label+" for each second")
	default:
		fmt.Fprintln(w, "   figures in "+unit+words.Label)
	}
	if short, ok := compare.TooShort(rows, sa, sb, scale); ok && !words.Counted {
		fmt.Fprintf(w, "  ! There are too few samples to tell whether %s changed. Take both for %.0f times as long.\n", shown(short.Name, false), math.Ceil(short.Times))
	}
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(tw, "self\t→\tdifference\ttotal\t→\tdifference\t  state\t  function")
	for i, r := range rows {
		if limit > 0 && i == limit {
			break
		}
		fmt.Fprintf(tw, "%.2f\t%.2f\t%+.2f\t%.2f\t%.2f\t%+.2f\t  %s\t  %s\n",
			factor*r.Baseline.Self, factor*r.Candidate.Self, factor*r.DeltaSelf,
			factor*r.Baseline.Total, factor*r.Candidate.Total, factor*r.DeltaTotal, r.State, shown(r.Name, full))
	}
	return tw.Flush()
}
