package comparing

import (
	"fmt"
	"strings"
	"text/tabwriter"

	"entelon/cmd/entelon/terminal"
	"entelon/codec/verdict"
	"entelon/core/compare"
	"entelon/core/statistics"
)

// suspects prints what explains the difference.
func (x *Comparison) suspects(b *strings.Builder, v verdict.View) {
	if len(v.Suspects) == 0 {
		return
	}
	tw := tabwriter.NewWriter(b, 0, 0, 2, ' ', tabwriter.AlignRight)
	interval := "95 %"
	if v.Result.CallsCounted {
		interval = "range" // by what runs differ by themselves
	}
	fmt.Fprintf(tw, "share\tdifference\t%s\t  suspect\n", interval)
	for _, s := range v.Suspects {
		at := "the whole program"
		if len(s.Path) > 0 {
			at = terminal.Shown(v.Result.Name(s.Function()), x.full)
		}
		at += ": " + s.How(func(f int32) string { return terminal.Shown(v.Result.Name(f), x.full) })
		if c := v.Result.Caller(s); c >= 0 {
			at += ", under " + terminal.Shown(v.Result.Name(c), x.full)
		}
		sure := ""
		if s.Verdict != statistics.Slower && s.Verdict != statistics.Faster {
			sure = ", may be chance"
		}
		fmt.Fprintf(tw, "%.0f %%\t%s\t%s\t  %s%s\n", 100*s.Share, x.amount(v, s.Difference), verdict.Interval(v.Result, &s.Estimate, v.Unit), at, sure)
		if s.Split != [2]float64{} {
			n := s.Counts[0].Calls
			fmt.Fprintf(tw, "\t\t\t  calls %s → %s: %s; cost of a call: %s\n", terminal.Thin(int64(n[0])), terminal.Thin(int64(n[1])), x.amount(v, s.Split[0]), x.amount(v, s.Split[1]))
		}
	}
	_ = tw.Flush() // into memory
	b.WriteString("\n")
}

func (x *Comparison) amount(v verdict.View, d float64) string {
	return verdict.Amount(v.Result, d, v.Unit)
}

// table prints function by function.
func (x *Comparison) table(b *strings.Builder, v verdict.View) {
	tw := tabwriter.NewWriter(b, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(tw, "self\t→\tdifference\ttotal\t→\tdifference\tratio\t  verdict\t  function")
	plain := func(f float64) string { return strings.TrimPrefix(x.amount(v, f), "+") }
	for i, r := range v.Result.Rows {
		if x.Limit > 0 && i == x.Limit {
			fmt.Fprintf(tw, "\t\t\t\t\t\t\t  \t  and %d more; --limit 0 shows all\n", len(v.Result.Rows)-i)
			break
		}
		what := string(r.State)
		if r.State == compare.Same || r.State == compare.Changed {
			what = verdict.Word(r.Self.Verdict, v.Unit)
			if r.Self.Verdict != statistics.Slower && r.Self.Verdict != statistics.Faster && r.Certain {
				what = verdict.Word(r.Total.Verdict, v.Unit) + " in total"
			}
		} else if !r.Certain {
			what += ", rare"
		}
		ratio := ""
		if r.Self.Ratio > 0 {
			ratio = fmt.Sprintf("×%.2f", r.Self.Ratio)
		}
		name := terminal.Shown(r.Name, x.full)
		if r.Match != nil {
			name += " (was " + terminal.Shown(r.Match.Baseline, x.full) + ": " + r.Match.Reason + ")"
		}
		fmt.Fprintf(tw, "%s\t%s\t%s\t%s\t%s\t%s\t%s\t  %s\t  %s\n", plain(r.Self.Baseline), plain(r.Self.Candidate), x.amount(v, r.Self.Difference),
			plain(r.Total.Baseline), plain(r.Total.Candidate), x.amount(v, r.Total.Difference), ratio, what, name)
	}
	_ = tw.Flush() // into memory
}
