package capture

import (
	"context"
	"errors"
	"time"

	"entelon/capture/pairing"
	"entelon/capture/rings"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/linux/perf"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// Given says what the records of a source mean that is no event of the kernel here: a
// recording, the trace of another machine, an emulator.
type Given struct {
	Settings profile.Settings // Program, Build and Measures at least
	Machine  profile.Machine
	World    resolve.World    // answers what the records do not tell
	Columns  []measure.Column // a sample of the source's event i counts as its period in the column i
	Origin   uint64           // on the clock of the records: when the take began
}

// From makes a take of what a source gives until it ends, or ctx is cancelled. An error
// means that the sink was not begun.
func From(ctx context.Context, src raw.Source, g Given, sink pairing.Sink) (*Result, error) {
	b := profile.NewBuilder()
	events := make([]*rings.Event, 0, len(g.Columns))
	for _, c := range g.Columns {
		events = append(events, &rings.Event{Role: rings.RoleCount, Column: b.Column(c)})
	}
	if err := sink.Begin(g.Settings, g.Machine); err != nil {
		return nil, errors.Join(err, src.Stop(), src.Close())
	}
	var facts profile.Facts
	r := resolve.New(b, &facts, g.World)
	r.Origin = g.Origin
	c := pairing.NewConsumer(events, &pairing.Measures{}, r, &facts)

	began := time.Now()
	finished, broke := make(chan error, 1), make(chan error, 1)
	go func() { finished <- c.Consume(src, sink, began, func() {}, perf.Now, broke) }()
	var err, sinkErr error
	endedBy := "exit"
	select {
	case err = <-finished:
	case <-ctx.Done():
		endedBy = "user"
		err = errors.Join(src.Stop(), <-finished)
	case sinkErr = <-broke:
		endedBy = "error"
		err = errors.Join(src.Stop(), <-finished)
	}
	if sinkErr == nil {
		select {
		case sinkErr = <-broke:
		default:
		}
	}
	// Until here the facts were the consumer's.
	facts.EndedBy, facts.DurationNS, facts.CutOff = endedBy, time.Since(began).Nanoseconds(), r.CutOff()
	if err = errors.Join(err, src.Close()); err != nil {
		facts.Warn("fault", "The source hit a fault: "+err.Error()+".", "Take it again; if it happens again, report it.")
	}
	if sinkErr == nil {
		sinkErr = sink.Facts(facts)
	}
	take := &profile.Take{Settings: g.Settings, Machine: g.Machine, Facts: facts, Profile: b.Profile(), Whole: sinkErr == nil}
	return &Result{Take: take, SinkErr: sinkErr, Wait: func() int { return 0 }, Signal: func(int) {}}, nil
}
