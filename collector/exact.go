package collector

import (
	"context"
	"errors"
	"time"

	"entelon/capture"
	"entelon/capture/pairing"
	"entelon/codec/take"
	"entelon/core/profile"
	"entelon/exact/session"
	"entelon/symbol"
)

// tellEvery is how often it is said how long an exact run has gone on.
const tellEvery = time.Second

// exactly makes an exact take, and gives it to the sink when it is whole: until then there is
// nothing to be shown of it. broke is what went wrong with the sink.
func exactly(ctx context.Context, set profile.Settings, finder *symbol.Finder, progress func(capture.Progress), sink pairing.Sink) (broke, err error) {
	began := time.Now()
	over := make(chan struct{})
	defer close(over)
	go func() {
		for tick := time.NewTicker(tellEvery); ; {
			select {
			case <-over:
				tick.Stop()
				return
			case <-tick.C:
				progress(capture.Progress{Elapsed: time.Since(began)})
			}
		}
	}()
	t, err := session.Apart(ctx, set, finder, take.Limits{})
	if err != nil {
		return nil, err
	}
	broke = sink.Begin(t.Settings, t.Machine)
	if broke == nil {
		broke = errors.Join(sink.Append(t.Profile), sink.Facts(t.Facts))
	}
	return broke, nil
}
