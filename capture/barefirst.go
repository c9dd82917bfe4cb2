package capture

import (
	"context"
	"fmt"
	"io"

	"entelon/capture/launch"
	"entelon/core/profile"
)

// BareFirst runs a command without sampling, as often as its settings say, and between
// these with it, so that the take that follows makes the last pair complete.
func BareFirst(ctx context.Context, o Options) (*profile.Bare, error) {
	var out *profile.Bare
	var pairs []profile.Pair
	n := max(1, o.Settings.BarePairs)
	for i := range n {
		b, err := launch.Bare(ctx, o.Launching())
		if err != nil {
			return nil, err
		}
		out = b
		p := profile.Pair{BareNS: b.DurationNS, BareCPUNS: b.CPUNS}
		if i < n-1 {
			quiet := o
			quiet.Stdout, quiet.Work, quiet.Bare, quiet.Progress, quiet.Notice = io.Discard, nil, nil, nil, nil
			r, err := Collect(ctx, quiet, NoSink{})
			if err != nil {
				return nil, err
			}
			r.Wait()
			if r.Take.Facts.EndedBy != "exit" {
				return nil, fmt.Errorf("pair %d of runs with and without sampling was not finished: the command did not end by itself", i+1)
			}
			p.SampledNS, p.SampledCPUNS = r.Take.Facts.DurationNS, r.CPUNS
		}
		pairs = append(pairs, p)
	}
	out.Pairs = pairs
	return out, nil
}

// compareBare completes the last pair.
func compareBare(b *profile.Bare, durationNS, cpuNS int64) {
	if len(b.Pairs) == 0 {
		return
	}
	last := &b.Pairs[len(b.Pairs)-1]
	last.SampledNS, last.SampledCPUNS = durationNS, cpuNS
}
