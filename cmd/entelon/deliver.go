package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"entelon/sampler"
	"entelon/server"
)

// growth sends a take's file as it grows, and asks whether it shall end.
type growth struct {
	w     *collector
	id    string
	path  string
	stop  func()
	ended chan struct{}
	mu    sync.Mutex
	last  sampler.Progress
	sent  int64
	over  bool
	done  sync.WaitGroup
}

func (g *growth) progress(p sampler.Progress) {
	g.mu.Lock()
	g.last = p
	g.mu.Unlock()
}

// sendEvery is how often what a take has gained is sent.
const sendEvery = 500 * time.Millisecond

func (g *growth) send() {
	defer g.done.Done()
	tick := time.NewTicker(sendEvery)
	defer tick.Stop()
	for {
		select {
		case <-g.ended:
			return
		case <-tick.C:
			_ = g.once(context.Background()) // it is tried again; the end insists
		}
	}
}

// mostAtOnce is the largest piece that is sent.
const mostAtOnce = 8 << 20

// once sends what is new in the file.
func (g *growth) once(ctx context.Context) error {
	g.mu.Lock()
	p := g.last
	g.mu.Unlock()
	for {
		var b []byte
		f, err := os.Open(g.path)
		if err == nil {
			b = make([]byte, mostAtOnce)
			n, readErr := f.ReadAt(b, g.sent)
			b = b[:n]
			if readErr != nil && !errors.Is(readErr, io.EOF) {
				err = readErr
			}
			err = errors.Join(err, f.Close())
		} else if errors.Is(err, os.ErrNotExist) {
			err = nil // not begun yet
		}
		if err != nil {
			return err
		}
		query := url.Values{"at": {strconv.FormatInt(g.sent, 10)}, "elapsed_ns": {strconv.FormatInt(p.Elapsed.Nanoseconds(), 10)}, "samples": {strconv.FormatInt(p.Samples, 10)}, "lost": {strconv.FormatInt(p.Lost, 10)}}
		var out server.GrowOut
		if err := g.w.ask(ctx, "collector/jobs/"+g.id+"/blocks", query, "application/octet-stream", b, &out); err != nil {
			return err
		}
		moved := out.Size != g.sent+int64(len(b)) // the server had another part of it
		g.sent = out.Size
		if out.Over {
			g.over = true
		}
		if out.Stop || out.Over {
			g.stop()
		}
		if out.Over || len(b) == 0 && !moved {
			return nil
		}
	}
}

// finish sends the rest and the end, until the server has both; then the file goes.
func (g *growth) finish(why, remedy string) {
	g.done.Wait()
	for wait := retryAfter; ; wait = min(2*wait, time.Minute) {
		err := g.once(context.Background())
		if err == nil && !g.over {
			err = g.w.post(context.Background(), "collector/jobs/"+g.id+"/end", server.JobEndIn{Error: why, Remedy: remedy}, nil)
		}
		var refused refusal
		if errors.As(err, &refused) && refused.status < 500 {
			g.w.log.Error("the server does not take what was collected; it is kept", "file", g.path, "error", err)
			return
		}
		if err == nil {
			break
		}
		if g.w.ending.Err() != nil {
			g.w.log.Warn("a take was not delivered; the next collector will do it", "file", g.path, "error", err)
			return
		}
		sleep(g.w.ending, wait)
	}
	if err := os.Remove(g.path); err != nil && !errors.Is(err, os.ErrNotExist) {
		g.w.log.Warn("a delivered take could not be removed", "error", err)
	}
}

// leftOver delivers takes that a collector before this one did not.
func (w *collector) leftOver(ctx context.Context) {
	files, err := filepath.Glob(filepath.Join(w.spool, "*.take"))
	if err != nil {
		return // the pattern is good
	}
	for _, path := range files {
		g := &growth{w: w, id: strings.TrimSuffix(filepath.Base(path), ".take"), path: path, stop: func() {}, ended: make(chan struct{})}
		w.log.Info("delivering what was collected before", "file", path)
		w.jobs.Go(func() { g.finish("", "") })
	}
}

// refusal is an answer of the server that says no.
type refusal struct {
	status int
	text   string
}

func (r refusal) Error() string { return r.text }

func (w *collector) post(ctx context.Context, path string, in, out any) error {
	b, err := json.Marshal(in)
	if err != nil {
		return err
	}
	return w.ask(ctx, path, nil, "application/json", b, out)
}

func (w *collector) ask(ctx context.Context, path string, query url.Values, kind string, body []byte, out any) error {
	u := w.base.JoinPath("api/v1", path)
	u.RawQuery = query.Encode()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, u.String(), bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", kind)
	req.Header.Set("Authorization", "Bearer "+w.token)
	resp, err := w.client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, 8<<20))
	if err != nil {
		return err
	}
	if resp.StatusCode >= 300 {
		var e server.ErrorBody
		if err := json.Unmarshal(b, &e); err != nil || e.Error == "" {
			e.Error = "the server answered " + resp.Status
		}
		return refusal{resp.StatusCode, strings.TrimSuffix(e.Error+"; "+e.Remedy, "; ")}
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(b, out)
}
