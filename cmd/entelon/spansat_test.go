package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/cmd/entelon/reading"
	"entelon/codec/take"
	"entelon/core/profile"
	"entelon/judge"
	"entelon/receive"
	"entelon/server/api"
)

// TestSpansThatAreSent: spans of two processes arrive while a take is made, and those of the one whose
// clock is wrong are put where they were, as its own log says; the time in the queue is theirs.
func TestSpansThatAreSent(t *testing.T) {
	mustSample(t)
	judge.Fairly(t, sentSpans)
}

func sentSpans(t *judge.Try) {
	dir := t.TempDir()
	program, file := filepath.Join(dir, "platesetter"), filepath.Join(dir, "x.take")
	if b, err := exec.Command("go", "build", "-o", program, "../../demo/platesetter").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	r := entelon(t.T, "take", "--spans-at", "127.0.0.1:0", "--out", file, "--", program, "--log")
	if r.code != 0 {
		t.Fatal(r.stderr)
	}
	exposed, queued := map[int][2]int64{}, int64(0)
	for _, line := range strings.Split(r.stderr, "\n") {
		var n int
		var begin, end, wait int64
		if k, _ := fmt.Sscanf(line, "exposed %d %d %d %d", &n, &begin, &end, &wait); k == 4 {
			exposed[n] = [2]int64{begin, end}
			queued += wait
		}
	}
	if len(exposed) != 240 {
		t.Fatalf("%d plates were exposed: %s", len(exposed), r.stderr)
	}
	x, err := take.ReadFile(file, take.Options{})
	if err != nil {
		t.Fatal(err)
	}
	said := ""
	for _, w := range x.Facts.Warnings {
		if w.Code == "told-clock" {
			said += w.Text
		} else if strings.HasPrefix(w.Code, "told-") {
			t.Errorf("%s: %s", w.Code, w.Text)
		}
	}
	if !strings.HasPrefix(said, "The clock of platesetter was 3.70 s ahead") || !strings.Contains(said, "millionths too fast") || !strings.Contains(said, "right within") {
		t.Errorf("of the clock it says %q", said)
	}
	p := x.Profile
	v, n, worst := &p.Intervals, 0, int64(0)
	for i, kind := range v.Kind {
		if kind != profile.IntervalSpan || profile.SpanNameOf(p, p.Frames[p.Stacks.Frame[v.Stack[i]]].Function) != "expose" {
			continue
		}
		want := exposed[n]
		n++
		begin := v.Start[i] + x.Facts.OriginUnixNS
		worst = max(worst, begin-want[0], want[0]-begin)
		if d := begin - want[0]; d < -100_000 || d > 100_000 {
			t.Errorf("plate %d is %d ns from where it was exposed", n, d)
		}
		if d := v.Duration[i] - (want[1] - want[0]); d < -5000 || d > 5000 {
			t.Errorf("plate %d took %d ns, and is said to have taken %d", n, want[1]-want[0], v.Duration[i])
		}
	}
	t.Logf("%s: at most %d ns from the truth", said, worst)
	if n != 240 {
		t.Errorf("%d spans are of plates", n)
	}
	names := map[string]reading.SpanNameJSON{}
	for _, s := range parse[reading.SpansJSON](t.T, "spans", file, "--json").Names {
		names[s.Name] = s
	}
	if q := names["expose, queued"]; q.Spans != 240 || names["put page"].Spans != 240 || names["receive plate, queued"].Spans < 100 {
		t.Errorf("spans are %+v", names)
	} else if d := float64(q.Total-queued) / float64(queued); d < -0.05 || d > 0.05 {
		t.Errorf("pages were in the queue for %d ns, and are said to have been for %d", queued, q.Total)
	}
}

// TestSpansAtBadAddresses: where nothing can be received is said before anything runs.
func TestSpansAtBadAddresses(t *testing.T) {
	for _, address := range []string{"nowhere", "127.0.0.1:99999", "192.0.2.1:4318"} {
		r := entelon(t, "take", "--spans-at", address, "--out", filepath.Join(t.TempDir(), "x.take"), "--", "true")
		if r.code == 0 || !strings.Contains(r.stderr, "--spans-at "+address) || strings.Count(r.stderr, "\n") != 1 {
			t.Errorf("%s: %d %q", address, r.code, r.stderr)
		}
	}
}

// TestCollectorReceivesSpans: what programs send to a collector is in the takes of that time, and what
// others send is not.
func TestCollectorReceivesSpans(t *testing.T) {
	mustSample(t)
	program := filepath.Join(folderForAll(t), "platesetter")
	if b, err := exec.Command("go", "build", "-o", program, "../../demo/platesetter").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	address := freeAddress(t)
	d := newDesk(t)
	d.collect("--spans-at", address)
	id := d.job(profile.Settings{Command: []string{program}, RateHz: 199})
	d.until(id, "its beginning", func(j api.JobOut) bool { return j.Samples > 0 || ended(j) })
	other := exec.Command(program)
	other.Env = append(os.Environ(), receive.Endpoint+"=http://"+address)
	if err := other.Start(); err != nil {
		t.Fatal(err)
	}
	defer other.Wait()
	take := d.delivered(id)
	for _, w := range take.Warnings {
		if w.Code == "told-none" || w.Code == "told-lost" || w.Code == "told-bad" || w.Code == "told-outside" {
			t.Errorf("%s: %s", w.Code, w.Text)
		}
	}
	var out api.SpansOut
	if status, body := d.ask("GET", "/takes/"+take.Take.Key+"/spans?span=expose", nil, &out); status != 200 {
		t.Fatalf("%d: %s", status, body)
	}
	counts := map[string]int{}
	for _, n := range out.Names {
		counts[n.Name] = n.Spans
	}
	if counts["expose"] != 240 || counts["put page"] != 240 {
		t.Errorf("spans are %v", counts)
	}
}
