package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"entelon/bench/section"
	"entelon/judge"
	"entelon/server/api"
)

var loadInto = flag.String("load", "", "the document to write what many at once wait for into; without it few try")

// peak is the most memory that a process ever had, in bytes.
func peak(t *testing.T, pid int) int64 {
	t.Helper()
	kb, err := strconv.ParseInt(strings.TrimSuffix(field(t, pid, "VmHWM"), " kB"), 10, 64)
	if err != nil {
		t.Fatal(err)
	}
	return kb << 10
}

// waits are how long many waited.
type waits struct {
	mu  sync.Mutex
	all []time.Duration
	bad map[string]int
}

func (w *waits) add(d time.Duration, problem string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.all = append(w.all, d)
	if problem != "" {
		if w.bad == nil {
			w.bad = map[string]int{}
		}
		w.bad[problem]++
	}
}

// quantile returns the wait that a share of all had at most.
func (w *waits) quantile(share float64) time.Duration {
	if len(w.all) == 0 {
		return 0
	}
	slices.Sort(w.all)
	return w.all[min(len(w.all)-1, int(share*float64(len(w.all))))]
}

// invented makes a take's file.
func invented(t *testing.T, dir string, samples, stacks, n int) string {
	t.Helper()
	file := filepath.Join(dir, fmt.Sprintf("%d-%d.take", samples, n))
	if r := entelon(t, "invent", "--samples", fmt.Sprint(samples), "--stacks", fmt.Sprint(stacks), "--seed", fmt.Sprint(n), "--build", fmt.Sprint("build ", n), "--out", file); r.code != 0 {
		t.Fatal(r.stderr)
	}
	return file
}

// timed asks once and notes how long that took.
func (d *desk) timed(w *waits, client *http.Client, method, path string, body io.Reader) []byte {
	req, err := http.NewRequest(method, "http://"+d.address+"/api/v1"+path, body)
	if err != nil {
		w.add(0, err.Error())
		return nil
	}
	req.Header.Set("Authorization", "Bearer "+d.token)
	began := time.Now()
	resp, err := client.Do(req)
	if err != nil {
		w.add(time.Since(began), "no answer")
		return nil
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	problem := ""
	if err != nil || resp.StatusCode >= 300 {
		problem = resp.Status
	}
	w.add(time.Since(began), problem)
	return b
}

// readers has so many people look at one take at once, each in one of six shapes,
// in whatever scope, through whatever lens, with half a second between what they
// are shown and what they ask next.
func (d *desk) readers(key string, n int, during time.Duration) *waits {
	shapes := []string{"", "fold=runtime", "fold=foreign", "group=thread", "merge=true", "group=module"}
	scopes := []string{"", "function is fn3", "not function is fn7", "thread is worker-1", "not idle", "code is own"}
	lenses := []string{"flame?pixels=1000", "flame?pixels=1200&order=name", "hot?bare=true", "paths?heaviest=true", "search?text=f", "threads?", "times?bins=200", "graph?most=40", "kept?"}
	w := &waits{}
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: n, MaxConnsPerHost: 0}}
	ctx, stop := context.WithTimeout(context.Background(), during)
	defer stop()
	var all sync.WaitGroup
	for i := range n {
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(i), 1))
			time.Sleep(time.Duration(r.IntN(500)) * time.Millisecond)
			for ctx.Err() == nil {
				lens := lenses[r.IntN(len(lenses))]
				path := "/takes/" + key + "/" + lens
				if !strings.HasPrefix(lens, "times") {
					path += "&" + shapes[i%len(shapes)] + "&scope=" + url.QueryEscape(scopes[r.IntN(len(scopes))])
				}
				d.timed(w, client, "GET", path, nil)
				time.Sleep(time.Duration(250+r.IntN(500)) * time.Millisecond)
			}
		})
	}
	all.Wait()
	return w
}

// uploads sends files all at once and asks who one is meanwhile.
func (d *desk) uploads(files []string) (sent, me *waits, took time.Duration) {
	sent, me = &waits{}, &waits{}
	ctx, stop := context.WithCancel(context.Background())
	var asking, sending sync.WaitGroup
	asking.Go(func() {
		for ctx.Err() == nil {
			d.timed(me, http.DefaultClient, "GET", "/me", nil)
			time.Sleep(30 * time.Millisecond)
		}
	})
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: len(files)}}
	began := time.Now()
	for _, file := range files {
		sending.Go(func() {
			f, err := os.Open(file)
			if err != nil {
				sent.add(0, err.Error())
				return
			}
			defer f.Close()
			d.timed(sent, client, "POST", "/takes", f)
		})
	}
	sending.Wait()
	took = time.Since(began)
	stop()
	asking.Wait()
	return sent, me, took
}

