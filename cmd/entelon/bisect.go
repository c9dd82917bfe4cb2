package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/comparing"
	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/terminal"
	"entelon/core/bisect"
	"entelon/core/scales"
	"entelon/core/statistics"
)

// bisection is what the bisect command was asked for, and how far it is.
type bisection struct {
	good, bad  string
	build, run string
	function   string
	threshold  option.Share
	most       int
	again      bool
	exact      bool

	repo   *repository
	state  *bisectState
	search bisect.Search
	say    func(format string, args ...any)
}

// The numbers of turns of a step: from so many on a verdict is asked for.
const (
	minTurns = 3
	maxTurns = 12
)

func bisectCommand() *cobra.Command {
	b := &bisection{threshold: statistics.DefaultWorth, most: maxTurns}
	c := &cobra.Command{
		Use:   "bisect --good REV --bad REV --build COMMAND --run COMMAND",
		Short: "Find the revision that made a program slower",
		Long: `Finds the first slower revision between a good and a bad one, in a git
repository. Each step builds a revision in a work tree of its own and takes it
interleaved with the good one, as often as it needs to tell. Revisions that do not
build, or that stay undecided, are left out.

With --exact, each step is one exact run of both sides, which count instructions:
slower is then what executes more.

It can be stopped at any time; the same command goes on where it was.`,
		Example: `  entelon bisect --good v3.4.0 --bad main --build 'go build -o engraved .' --run './engraved --scores 100'
  entelon bisect --good v3.4.0 --bad main --build make --run './inkraster 50' --function ink::Page::fill --threshold 10%
  entelon bisect --good v3.4.0 --bad main --build make --run './inkraster 5' --exact --threshold 0.1%`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			b.say = func(format string, args ...any) {
				fmt.Fprintf(terminal.PlainWriter{To: os.Stderr}, "entelon: "+format+"\n", args...)
			}
			return b.find(cmd)
		},
	}
	f := c.Flags()
	f.StringVar(&b.good, "good", "", "a `REVISION` that is fast")
	f.StringVar(&b.bad, "bad", "HEAD", "a later `REVISION` that is slow")
	f.StringVar(&b.build, "build", "", "the `COMMAND` that builds, for the shell, run at the top of the work tree")
	f.StringVar(&b.run, "run", "", "the `COMMAND` that is measured, as words without quotes, run there, too")
	f.StringVar(&b.function, "function", "", "look at what this function costs in total, not at the whole; full or short `NAME`, with * and ?")
	f.Var(&b.threshold, "threshold", "slower by at least this")
	f.IntVar(&b.most, "turns", maxTurns, "at most this `NUMBER` of takes of each side in a step")
	f.BoolVar(&b.exact, "exact", false, "count instead of sampling: one exact run of each side decides a step, of a change of a thousandth, too")
	f.BoolVar(&b.again, "again", false, "forget what is known and begin anew")
	for _, name := range []string{"good", "build", "run"} {
		_ = c.MarkFlagRequired(name)
	}
	return c
}

// find asks about revisions until the first slower one is known.
func (b *bisection) find(cmd *cobra.Command) error {
	ctx := cmd.Context()
	if b.exact {
		b.most = 1
	} else if b.most < minTurns || b.most > 100 {
		return fmt.Errorf("--turns %d: give a number from %d to 100", b.most, minTurns)
	}
	if len(strings.Fields(b.run)) == 0 || strings.ContainsAny(b.run, `"'`) {
		return fmt.Errorf("--run %q: quotes are not supported here; put a command that needs them into a script", b.run)
	}
	var err error
	if b.repo, err = openRepository(ctx, b.good, b.bad); err != nil {
		return err
	}
	if b.state, err = b.repo.open(b.key(), b.again); err != nil {
		return err
	}
	b.search = bisect.Search{Len: len(b.repo.revisions), Known: map[int]bisect.Answer{}}
	for i, rev := range b.repo.revisions {
		// What another version wrote in other words is asked again.
		if a := b.state.Answers[rev.hash]; a == bisect.Good || a == bisect.Bad || a == bisect.Undecided {
			b.search.Known[i] = a
		}
	}
	if n := len(b.search.Known); n > 0 {
		b.say("resuming: %d of %d revisions are already judged", n, b.search.Len)
	}
	// The bad one is slower, or there is nothing to look for.
	last := b.search.Len - 1
	if b.search.Known[last] == "" {
		answer, err := b.ask(ctx, last)
		if err != nil {
			return err
		}
		if answer != bisect.Bad {
			return errors.Join(b.repo.clean(ctx), fmt.Errorf("%s is not shown to be slower than %s by %s; there is nothing to look for", b.bad, b.good, b.threshold.String()))
		}
	}
	for {
		at, ok := b.search.Next()
		if !ok {
			break
		}
		b.say("about %d steps left", b.search.Left())
		if _, err := b.ask(ctx, at); err != nil {
			return err
		}
	}
	if err := b.tell(cmd); err != nil {
		return err
	}
	return b.repo.clean(ctx)
}

