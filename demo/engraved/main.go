// Command engraved is the engraving service of a made-up sheet-music shop: it
// reads a score, spaces its measures, groups beams, routes slurs around the
// note heads, places lyrics and draws pages. It is there to be measured.
//
// One source makes four builds. 3.4.0 is sound. 3.5.0 (the build tag v350) brought
// a feature and two regressions: slurs ask the skyline at every lift, and glyphs
// are never found again. 3.5.1 (v350 and v351) mends the first, 3.6.0 (v350, v351
// and v360) the second, and draws a border that is wanted.
//
// With --scores it also drives itself over HTTP with that many scores and
// ends; without, it serves until it is told to end.
package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	_ "net/http/pprof" // the service's own runtime profiles, under /debug/pprof/
	"os"
	"os/signal"
	label "runtime/pprof"
	"strings"
	"sync"
	"syscall"
	"time"

	"entelon/demo/engraved/beam"
	"entelon/demo/engraved/lyric"
	"entelon/demo/engraved/page"
	"entelon/demo/engraved/score"
	"entelon/demo/engraved/slur"
	"entelon/demo/engraved/spacing"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:0", "the address to serve on")
	scores := flag.Int("scores", 0, "drive the service with this many scores, then end")
	workers := flag.Int("workers", 2, "how many scores are asked for at a time")
	forever := flag.Bool("drive", false, "drive the service until it is told to end")
	flag.Parse()
	if err := run(*listen, *scores, *workers, *forever); err != nil {
		slog.Error("engraved ends", "error", err)
		os.Exit(1)
	}
}

func run(listen string, scores, workers int, forever bool) error {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return err
	}
	http.HandleFunc("POST /engrave", engrave)
	srv := &http.Server{ReadHeaderTimeout: 5 * time.Second}
	served := make(chan error, 1)
	go func() { served <- srv.Serve(l) }()
	base := "http://" + l.Addr().String()
	fmt.Printf("engraved %s at %s\n", page.Version, base)
	if scores > 0 || forever {
		begin := time.Now()
		n, bytes, err := drive(ctx, base, scores, workers, forever)
		if err != nil {
			return err
		}
		fmt.Printf("%d scores, %d bytes, %.2f s\n", n, bytes, time.Since(begin).Seconds())
		return srv.Close()
	}
	select {
	case <-ctx.Done():
		return srv.Close()
	case err := <-served:
		return err
	}
}

// engrave answers with the pages of the score in the request's body.
func engrave(w http.ResponseWriter, r *http.Request) {
	s, err := score.Read(http.MaxBytesReader(w, r.Body, 4<<20))
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	w.Header().Set("Content-Type", "image/svg+xml")
	defer label.SetGoroutineLabels(r.Context()) // the next request on this connection is another work
	if _, err := io.WriteString(w, Engrave(r.Context(), s)); err != nil {
		slog.Warn("a page was not delivered", "error", err)
	}
}

// Engrave makes pages of a score. It says of its work for which part it is, and
// which step.
func Engrave(ctx context.Context, s *score.Score) string {
	var out strings.Builder
	for _, part := range s.Parts {
		of := label.WithLabels(ctx, label.Labels("part", part.Name))
		step := func(name string) context.Context { return label.WithLabels(of, label.Labels("span", name)) }
		group, route, place, draw := step("group"), step("route"), step("place"), step("draw")
		label.SetGoroutineLabels(step("space"))
		lines := spacing.Justify(part, spacing.PageWidth)
		for _, line := range lines {
			label.SetGoroutineLabels(group)
			beams := beam.Group(line)
			label.SetGoroutineLabels(route)
			slurs := slur.Route(line)
			label.SetGoroutineLabels(place)
			words := lyric.Place(line)
			label.SetGoroutineLabels(draw)
			page.Draw(&out, line, beams, slurs, words)
		}
	}
	return out.String()
}

// drive asks for scores, several at a time, and reads every answer.
func drive(ctx context.Context, base string, scores, workers int, forever bool) (n, bytes int64, err error) {
	var mu sync.Mutex
	var wg sync.WaitGroup
	next := 0
	take := func() int {
		mu.Lock()
		defer mu.Unlock()
		if (!forever && next >= scores) || ctx.Err() != nil || err != nil {
			return -1
		}
		next++
		return next
	}
	for range workers {
		wg.Go(func() {
			for i := take(); i >= 0; i = take() {
				size, e := ask(base, score.Compose(int64(i%40)))
				mu.Lock()
				if e != nil {
					err = e
				}
				n++
				bytes += size
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	return n, bytes, err
}

func ask(base, text string) (int64, error) {
	resp, err := http.Post(base+"/engrave", "text/plain", strings.NewReader(text))
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return 0, fmt.Errorf("the service answered %s", resp.Status)
	}
	return io.Copy(io.Discard, resp.Body)
}
