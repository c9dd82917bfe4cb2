package option

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/terminal"
	"entelon/codec"
	"entelon/codec/formats"
	"entelon/core/calltree"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/workload"
)

// Choice is what of a take a command looks at.
type Choice struct{ Measure, Scope string }

// Add gives a command the flags.
func (x *Choice) Add(c *cobra.Command) {
	measureFlag(c, &x.Measure)
	c.Flags().StringVar(&x.Scope, "scope", "", "only the samples that this `EXPRESSION` holds, such as: thread is worker-* and not idle")
	_ = c.RegisterFlagCompletionFunc("scope", completeScope)
}

// Of returns the measure and the scope in a take, and says on standard error
// which names of the scope the take does not have.
func (x Choice) Of(t *profile.Take) (int, scope.Scope, error) {
	m, err := t.Profile.MeasureNamed(x.Measure)
	if err != nil {
		return 0, scope.Scope{}, fmt.Errorf("--measure: %w", err)
	}
	sc, err := ParseScope("--scope", x.Scope)
	if err != nil {
		return 0, scope.Scope{}, err
	}
	if err := sc.Fits(t.Profile); err != nil {
		return 0, scope.Scope{}, fmt.Errorf("--scope: %w", err)
	}
	about := aboutTake(t)
	if !sc.All() {
		for _, text := range scope.NewNames(t.Profile, about, scope.Weights{}).Absent(sc) {
			fmt.Fprintln(os.Stderr, "entelon: --scope: "+terminal.Plain(text, ""))
		}
	}
	return m, sc.Of(about), nil
}

func aboutTake(t *profile.Take) scope.About {
	return scope.About{Program: t.Settings.Program, Build: t.Settings.Build, Workload: workload.Of(&t.Settings, &t.Facts).Words}
}

// ParseScope shows the character that is wrong on a terminal's second line.
func ParseScope(flag, text string) (scope.Scope, error) {
	sc, err := scope.Parse(text)
	if err != nil {
		return sc, fmt.Errorf("%s: %w", flag, err)
	}
	return sc, nil
}

// completeScope completes the last word of an expression with the names of the
// take that is given.
func completeScope(_ *cobra.Command, args []string, text string) ([]string, cobra.ShellCompDirective) {
	names := &scope.Names{}
	if len(args) > 0 {
		if t, err := formats.ReadFile(args[0], codec.Options{Salvage: true}); err == nil {
			names = scope.NewNames(t.Profile, aboutTake(t), calltree.New(t.Profile).Weights())
		}
	}
	var out []string
	all := []rune(text)
	for _, p := range names.Complete(text, len(all)) {
		out = append(out, string(all[:p.From])+p.Text)
	}
	return out, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

// measureFlag adds the choice among a take's measures.
func measureFlag(c *cobra.Command, name *string) {
	c.Flags().StringVar(name, "measure", "", "of several measures of a take, the one with this `NAME` (default the first)")
	_ = c.RegisterFlagCompletionFunc("measure", func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		var out []string
		if len(args) > 0 {
			if t, err := formats.ReadFile(args[0], codec.Options{Salvage: true}); err == nil {
				for i := range t.Profile.Measures {
					w := t.Profile.Words(i)
					out = append(out, w.Name+"\t"+w.Label)
				}
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	})
}
