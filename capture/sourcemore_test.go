package capture

import (
	"context"
	"errors"
	"strings"
	"sync/atomic"
	"testing"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/resolve/replay"
	"entelon/symbol"
)

// drum is a made-up source: an engraving machine that tells by the turns of its drum
// where its program was.
type drum struct {
	places  []uint64
	stopped atomic.Bool
	closed  bool
	fault   error
}

func (d *drum) Next(v raw.Visitor) bool {
	if len(d.places) == 0 || d.stopped.Load() {
		return false
	}
	at := uint64(1000 - 10*len(d.places))
	v.Visit(&raw.Record{Kind: raw.Sampled, PID: 1, TID: 1, Time: at, Sample: &raw.Sample{Period: 3, Chain: d.places[:1]}})
	d.places = d.places[1:]
	return true
}

func (d *drum) Stop() error    { d.stopped.Store(true); return nil }
func (d *drum) Err() error     { return d.fault }
func (d *drum) Dropped() int64 { return 0 }
func (d *drum) Close() error   { d.closed = true; return nil }

// drumWorld is what its places are called.
func drumWorld() *replay.Recording {
	file := raw.Mapping{Start: 0x1000, End: 0x2000, Name: "/drum/score"}
	return &replay.Recording{
		Mappings: map[uint32][]raw.Mapping{1: {file}},
		Modules: []*replay.Module{{
			Mapping: file, Kind: profile.KindOwn, Readable: true, Places: map[uint64]uint64{0x10: 0x10, 0x20: 0x20},
			Located: map[uint64][]symbol.Location{0x10: {{Name: "stamp", Entry: true}}, 0x20: {{Name: "ink", Entry: true}}},
		}},
	}
}

// TestASourceMore: a source is one type; takes of it are as any other.
func TestASourceMore(t *testing.T) {
	given := Given{
		Settings: profile.Settings{Program: "drum", Build: "1"}, World: replay.NewWorld(drumWorld()),
		Columns: []measure.Column{{Name: "turns", Label: "turns", Unit: measure.Count}}, Origin: 900,
	}
	d := &drum{places: []uint64{0x1010, 0x1020, 0x1010}, fault: errors.New("its belt slipped")}
	res, err := From(t.Context(), d, given, NoSink{})
	if err != nil || res.SinkErr != nil {
		t.Fatal(err, res.SinkErr)
	}
	p := res.Take.Profile
	if got := replay.Stacks(p); got != "ink 1\nstamp 2\n" || p.Total(0) != 9 || p.Check() != nil {
		t.Errorf("%d turns:\n%s", p.Total(0), got)
	}
	if p.Samples.Time[0] != 70 || !d.closed || res.Take.Facts.EndedBy != "exit" || res.Take.Facts.Samples != 3 {
		t.Errorf("%+v %v", res.Take.Facts, p.Samples.Time)
	}
	if w := res.Take.Facts.Warnings; len(w) != 1 || !strings.Contains(w[0].Text, "belt slipped") {
		t.Errorf("%+v", w)
	}
	// One who has enough ends it.
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	d = &drum{places: make([]uint64, 1)}
	if _, err := From(ctx, d, given, NoSink{}); err != nil || !d.closed {
		t.Errorf("%v, closed %v", err, d.closed)
	}
	// A sink that takes nothing is told at once.
	d = &drum{}
	if _, err := From(t.Context(), d, given, brokenSink{}); err == nil || !d.closed {
		t.Errorf("%v, closed %v", err, d.closed)
	}

}

type brokenSink struct{ NoSink }

func (brokenSink) Begin(profile.Settings, profile.Machine) error {
	return errors.New("there is no paper")
}
