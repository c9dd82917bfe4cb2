// Command platesetter is the machine of a made-up sheet-music shop that exposes printing plates, one
// after the other, from a queue. It is there to be measured.
//
// It runs as two processes, or three. A clerk has pages engraved, by the service that --engraved names or,
// without one, at times of his own, and puts them into the queue. The setter takes one after the other out
// of it, exposes a plate for each, and gives it back. Both tell their spans by OpenTelemetry's protocol where
// OTEL_EXPORTER_OTLP_ENDPOINT says. The setter's clock is 3.7 seconds ahead and gains 40 millionths. With
// --log, on standard error stands when each plate was exposed and how long its page was in the queue, by the
// right clock, in nanoseconds.
package main

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"

	"entelon/demo/engraved/score"
)

const (
	ahead = 3_700_000_000
	gains = 40e-6

	order = 16 // pages, and then it is a while until the next one comes
	pause = 600 * time.Millisecond
)

var (
	started = time.Now()
	trace   = fmt.Sprintf("%032x", os.Getpid()) // the setter's is that of who started it
)

// ours is a time by the right clock, and theirs the same by the setter's.
func ours(t time.Time) int64 { return t.UnixNano() }
func theirs(t time.Time) int64 {
	return t.UnixNano() + ahead + int64(gains*float64(t.Sub(started)))
}

// shop is what is to be done.
type shop struct {
	engraved string
	pages    int
	workers  int
	expose   time.Duration // of a plate, at least
	log      bool
}

func main() {
	var s shop
	setter := flag.Bool("set", false, "be the setter: pages come on standard input")
	flag.StringVar(&s.engraved, "engraved", "", "the engraving service, which is started for a while")
	flag.IntVar(&s.pages, "pages", 240, "how many pages")
	flag.IntVar(&s.workers, "workers", 2, "how many pages are asked for at a time")
	flag.DurationVar(&s.expose, "expose", 4*time.Millisecond, "how long a plate is exposed at least")
	flag.BoolVar(&s.log, "log", false, "say when each plate was exposed")
	flag.Parse()
	err := s.run(*setter)
	if err != nil {
		fmt.Fprintln(os.Stderr, "platesetter:", err)
		os.Exit(1)
	}
}

func (s *shop) run(setter bool) error {
	if setter {
		trace = fmt.Sprintf("%032x", os.Getppid())
		return s.set()
	}
	return s.clerk()
}

// clerk has pages engraved, faster than they are exposed now and then.
func (s *shop) clerk() (err error) {
	words := []string{"--set", "--expose", s.expose.String()}
	if s.log {
		words = append(words, "--log")
	}
	setter := exec.Command(os.Args[0], words...)
	setter.Stderr = os.Stderr
	queue, err := setter.StdinPipe()
	if err != nil {
		return err
	}
	plates, err := setter.StdoutPipe()
	if err != nil {
		return err
	}
	if err := setter.Start(); err != nil {
		return err
	}
	received := make(chan error, 1)
	go func() { received <- receive(bufio.NewScanner(plates)) }()
	put := func(n int) error {
		began := time.Now()
		if _, err := fmt.Fprintln(queue, n, began.UnixNano()); err != nil {
			return err
		}
		return tell("clerk", span(fmt.Sprintf("%016x", n+1), "put page", ours(began), ours(time.Now()), ""))
	}
	if s.engraved != "" {
		err = s.engrave(put)
	} else {
		for n := 0; n < s.pages && err == nil; n++ {
			if n%10 > 3 {
				time.Sleep(14 * time.Millisecond)
			}
			err = put(n)
		}
	}
	return cmp.Or(err, queue.Close(), <-received, setter.Wait())
}