// TestManyAtOnce: many readers of one take, and many takes sent at once. The few of
// an ordinary run must be served within generous bounds; make load writes down what
// the many wait for.
func TestManyAtOnce(t *testing.T) {
	full := *loadInto != ""
	samples, people, files, during := 100_000, 30, 12, 6*time.Second
	if full {
		samples, people, files, during = 1_000_000, 200, 100, 40*time.Second
	}
	d := newDesk(t)
	dir := t.TempDir()
	var b strings.Builder
	first := &waits{}
	f, err := os.Open(invented(t, dir, samples, samples/5, 1))
	if err != nil {
		t.Fatal(err)
	}
	var added api.AddedOut
	if err := json.Unmarshal(d.timed(first, http.DefaultClient, "POST", "/takes", f), &added); err != nil || added.Take.Key == "" {
		t.Fatal(err, first.bad)
	}
	f.Close()
	var list []string
	for n := range files {
		list = append(list, invented(t, dir, samples, samples/5, 100+n))
	}
	judge.Fairly(t, func(j *judge.Try) {
		warm := d.readers(added.Take.Key, people, during/4) // from nothing
		w := d.readers(added.Take.Key, people, during)
		b.Reset()
		fmt.Fprintf(&b, "| %d readers of %d samples, six shapes, mixed: %d answers | median %.0f ms, 95 %% within %.0f ms (the first %.0f s, from nothing: %.0f ms) |\n", people, samples, len(w.all), ms(w.quantile(0.5)), ms(w.quantile(0.95)), (during / 4).Seconds(), ms(warm.quantile(0.95)))
		if len(w.bad)+len(warm.bad) > 0 || len(w.all) < people || w.quantile(0.95) > 3*time.Second {
			j.Errorf("%d answers, 95 %% within %v, %v", len(w.all), w.quantile(0.95), w.bad)
		}
		e := newDesk(t) // its memory is that of the uploads
		sent, me, took := e.uploads(list)
		high := peak(t, e.server.Process.Pid)
		fmt.Fprintf(&b, "| %d uploads of %d samples at once | all kept after %.0f s; meanwhile `/me` 95 %% within %.0f ms; most memory %.2f GB |\n", files, samples, took.Seconds(), ms(me.quantile(0.95)), float64(high)/1e9)
		if len(sent.bad)+len(me.bad) > 0 || e.takes() != int64(files) || me.quantile(0.95) > time.Second || high > 3<<30/2 {
			j.Errorf("%v, %v: %d takes, /me 95 %% within %v, %d MB", sent.bad, me.bad, e.takes(), me.quantile(0.95), high>>20)
		}
	})
	if !full {
		return
	}
	b.WriteString(large(t, dir))
	machine, err := exec.Command("nproc").Output()
	if err != nil {
		t.Fatal(err)
	}
	text := fmt.Sprintf("On %s processors, shared by the server, its database and those who ask; each waits half a second before the next question.\n\n| what | |\n|---|---|\n%s", strings.TrimSpace(string(machine)), b.String())
	if err := section.Write(*loadInto, "many", "make load", text); err != nil {
		t.Fatal(err)
	}
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// large opens twenty takes of ten million samples one after the other.
func large(t *testing.T, dir string) string {
	t.Helper()
	d := newDesk(t)
	w := &waits{}
	for n := range 20 {
		file := invented(t, dir, 10_000_000, 1_000_000, 1000+n)
		f, err := os.Open(file)
		if err != nil {
			t.Fatal(err)
		}
		var added api.AddedOut
		up := &waits{}
		if err := json.Unmarshal(d.timed(up, http.DefaultClient, "POST", "/takes", f), &added); err != nil || added.Take.Key == "" {
			t.Fatal(err, up.bad)
		}
		f.Close()
		if err := os.Remove(file); err != nil {
			t.Fatal(err)
		}
		d.timed(w, http.DefaultClient, "GET", "/takes/"+added.Take.Key+"/flame?pixels=1000", nil)
	}
	high := peak(t, d.server.Process.Pid)
	if len(w.bad) > 0 || high > 3<<30 {
		t.Errorf("%v, %d MB", w.bad, high>>20)
	}
	return fmt.Sprintf("| 20 takes of ten million samples sent and opened one after the other | each opened within %.1f s; most memory %.2f GB |\n", w.quantile(1).Seconds(), float64(high)/1e9)
}
