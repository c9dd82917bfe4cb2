// platesetter draws pages and puts them into a queue, out of which another process, the setter, takes one
// after the other and exposes a plate for each, which it gives back. Both tell their spans by OpenTelemetry's protocol where
// OTEL_EXPORTER_OTLP_ENDPOINT says. The setter's clock is 3.7 seconds ahead and gains 40 millionths. On
// standard error stands when each plate was exposed and how long its page was in the queue, by the right
// clock, in nanoseconds.
package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"time"
)

const (
	pages = 240
	ahead = 3_700_000_000
	gains = 40e-6
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

func main() {
	var err error
	if len(os.Args) > 1 && os.Args[1] == "set" {
		trace = fmt.Sprintf("%032x", os.Getppid())
		err = set()
	} else {
		err = draw()
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "platesetter:", err)
		os.Exit(1)
	}
}

// draw draws the pages, faster than they are exposed now and then.
func draw() error {
	setter := exec.Command(os.Args[0], "set")
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
	for n := range pages {
		if n%10 > 3 {
			time.Sleep(14 * time.Millisecond)
		}
		began := time.Now()
		if _, err := fmt.Fprintln(queue, n, began.UnixNano()); err != nil {
			return err
		}
		if err := tell("engraved", span(fmt.Sprintf("%016x", n+1), "put page", ours(began), ours(time.Now()), "")); err != nil {
			return err
		}
	}
	if err := queue.Close(); err != nil {
		return err
	}
	if err := <-received; err != nil {
		return err
	}
	return setter.Wait()
}

// receive takes the plates that come out of the setter.
func receive(plates *bufio.Scanner) error {
	for plates.Scan() {
		got := ours(time.Now())
		var n int
		if _, err := fmt.Sscan(plates.Text(), &n); err != nil {
			return err
		}
		if err := tell("engraved", span(fmt.Sprintf("%016x", 2000+n), "receive plate", got, ours(time.Now()), fmt.Sprintf("%016x", 3000+n))); err != nil {
			return err
		}
	}
	return plates.Err()
}

// set exposes the plates.
func set() error {
	pages := bufio.NewScanner(os.Stdin)
	for pages.Scan() {
		var n int
		var put int64
		if _, err := fmt.Sscan(pages.Text(), &n, &put); err != nil {
			return err
		}
		began := time.Now()
		time.Sleep(time.Duration(4+n%7) * time.Millisecond)
		ended := time.Now()
		out := time.Now()
		if _, err := fmt.Println(n); err != nil {
			return err
		}
		fmt.Fprintf(os.Stderr, "exposed %d %d %d %d\n", n, ours(began), ours(ended), ours(began)-put)
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

// tell sends spans.
func tell(service string, spans ...map[string]any) error {
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
	a, err := http.Post(os.Getenv("OTEL_EXPORTER_OTLP_ENDPOINT")+"/v1/traces", "application/json", bytes.NewReader(body))
	if err != nil {
		return err
	}
	defer a.Body.Close()
	if a.StatusCode != http.StatusOK {
		return fmt.Errorf("the answer is %s", a.Status)
	}
	return nil
}
