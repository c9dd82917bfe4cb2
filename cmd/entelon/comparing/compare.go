// Package comparing is the command that compares takes: its flags, its rules from a file,
// and what it prints, in words and as JSON.
//
// A command runs in one goroutine and shares nothing.
package comparing

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/serving"
	"entelon/cmd/entelon/terminal"
	"entelon/codec/verdict"
	"entelon/core/calltree"
	"entelon/core/compare"
	"entelon/core/match"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/reading"
	"entelon/core/scales"
	"entelon/core/scope"
	"entelon/core/statistics"
	"entelon/core/workload"
)

// The exit codes of compare.
const (
	exitSame      = 0
	exitSlower    = 1
	exitUnknown   = 2
	ExitNoCompare = 3 // an error
)

// Comparison is what the compare command was asked for.
type Comparison struct {
	Baseline, Candidate []string
	chosen              option.Choice
	Scale               string
	Limits              []string
	Rules               string
	Format              string
	report              string
	server, tokenFile   string
	workload            string
	full                bool
	without             *compare.Result // the takes that are far off
	farOff              []string
	Limit               int
}

// Command compares two takes, or two groups of them.
func Command() *cobra.Command {
	x := &Comparison{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "compare [BASELINE CANDIDATE]",
		Short: "Tell whether a build got slower, by how much, why, and how sure that is",
		Long: `Compares two takes, or two groups of takes. Give each side as often as there
are takes of it: how much single takes differ is known only from several.

It exits with 0 if there is no regression, 1 if there is one, 2 if the takes do
not tell, and 3 after an error. A regression is a rise that is significant
and is larger than its limit: 5 % of the whole, if nothing else is said.`,
		Example: `  entelon compare engraved-3.4.0.take engraved-3.5.0.take
  entelon compare --baseline old-1.take --baseline old-2.take --candidate new-1.take --candidate new-2.take
  entelon compare --baseline 'old-*.take' --candidate 'new-*.take' --threshold 3% --threshold 'slur.*=5%'
  entelon compare --server http://127.0.0.1:7420 --baseline engraved@3.4.0 --candidate engraved@3.5.0
  entelon compare --limit instructions=0.1% old-exact.take new-exact.take
  entelon compare --rules entelon.yaml --format markdown --baseline 'old-*.take' --candidate 'new-*.take'`,
		Args: func(_ *cobra.Command, args []string) error {
			switch {
			case len(args) == 2 && len(x.Baseline)+len(x.Candidate) == 0, len(args) == 0 && len(x.Baseline) > 0 && len(x.Candidate) > 0:
				return nil
			case len(args) == 0 && len(x.Baseline)+len(x.Candidate) == 0:
				return NoCompare{errors.New("give a baseline and a candidate")}
			case len(args) == 0:
				return NoCompare{errors.New("give both --baseline and --candidate")}
			}
			return NoCompare{fmt.Errorf("give two takes, or each side by --baseline and --candidate; there are %d takes without a flag", len(args))}
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 2 {
				x.Baseline, x.Candidate = args[:1], args[1:]
			}
			if asJSON {
				x.Format = "json"
			}
			outcome, err := x.Run(cmd)
			if err != nil {
				return NoCompare{err}
			}
			switch outcome {
			case compare.Fail:
				return option.ExitCode(exitSlower)
			case compare.Unknown:
				return option.ExitCode(exitUnknown)
			}
			return nil
		},
	}
	c.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return NoCompare{err} })
	f := c.Flags()
	f.StringArrayVarP(&x.Baseline, "baseline", "b", nil, "a `TAKE` of the baseline: a file, a pattern, or PROGRAM@BUILD on the server; may be repeated")
	f.StringArrayVarP(&x.Candidate, "candidate", "c", nil, "a `TAKE` of the candidate, likewise")
	x.chosen.Add(c)
	f.StringVar(&x.Scale, "scale", "", "compare for each `UNIT`: run, work, second, cpu-second, unchanged (work that stayed the same) or share; default: what suits the takes")
	f.StringArrayVarP(&x.Limits, "threshold", "t", nil, "the `RISE` that is allowed: 3% of the whole, or 'slur.*=5%' of functions; may be repeated")
	f.StringVar(&x.Rules, "rules", "", "thresholds and accepted changes in this `FILE` (default: entelon.yaml, if it is there)")
	f.StringVar(&x.Format, "format", "text", "text, json, markdown or junit")
	f.StringVar(&x.report, "report", "", "write a report that opens in any browser to this `FILE`, too")
	f.BoolVar(&asJSON, "json", false, "the same as --format json")
	f.StringVar(&x.server, "server", "", "the `URL` of the server that PROGRAM@BUILD is looked for on")
	f.StringVar(&x.workload, "workload", "", "compare the takes of this `WORKLOAD` (default: the one that both sides have the most takes of)")
	f.StringVar(&x.tokenFile, "token-file", "", "the `FILE` with a token for the server (default "+serving.TokenPlace()+")")
	f.BoolVar(&x.full, "full", false, "print names in full, with packages, parameters and template arguments")
	x.Limit = 20
	f.Var(limitFlag{x}, "limit", "how many functions of the table, 0 for all; or the rise that is allowed of a measure, as `MEASURE=RISE`: instructions=0.1%")
	complete := func(flag string, words ...string) {
		_ = c.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp))
	}
	complete("scale", "run", "work", "second", "cpu-second", "unchanged", "share")
	complete("format", "text", "json", "markdown", "junit")
	for _, flag := range []string{"baseline", "candidate"} {
		_ = c.MarkFlagFilename(flag, "take")
	}
	return option.TakeFile(c)
}

