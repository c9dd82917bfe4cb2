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

// Since waits for what is still on its way, and returns what arrived since a time, with what is to be said
// of that.
func (r *Receiver) Since(began time.Time, wait time.Duration) (Received, []profile.Warning) {
	time.Sleep(wait)
	got := r.Got(began)
	var out []profile.Warning
	if len(got.Spans) == 0 && got.Bad == 0 {
		out = append(out, profile.Warning{Code: "told-none", Text: "No span was sent to " + r.Address() + ".", Remedy: "Set " + Endpoint + "=http://" + r.Address() + " in the environment of what sends them."})
	}
	if n := got.NoRoom + got.LetGo; n > 0 {
		out = append(out, profile.Warning{Code: "told-lost", Text: fmt.Sprintf("%d spans that were sent are lost: there was no room for more.", n), Remedy: "Have the program send fewer of them, or take for a shorter time."})
	}
	if got.Bad > 0 {
		out = append(out, profile.Warning{Code: "told-bad", Text: fmt.Sprintf("%d of %d requests with spans could not be read, the first because %.200s.", got.Bad, got.Requests, got.Why), Remedy: "Have the program send them by OpenTelemetry's protocol."})
	}
	return got, out
}
