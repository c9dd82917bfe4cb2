package receive

import (
	"fmt"
	"time"

	"entelon/core/profile"
)

// Senders send what has ended in batches, every five seconds where nothing else is asked of them, and when
// they end themselves.
const (
	Batch = 6 * time.Second        // until what a program told lately has arrived
	OnWay = 500 * time.Millisecond // and what one told that has ended
)

// Endpoint is the variable that tells programs where to send their spans.
const Endpoint = "OTEL_EXPORTER_OTLP_ENDPOINT"

// A Mark is when a take began, as the receiver saw it.
type Mark struct {
	at     time.Time
	before Received // what was counted until then
	held   int      // spans
}

// Begin marks the beginning of a take.
func (r *Receiver) Begin() Mark {
	r.mu.Lock()
	defer r.mu.Unlock()
	return Mark{at: r.now(), before: r.counted(), held: len(r.got.Spans)}
}

// Since waits for what is still on its way, and returns what arrived and was lost since a take began, with
// what is to be said of that.
func (r *Receiver) Since(m Mark, wait time.Duration) (Received, []profile.Warning) {
	time.Sleep(wait)
	got := r.Got(m.at)
	got.Requests, got.Bad, got.NoRoom = got.Requests-m.before.Requests, got.Bad-m.before.Bad, got.NoRoom-m.before.NoRoom
	// Those that were held when it began went first, and are not missed.
	got.LetGo = max(0, got.LetGo-m.before.LetGo-m.held)
	var out []profile.Warning
	// Of one that outlives takes it is no wonder that most programs send nothing.
	if len(got.Spans) == 0 && got.Bad == 0 && !r.lasting {
		out = append(out, profile.Warning{Code: "told-none", Text: "No span was sent to " + r.Address() + ".", Remedy: "Set " + Endpoint + "=http://" + r.Address() + " in the environment of what sends them."})
	}
	if n := got.NoRoom + got.LetGo; n > 0 {
		out = append(out, profile.Warning{Code: "told-lost", Text: fmt.Sprintf("%d spans that were sent are lost: there was no room for more.", n), Remedy: "Have the program send fewer of them, or take for a shorter time."})
	}
	if got.Bad > 0 {
		out = append(out, profile.Warning{Code: "told-bad", Text: fmt.Sprintf("%d of %d requests with spans could not be read, the last because %.200s.", got.Bad, got.Requests, got.Why), Remedy: "Have the program send them by OpenTelemetry's protocol."})
	}
	return got, out
}