// oneProgram is how much code two programs of different names have in common if they are
// builds of one.
const oneProgram = 0.5

// NoCompare is an error that ends compare with a code of its own, since 1 means
// a regression there.
type NoCompare struct{ error }

// Unwrap is the error itself.
func (e NoCompare) Unwrap() error { return e.error }

// measured is one side's takes, and what of them is compared.
type measured struct {
	takes []*profile.Take
	files []string
	in    []workload.Workload // of each take: as its server has it, or as it is found
	runs  []match.Run
}

// add adds a take of a workload.
func (m *measured) add(t *profile.Take, file string, in workload.Workload) {
	m.takes, m.files, m.in = append(m.takes, t), append(m.files, file), append(m.in, in)
}

// keys are those of the workloads of its takes.
func (m *measured) keys() []string {
	out := make([]string, len(m.in))
	for i := range m.in {
		out[i] = m.in[i].Key
	}
	return out
}

// Run reads both sides and compares them.
func (x *Comparison) Run(cmd *cobra.Command) (compare.Outcome, error) {
	if !slices.Contains([]string{"text", "json", "markdown", "junit"}, x.Format) {
		return "", fmt.Errorf("--format %s: choose text, json, markdown or junit", x.Format)
	}
	var given scales.Scale
	if x.Scale != "" {
		var err error
		if given, err = scales.Parse(x.Scale); err != nil {
			return "", fmt.Errorf("--scale: %w", err)
		}
	}
	policy, err := x.policy()
	if err != nil {
		return "", err
	}
	// The file says what the flags leave open.
	if given == "" {
		given = policy.scale
	}
	x.chosen.Measure = cmp.Or(x.chosen.Measure, policy.measure)
	x.chosen.Scope = cmp.Or(x.chosen.Scope, policy.scope)
	a, err := x.read(cmd.Context(), "--baseline", x.Baseline)
	if err != nil {
		return "", err
	}
	b, err := x.read(cmd.Context(), "--candidate", x.Candidate)
	if err != nil {
		return "", err
	}
	if err := apart(a, b); err != nil {
		return "", err
	}
	left := ownKind(a, b, x.chosen.Measure)
	notice, err := x.alike(a, b)
	if err != nil {
		return "", err
	}
	words, sc, err := x.open(a, b)
	if err != nil {
		return "", err
	}
	chosen := given != ""
	if !chosen {
		given = scales.FittingIn(words, append(a.keys(), b.keys()...), slices.Concat(a.takes, b.takes)...)
	}
	r, err := compare.Compare(a.runs, b.runs, compare.Options{Scale: given, OrShares: !chosen, Exact: words.Counted, Hand: policy.hand})
	if err != nil {
		return "", err
	}
	for _, text := range []string{left, notice} {
		if text != "" {
			fmt.Fprintln(cmd.ErrOrStderr(), "entelon: "+text)
		}
	}
	if p, q := a.takes[0].Settings.Program, b.takes[0].Settings.Program; p != q && r.SharedCode() < oneProgram {
		fmt.Fprintf(cmd.ErrOrStderr(), "entelon: %s and %s are different programs: only functions of one name can be compared, and a rise need not be a regression\n", p, q)
	}
	x.without, x.farOff = r.WithoutFarOff(compare.Options{Exact: words.Counted, Hand: policy.hand})
	v := verdict.View{
		Result: r, Suspects: r.Suspects(), Sides: reading.Sides{Baseline: a.name(b), Candidate: b.name(a), Measure: words.Label},
		Takes: [2]int{len(a.takes), len(b.takes)}, Unit: words.Unit, Scope: sc.String(),
	}
	v.Outcome, v.Findings = compare.Judge(r, policy.rules(b.takes[0]))
	if x.report != "" {
		write := func(w io.Writer) error { return verdict.HTML(w, v, time.Now()) }
		if err := option.WriteFile("--report", x.report, slices.Concat(a.files, b.files), cmd.ErrOrStderr(), write); err != nil {
			return "", err
		}
	}
	out := cmd.OutOrStdout()
	switch x.Format {
	case "json":
		j := compareResult(a, b, words, v)
		if x.without != nil {
			j.Without = &withoutOut{x.farOff, estimateJSON(x.without.Whole)}
		}
		err = terminal.PrintJSON(out, j)
	case "markdown":
		err = verdict.Markdown(out, v)
	case "junit":
		err = verdict.JUnit(out, v)
	default:
		err = x.print(out, v)
	}
	return v.Outcome, err
}

