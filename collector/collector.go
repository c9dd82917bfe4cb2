// Package collector works for a server on the machine where programs run: it asks for
// jobs, makes the takes within what this machine allows, keeps them in a spool until the
// server has them, and sends each while it grows. What was collected outlives a server, a
// database and a collector that ends.
//
// One goroutine asks for jobs, and each job has its own; of a take that grows another one
// sends what is new. A Collector's lock guards which jobs it works on, a Client's its
// session, and a growth's what was told of its progress.
package collector

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"entelon/collector/rights"
	"entelon/receive"
	"entelon/server/api"
	"entelon/symbol"
)

// Collector makes takes for a server.
type Collector struct {
	server *Client
	spool  string
	allow  *rights.Rights
	finder *symbol.Finder
	log    *slog.Logger
	jobs   sync.WaitGroup
	ending context.Context   // done when the collector shall end
	Spans  *receive.Receiver // of what programs tell of themselves; nil: nobody is listened to
	mu     sync.Mutex
	active map[string]bool // jobs that it works on
}

// New makes one that delivers from a spool, within what this machine allows.
func New(server *Client, spool string, allow *rights.Rights, finder *symbol.Finder, log *slog.Logger) *Collector {
	return &Collector{server: server, spool: spool, allow: allow, finder: finder, log: log}
}

func (w *Collector) begin(id string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.active == nil {
		w.active = map[string]bool{}
	}
	w.active[id] = true
}

func (w *Collector) done(id string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.active, id)
}

// doing are the jobs that it works on, so that the server sees which got lost.
func (w *Collector) doing() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	out := make([]string, 0, len(w.active))
	for id := range w.active {
		out = append(out, id)
	}
	return out
}

// ErrRefused is the error of a collector whose key the server does not know. Starting it
// again would change nothing.
var ErrRefused = errors.New("the server does not let this collector in")

// retryAfter is how long it waits where the server does not answer.
const retryAfter = time.Second

// Run works until ctx is cancelled; takes that are being made end with what they have.
func (w *Collector) Run(ctx context.Context) error {
	w.ending = ctx
	w.leftOver()
	report := Report()
	report.Allows = w.allow.Sentences()
	quiet := false
	for ctx.Err() == nil {
		var next api.NextJobOut
		err := w.server.post(ctx, "collector/next", api.CollectorIn{Report: report, Doing: w.doing()}, &next)
		var refused refusal
		switch {
		case ctx.Err() != nil:
		case errors.As(err, &refused) && (refused.status == http.StatusUnauthorized || refused.status == http.StatusForbidden):
			w.jobs.Wait()
			w.log.Error("the server does not let this collector in", "error", err)
			return ErrRefused
		case err != nil:
			if !quiet {
				w.log.Warn("the server does not answer; trying again", "error", err)
			}
			quiet = true
			sleep(ctx, retryAfter)
		case next.Job != nil:
			w.begin(next.Job.ID)
			w.jobs.Go(func() {
				defer w.done(next.Job.ID)
				w.do(ctx, next.Job)
			})
			quiet = false
		default:
			quiet = false
		}
	}
	w.jobs.Wait() // takes that are being made end with what they have
	return nil
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