// key tells one bisection from another.
func (b *bisection) key() string {
	return strings.Join([]string{b.repo.good.hash, b.repo.revisions[len(b.repo.revisions)-1].hash, b.build, b.run, b.function, b.threshold.String(), fmt.Sprint(b.exact)}, "\x00")
}

// ask builds a revision, interleaves it with the good one, and keeps the answer.
func (b *bisection) ask(ctx context.Context, at int) (bisect.Answer, error) {
	rev := b.repo.revisions[at]
	b.say("%s %s", rev.short(), rev.subject)
	answer, err := b.measure(ctx, rev)
	if err != nil {
		return "", err
	}
	b.search.Known[at], b.state.Answers[rev.hash] = answer, answer
	return answer, b.state.write()
}

func (b *bisection) measure(ctx context.Context, rev revision) (bisect.Answer, error) {
	if err := b.repo.build(ctx, goodTree, b.repo.good, b.build); err != nil {
		return "", fmt.Errorf("the good revision cannot be built, so there is nothing to compare with: %w", err)
	}
	if err := b.repo.build(ctx, probeTree, rev, b.build); err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		b.say("  does not build, left out: %v", err)
		return bisect.Undecided, nil
	}
	if err := b.state.forget(rev); err != nil {
		return "", err
	}
	for turn := 1; turn <= b.most; turn++ {
		for _, tree := range []string{goodTree, probeTree} {
			if err := b.take(ctx, tree, rev, turn); err != nil {
				return "", err
			}
		}
		if turn < minTurns && !b.exact {
			continue
		}
		answer, text, err := b.verdict(rev, turn)
		if err != nil {
			return "", err
		}
		if answer != bisect.Undecided || turn == b.most {
			after := fmt.Sprintf("%d turns", turn)
			if b.exact {
				after = "one exact run of each"
			}
			b.say("  %s after %s: %s", map[bisect.Answer]string{bisect.Good: "not slower", bisect.Bad: "slower", bisect.Undecided: "undecided, left out"}[answer], after, text)
			return answer, nil
		}
	}
	return bisect.Undecided, nil
}

// tell names the revision and shows what it changed.
func (b *bisection) tell(cmd *cobra.Command) error {
	at, orElse := b.search.First()
	rev := b.repo.revisions[at]
	out := cmd.OutOrStdout()
	fmt.Fprintf(out, "first slower revision: %s %s\n", rev.hash, rev.subject)
	if len(orElse) > 0 {
		fmt.Fprintln(out, "or one of these before it, which stayed undecided:")
		for _, i := range orElse {
			fmt.Fprintf(out, "  %s %s\n", b.repo.revisions[i].hash, b.repo.revisions[i].subject)
		}
	}
	fmt.Fprintln(out)
	x := &comparing.Comparison{Format: "text", Limit: 12, Scale: string(scales.ByRun), Limits: []string{b.threshold.String()},
		Baseline: []string{b.state.pattern(rev, goodTree)}, Candidate: []string{b.state.pattern(rev, probeTree)}, Rules: os.DevNull}
	if b.function != "" {
		x.Limits = append(x.Limits, b.function+"="+b.threshold.String())
	}
	_, err := x.Run(cmd)
	return err
}
