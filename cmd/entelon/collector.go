package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"entelon/sampler"
	"entelon/server"
	"entelon/symbol"
)

func collectorCommand() *cobra.Command {
	var to, token, name, spool string
	var again bool
	var symbols symbolFlags
	c := &cobra.Command{
		Use:   "collector --to URL",
		Short: "Collect on this machine for a server",
		Long: `Makes the takes on this machine that people ask a server for. It asks the server
for work, so that nothing has to reach this machine, and it is the only part that
needs the rights of sampling. Takes are kept in a folder until the server has
them: what was collected outlives a server, a database and a collector that ends.`,
		Example: `  ENTELON_TOKEN=… entelon collector --to https://perf.shop.example:7420
  entelon collector --to http://127.0.0.1:7420 --name press-2 --spool /var/spool/entelon`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			base, err := url.Parse(to)
			if err != nil || base.Host == "" || (base.Scheme != "http" && base.Scheme != "https") {
				return fmt.Errorf("--to %q is not the address of a server; write it as http://HOST:PORT", to)
			}
			if token == "" {
				return errors.New("a collector needs a token with the role collect; make one on the page, under You, and give it in $ENTELON_TOKEN")
			}
			if name == "" {
				name = sampler.Machine().Host
			}
			if err := os.MkdirAll(spool, 0o700); err != nil {
				return fmt.Errorf("--spool: %w", err)
			}
			finder, err := symbols.finder()
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			if again {
				return keepCollecting(ctx)
			}
			w := &collector{base: base, token: token, name: name, spool: spool, finder: finder, log: slog.New(slog.NewTextHandler(os.Stderr, nil)), client: &http.Client{Timeout: time.Minute}}
			return w.run(ctx)
		},
	}
	c.Flags().StringVar(&to, "to", "http://127.0.0.1:7420", "the server's `URL`")
	c.Flags().StringVar(&token, "token", os.Getenv("ENTELON_TOKEN"), "a `TOKEN` with the role collect (default: $ENTELON_TOKEN)")
	c.Flags().StringVar(&name, "name", "", "the `NAME` of this collector (default: the machine's)")
	c.Flags().StringVar(&spool, "spool", filepath.Join(os.TempDir(), "entelon-collector"), "keep takes in this `FOLDER` until the server has them")
	c.Flags().BoolVar(&again, "keep", false, "start the collector again whenever it ends by itself")
	symbols.add(c)
	_ = c.MarkFlagDirname("spool")
	return c
}

// keepCollecting runs this very command as another process, and again whenever
// that ends.
func keepCollecting(ctx context.Context) error {
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("finding this program's own file: %w", err)
	}
	args := []string{self}
	for _, a := range os.Args[1:] {
		if a != "--keep" && a != "--keep=true" {
			args = append(args, a)
		}
	}
	b := &beside{log: slog.New(slog.NewTextHandler(os.Stderr, nil))}
	b.keep(ctx, args, nil, 0)
	<-ctx.Done()
	b.end()
	return nil
}

// collector makes takes for a server.
type collector struct {
	base   *url.URL
	token  string
	name   string
	spool  string
	finder *symbol.Finder
	log    *slog.Logger
	client *http.Client
	jobs   sync.WaitGroup
	ending context.Context // done when the collector shall end
}

// retryAfter is how long it waits where the server does not answer.
const retryAfter = time.Second