// open adds up what is compared in all takes of both sides.
func (x *Comparison) open(a, b *measured) (measure.Column, scope.Scope, error) {
	var first measure.Column
	var sc scope.Scope
	for _, side := range []*measured{a, b} {
		for i, t := range side.takes {
			m, s, err := x.chosen.Of(t)
			if err != nil {
				return first, sc, err
			}
			w := t.Profile.Words(m)
			if first.Name == "" {
				first, sc = w, s
			} else if w.Name != first.Name || w.Unit != first.Unit {
				return first, sc, fmt.Errorf("%s measured %s and %s %s; choose one that both have with --measure", a.files[0], first.Label, side.files[i], w.Label)
			}
			tr := calltree.New(t.Profile)
			c := tr.Cost(m, s)
			side.runs = append(side.runs, match.Run{
				ID: side.files[i], Name: side.files[i], Tree: tr, Cost: c, Functions: calltree.Functions(tr, c), DurationNS: t.Facts.DurationNS, CPUNS: t.Facts.CPUNS, Work: t.Facts.Work, Lost: t.Missing(m),
				Calls: compare.CallsOf(tr, s), StartedAt: t.Machine.StartedAt, Workload: side.in[i].Words, Conditions: compare.ConditionsOf(t), Pairs: compare.PairsOf(t), Varies: match.VariesOf(t, w.Name),
			})
		}
	}
	return first, sc, nil
}

// name is what a side is called: its build, with the program where that differs.
func (m *measured) name(other *measured) string {
	t, o := m.takes[0].Settings, other.takes[0].Settings
	switch {
	case t.Program != o.Program:
		return t.Program + " " + t.Build
	case t.Build == o.Build || t.Build == "":
		return m.files[0]
	}
	return t.Build
}

// apart refuses a take that is on both sides: whatever it is compared with, it would be
// compared with itself, too.
func apart(a, b *measured) error {
	for _, f := range a.files {
		for _, g := range b.files {
			if f == g || option.SameFile(f, g) {
				return fmt.Errorf("%s is on both sides; give other takes to --baseline than to --candidate", g)
			}
		}
	}
	return nil
}

func (x *Comparison) print(w io.Writer, v verdict.View) error {
	var b strings.Builder
	takes := func(n int) string {
		if n == 1 {
			return "one take"
		}
		return fmt.Sprintf("%d takes", n)
	}
	fmt.Fprintf(&b, "%s → %s   %s %s; %s and %s\n", v.Sides.Baseline, v.Sides.Candidate, v.Sides.Measure, v.Result.Scale.Words(), takes(v.Takes[0]), takes(v.Takes[1]))
	for _, p := range reading.Comparison(v.Result, v.Suspects, v.Sides) {
		b.WriteString(terminal.Plain(p.Text, ""))
	}
	b.WriteString("\n\n")
	for _, r := range v.Result.Remarks {
		fmt.Fprintf(&b, "  ! %s %s\n", terminal.Plain(r.Text, ""), r.Remedy)
	}
	if x.without != nil {
		fmt.Fprintf(&b, "  ! Without %s: %s\n", strings.Join(x.farOff, ", "), terminal.Plain((&compare.Finding{Estimate: x.without.Whole}).Text(x.without, v.Sides.Measure), ""))
	}
	x.suspects(&b, v)
	x.table(&b, v)
	fmt.Fprintf(&b, "\n%s\n", v.Outcome)
	for i := range v.Findings {
		if f := &v.Findings[i]; f.Outcome != compare.Pass || f.Note != "" || i == 0 {
			fmt.Fprintf(&b, "  %s: %s Allowed: %s.\n", f.Outcome, terminal.Plain(f.Text(v.Result, v.Sides.Measure), ""), statistics.Signed(f.Limit))
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}
