package collector

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"entelon/capture"
	"entelon/codec/take"
	"entelon/server/api"
)

// growth sends a take's file as it grows, and asks whether it shall end.
type growth struct {
	w     *Collector
	id    string
	path  string
	whole func() int64 // how much of the file are whole blocks
	stop  func()
	ended chan struct{}
	mu    sync.Mutex
	last  capture.Progress
	sent  int64
	over  bool
	// digest is, where it is over, of the file that the server kept.
	digest string
	done   sync.WaitGroup
}

func (g *growth) progress(p capture.Progress) {
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

// maxAtOnce is the largest piece that is sent.
const maxAtOnce = 8 << 20

// once sends what is new in the file.
func (g *growth) once(ctx context.Context) error {
	g.mu.Lock()
	p := g.last
	g.mu.Unlock()
	for {
		var b []byte
		f, err := os.Open(g.path)
		if err == nil {
			b = make([]byte, max(0, min(maxAtOnce, g.whole()-g.sent)))
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
		var out api.GrowOut
		if err := g.w.server.ask(ctx, "collector/jobs/"+g.id+"/blocks", query, "application/octet-stream", b, &out); err != nil {
			return err
		}
		moved := out.Size != g.sent+int64(len(b)) // the server had another part of it
		g.sent = out.Size
		if out.Over {
			g.over, g.digest = true, out.Digest
		}
		if out.Stop || out.Over {
			g.stop()
		}
		if out.Over || len(b) == 0 && !moved {
			return nil
		}
	}
}

// ending is how a take ended, kept beside it until the server knows.
type ending struct {
	Error  string `json:"error"`
	Remedy string `json:"remedy"`
}

// Endings of the names of files in the spool.
const (
	takeEnd  = ".take"
	endFile  = ".end"
	keptFile = ".kept" // a take that the server ended without these very bytes
)

// spoolPath names a file of a job in the spool.
func (w *Collector) spoolPath(id, kind string) string { return filepath.Join(w.spool, id+kind) }

// jobID is what a job's number looks like; it becomes the name of a file here,
// whoever the server is.
var jobID = regexp.MustCompile(`^[a-z0-9]{1,40}$`)

// keepEnding writes down how a take ended, or will have ended if nothing more is
// written.
func (w *Collector) keepEnding(id string, e ending) {
	b, err := json.Marshal(e)
	if err == nil {
		err = os.WriteFile(w.spoolPath(id, endFile), b, 0o600)
	}
	if err != nil {
		w.log.Warn("how a take ended could not be kept in the spool", "job", id, "error", err)
	}
}

// finish sends the rest and the end, until the server has both. The take is
// removed here when the server has said that it keeps these very bytes.
func (g *growth) finish(e ending) {
	g.done.Wait()
	for wait := retryAfter; ; wait = min(2*wait, time.Minute) {
		done, err := g.deliver(e)
		if done {
			return
		}
		var refused refusal
		if errors.As(err, &refused) && refused.status < 500 && refused.status != http.StatusTooManyRequests && refused.status != http.StatusUnauthorized {
			g.w.log.Error("the server does not take what was collected; it is kept", "file", g.path, "error", err)
			return
		}
		if g.w.ending.Err() != nil {
			g.w.log.Warn("a take was not delivered; the next collector will do it", "file", g.path, "error", err)
			return
		}
		sleep(g.w.ending, wait)
	}
}

// deliver tries once to hand over the rest of a take and its end. done is set
// where nothing is left to try.
func (g *growth) deliver(e ending) (done bool, err error) {
	if err := g.once(context.Background()); err != nil {
		return false, err
	}
	size, digest, err := digestOf(g.path, g.whole())
	if err != nil {
		return false, err
	}
	kept := g.digest
	if !g.over {
		var out api.JobOut
		in := api.JobEndIn{Error: e.Error, Remedy: e.Remedy, Size: size, Digest: digest}
		if err := g.w.server.post(context.Background(), "collector/jobs/"+g.id+"/end", in, &out); err != nil {
			return false, err
		}
		kept = out.Digest
	}
	if size > 0 && kept != digest {
		g.w.log.Error("the server ended this take without all of it; it is kept here", "file", g.w.spoolPath(g.id, keptFile))
		return true, errors.Join(os.Rename(g.path, g.w.spoolPath(g.id, keptFile)), removed(g.w.spoolPath(g.id, endFile)))
	}
	if err := errors.Join(removed(g.path), removed(g.w.spoolPath(g.id, endFile))); err != nil {
		g.w.log.Warn("a delivered take could not be removed", "error", err)
	}
	return true, nil
}

// wholeBlocks is how much of a file are whole blocks: who wrote it may have been
// killed in the middle of one.
func wholeBlocks(path string) (int64, error) {
	f, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return 0, nil
	} else if err != nil {
		return 0, err
	}
	defer f.Close()
	return take.WholeBlocks(f)
}

// removed removes a file that may not be there.
func removed(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// digestOf returns the length of a file, of which so much counts, and the SHA-256
// of that; 0 for one that there is not.
func digestOf(path string, most int64) (size int64, digest string, err error) {
	f, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return 0, "", nil
	} else if err != nil {
		return 0, "", err
	}
	defer f.Close()
	h := sha256.New()
	size, err = io.Copy(h, io.LimitReader(f, most))
	return size, hex.EncodeToString(h.Sum(nil)), err
}

// leftOver delivers takes that a collector before this one did not.
func (w *Collector) leftOver() {
	entries, err := os.ReadDir(w.spool)
	if err != nil {
		w.log.Error("the spool cannot be read; what a collector left there is not delivered", "error", err)
		return
	}
	seen := map[string]bool{}
	for _, x := range entries {
		kind := filepath.Ext(x.Name())
		id := strings.TrimSuffix(x.Name(), kind)
		if kind != takeEnd && kind != endFile || !x.Type().IsRegular() || !jobID.MatchString(id) || seen[id] {
			continue
		}
		seen[id] = true
		e := ending{Error: "the collector ended while it made this take"}
		if b, err := os.ReadFile(w.spoolPath(id, endFile)); err == nil {
			if err := json.Unmarshal(b, &e); err != nil {
				w.log.Warn("how a take ended cannot be read", "file", x.Name(), "error", err)
			}
		}
		path := w.spoolPath(id, takeEnd)
		whole, err := wholeBlocks(path)
		if err != nil {
			w.log.Error("a take that was left cannot be read; it stays", "file", path, "error", err)
			continue
		}
		g := &growth{w: w, id: id, path: path, whole: func() int64 { return whole }, stop: func() {}, ended: make(chan struct{})}
		w.log.Info("delivering what was collected before", "file", g.path)
		w.begin(id)
		w.jobs.Go(func() {
			defer w.done(id)
			g.finish(e)
		})
	}
}