func (w *collector) run(ctx context.Context) error {
	w.ending = ctx
	w.leftOver(ctx)
	report := machineReport()
	quiet := false
	for ctx.Err() == nil {
		var next server.NextJobOut
		err := w.post(ctx, "collector/next", server.CollectorIn{Name: w.name, Report: report}, &next)
		var refused refusal
		switch {
		case ctx.Err() != nil:
		case errors.As(err, &refused) && (refused.status == http.StatusUnauthorized || refused.status == http.StatusForbidden):
			w.jobs.Wait()
			return err
		case err != nil:
			if !quiet {
				w.log.Warn("the server does not answer; trying again", "error", err)
			}
			quiet = true
			sleep(ctx, retryAfter)
		case next.Job != nil:
			w.jobs.Go(func() { w.do(ctx, next.Job) })
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

func (w *collector) do(ctx context.Context, j *server.JobForCollector) {
	end := server.JobEndIn{}
	switch j.Kind {
	case "take":
		w.take(ctx, j)
		return
	case "processes":
		list, err := sampler.Processes()
		if err != nil {
			end.Error = oneLine(err)
		}
		end.Answer = &server.ProcessesOut{Processes: []server.ProcessOut{}}
		for _, p := range list {
			end.Answer.Processes = append(end.Answer.Processes, server.ProcessOut(p))
		}
	case "count":
		end.Counts, end.Error, end.Remedy = w.count(ctx, j)
	default:
		end.Error = "this collector does not know how to do that; it is older than the server"
	}
	if err := w.post(ctx, "collector/jobs/"+j.ID+"/end", end, nil); err != nil {
		w.log.Warn("an answer was not delivered", "job", j.ID, "error", err)
	}
}

// count counts the calls of a function.
func (w *collector) count(ctx context.Context, j *server.JobForCollector) (out *server.CountOut, failed, remedy string) {
	if j.Count == nil {
		return nil, "no function is named", ""
	}
	set := j.Settings
	if len(set.PIDs) > 0 {
		set.PID, set.Command, set.Dir = 0, nil, ""
	}
	res, err := sampler.Count(ctx, sampler.CountOptions{
		Options: sampler.Options{Settings: set, Finder: w.finder, Tied: true}, Functions: []string{j.Count.Function}, Calls: j.Count.Calls,
	})
	if err != nil {
		return nil, strings.ReplaceAll(err.Error(), "\n", "; "), sampler.Remedy(err)
	}
	if len(set.Command) > 0 {
		res.Signal(int(syscall.SIGTERM)) // it was started to be counted
		go res.Wait()
	}
	x := countResult(res)
	out = &server.CountOut{Functions: []server.FunctionCount{}, DurationNS: x.DurationNS, CPUNS: x.CPUNS, Slowdown: x.Slowdown, Bounded: res.Bounded, Warnings: x.Warnings}
	for _, f := range x.Functions {
		n := server.FunctionCount{Name: f.Name, Calls: f.Calls, Callers: []server.CallerCount{}}
		for _, c := range f.Callers {
			n.Callers = append(n.Callers, server.CallerCount(c))
		}
		out.Functions = append(out.Functions, n)
	}
	return out, "", ""
}

// take makes a take into a file of the spool, which is sent as it grows.
func (w *collector) take(ctx context.Context, j *server.JobForCollector) {
	set := j.Settings
	if len(set.PIDs) > 0 {
		set.PID, set.Command, set.Dir = 0, nil, ""
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	sink := &fileSink{path: filepath.Join(w.spool, j.ID+".take")}
	g := &growth{w: w, id: j.ID, path: sink.path, stop: stop, ended: make(chan struct{})}
	g.done.Add(1)
	go g.send()
	res, err := sampler.Collect(ctx, sampler.Options{Settings: set, Progress: g.progress, Finder: w.finder, Tied: true}, sink)
	why, remedy := "", ""
	if err != nil {
		why, remedy = strings.ReplaceAll(err.Error(), "\n", "; "), sampler.Remedy(err)
		if err := sink.discard(); err != nil {
			w.log.Warn("a take that was not made left something behind", "error", err)
		}
	} else if err := sink.close(res.SinkErr); err != nil {
		why = oneLine(err)
	}
	if err == nil && len(set.Command) > 0 {
		// The command was asked for, to be sampled; it ends with the take, and
		// not only when the server has that.
		res.Signal(int(syscall.SIGTERM))
		go res.Wait()
	}
	close(g.ended)
	g.finish(why, remedy)
}

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