// engrave starts the engraving service, asks it for pages, and puts each where it belongs.
func (s *shop) engrave(put func(n int) error) error {
	service := exec.Command(s.engraved)
	service.Stderr = os.Stderr
	says, err := service.StdoutPipe()
	if err != nil {
		return err
	}
	if err := service.Start(); err != nil {
		return err
	}
	line, err := bufio.NewReader(says).ReadString('\n')
	if err != nil {
		return errors.Join(fmt.Errorf("the service does not say where it is: %w", err), service.Process.Kill())
	}
	at := line[strings.LastIndexByte(strings.TrimSpace(line), ' ')+1:]
	var mu sync.Mutex
	var wg sync.WaitGroup
	next := 0
	for range s.workers {
		wg.Go(func() {
			for {
				mu.Lock()
				n := next
				next++
				stop := err != nil || n >= s.pages
				if n > 0 && n%order == 0 && !stop {
					time.Sleep(pause)
				}
				mu.Unlock()
				if stop {
					return
				}
				e := page(strings.TrimSpace(at), n)
				mu.Lock()
				err = cmp.Or(err, e)
				if err == nil {
					err = put(n)
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	if e := service.Process.Signal(os.Interrupt); e != nil {
		return cmp.Or(err, e)
	}
	return cmp.Or(err, service.Wait())
}

// page has a page engraved.
func page(at string, n int) error {
	began := time.Now()
	a, err := http.Post(at+"/engrave", "text/plain", strings.NewReader(score.Compose(int64(n%40))))
	if err != nil {
		return err
	}
	defer a.Body.Close()
	if _, err := io.Copy(io.Discard, a.Body); err != nil {
		return err
	}
	if a.StatusCode != http.StatusOK {
		return fmt.Errorf("the service answered %s", a.Status)
	}
	return tell("clerk", span(fmt.Sprintf("%016x", 4000+n), "have page engraved", ours(began), ours(time.Now()), ""))
}

// receive takes the plates that come out of the setter.
func receive(plates *bufio.Scanner) error {
	for plates.Scan() {
		got := ours(time.Now())
		var n int
		if _, err := fmt.Sscan(plates.Text(), &n); err != nil {
			return err
		}
		if err := tell("clerk", span(fmt.Sprintf("%016x", 2000+n), "receive plate", got, ours(time.Now()), fmt.Sprintf("%016x", 3000+n))); err != nil {
			return err
		}
	}
	return plates.Err()
}

// set exposes the plates.
func (s *shop) set() error {
	pages := bufio.NewScanner(os.Stdin)
	for pages.Scan() {
		var n int
		var put int64
		if _, err := fmt.Sscan(pages.Text(), &n, &put); err != nil {
			return err
		}
		began := time.Now()
		time.Sleep(s.expose + time.Duration(n%7)*time.Millisecond)
		ended := time.Now()
		out := time.Now()
		if _, err := fmt.Println(n); err != nil {
			return err
		}
		if s.log {
			fmt.Fprintf(os.Stderr, "exposed %d %d %d %d\n", n, ours(began), ours(ended), ours(began)-put)
		}
		if err := tell("platesetter", span(fmt.Sprintf("%016x", 1000+n), "expose", theirs(began), theirs(ended), fmt.Sprintf("%016x", n+1)), span(fmt.Sprintf("%016x", 3000+n), "put out", theirs(out), theirs(out), "")); err != nil {
			return err
		}
	}
	return pages.Err()
}

func span(id, name string, begin, end int64, link string) map[string]any {
	s := map[string]any{
		"traceId": trace, "spanId": id, "name": name, "kind": 1,
		"startTimeUnixNano": fmt.Sprint(begin), "endTimeUnixNano": fmt.Sprint(end),
	}
	if link != "" {
		s["links"] = []any{map[string]any{"traceId": trace, "spanId": link}}
	}
	return s
}

// tell sends spans, where somebody wants to be told.
func tell(service string, spans ...map[string]any) error {
	to := os.Getenv("OTEL_EXPORTER_OTLP_ENDPOINT")
	if to == "" {
		return nil
	}
	body, err := json.Marshal(map[string]any{"resourceSpans": []any{map[string]any{
		"resource": map[string]any{"attributes": []any{
			map[string]any{"key": "service.name", "value": map[string]any{"stringValue": service}},
			map[string]any{"key": "process.pid", "value": map[string]any{"intValue": fmt.Sprint(os.Getpid())}},
		}},
		"scopeSpans": []any{map[string]any{"spans": spans}},
	}}})
	if err != nil {
		return err
	}
	a, err := http.Post(to+"/v1/traces", "application/json", bytes.NewReader(body))
	if err != nil {
		return err
	}
	defer a.Body.Close()
	if a.StatusCode != http.StatusOK {
		return fmt.Errorf("the answer is %s", a.Status)
	}
	return nil
}
