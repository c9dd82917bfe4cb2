package main

import (
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"entelon/core/profile"
	"entelon/judge"
	"entelon/server/api"
)

// TestUntil: takes are made until enough is known and no longer, it is said how many more
// that will be, and what was decided is what a comparison of the takes says.
func TestUntil(t *testing.T) {
	mustSample(t)
	dir := t.TempDir()
	buildTwo(t, dir, map[string]string{"old": "110000", "new": "330000"})
	made := func(pattern string) int {
		files, err := filepath.Glob(filepath.Join(dir, pattern))
		if err != nil {
			t.Fatal(err)
		}
		return len(files)
	}
	judge.Fairly(t, func(t *judge.Try) {
		r := entelon(t, "take", "--until", "decided", "--against", filepath.Join(dir, "old"), "--out", filepath.Join(dir, "x.take"), "--", filepath.Join(dir, "new"), "400")
		if r.code != 0 || !strings.Contains(r.stderr, "decided, slower") || !strings.Contains(r.stderr, "take 1 of 20") {
			t.Errorf("exit code %d: %s", r.code, r.stderr)
		}
		if a, b := made("x-baseline-*.take"), made("x-candidate-*.take"); a != b || a < 3 || a > 10 {
			t.Errorf("%d and %d takes", a, b)
		}
		c := comparison(t, entelon(t, "compare", "--json", "--baseline", filepath.Join(dir, "x-baseline-*.take"), "--candidate", filepath.Join(dir, "x-candidate-*.take")))
		if c.Outcome != "regression" || c.Whole.Verdict != "slower" || c.Scale != "run" {
			t.Errorf("%s by %s: %+v", c.Outcome, c.Scale, c.Whole)
		}
		r = entelon(t, "take", "--until", "letter sure 20%", "--out", filepath.Join(dir, "y.take"), "--", filepath.Join(dir, "old"), "400")
		if n := made("y-*.take"); r.code != 0 || !strings.Contains(r.stderr, "letter is known to") || !strings.Contains(r.stderr, "which is enough") || n < 4 || n > 20 {
			t.Errorf("exit code %d, %d takes: %s", r.code, n, r.stderr)
		}
	})
	none := entelon(t, "take", "--until", "nobody sure 2%", "--out", filepath.Join(dir, "z.take"), "--", filepath.Join(dir, "old"), "50")
	if none.code != 1 || !strings.HasSuffix(none.stderr, "entelon: --until: nobody has no cost in 3 takes\n") {
		t.Errorf("exit code %d: %s", none.code, none.stderr)
	}
	r := entelon(t, "take", "--until", "sure 0.1%", "--repeat", "4", "--out", filepath.Join(dir, "w.take"), "--", filepath.Join(dir, "old"), "50")
	if r.code != 0 || made("w-*.take") != 4 || !strings.Contains(r.stderr, "was wanted, and no more takes were allowed\nentelon: --repeat allows more takes") && !strings.Contains(r.stderr, "which is enough") {
		t.Errorf("exit code %d, %d takes: %s", r.code, made("w-*.take"), r.stderr)
	}
	for text, want := range map[string]string{"decided": "against a baseline", "certain 2%": "sure 2%", "sure 2": "sure 2%"} {
		fails(t, entelon(t, "take", "--until", text, "--", "true"), "--until", want)
	}
	fails(t, entelon(t, "take", "--until", "sure 2%", "--for", "1s", "--pid", "1"), "--until", "name a function")
}

// TestUntilOnTheServer: a row that the server has made ends when enough is known, each take
// says how far it is, and a row that cannot be is refused.
func TestUntilOnTheServer(t *testing.T) {
	mustSample(t)
	d := newDesk(t)
	d.collect()
	d.job(profile.Settings{Command: []string{"true"}, RateHz: 99}) // the collector is there then
	buildTwo(t, d.dir, map[string]string{"old": "110000", "new": "330000"})
	runs := func(name string) []string { return []string{filepath.Join(d.dir, name), "400"} }

	// made follows a row to its end, and returns its jobs.
	made := func(t *judge.Try, in api.JobIn) (row []api.JobOut) {
		var j api.JobOut
		if status, body := d.ask("POST", "/jobs", in, &j); status != http.StatusAccepted {
			t.Fatalf("%d: %s", status, body)
		}
		for {
			j = d.until(j.ID, "its end", ended)
			if row = append(row, j); j.State != "done" || j.RowOver || j.Settings.Turn == j.Settings.Turns {
				return row
			}
			j = d.nextOf(j.Settings.Series, j.Settings.Turn+1)
		}
	}
	judge.Fairly(t, func(t *judge.Try) {
		row := made(t, api.JobIn{Settings: &profile.Settings{Command: runs("new"), RateHz: 997}, Against: runs("old"), Until: "decided"})
		last := row[len(row)-1]
		if !last.RowOver || !strings.Contains(last.Said, "decided, slower") || len(row)%2 != 0 || len(row) < 6 || len(row) > 20 || last.Settings.Turns != 40 {
			t.Errorf("%d takes of %d, at the end %+v", len(row), last.Settings.Turns, last)
		}
		row = made(t, api.JobIn{Settings: &profile.Settings{Command: runs("old"), RateHz: 997}, Until: "letter sure 20%"})
		last = row[len(row)-1]
		if !last.RowOver || !strings.Contains(last.Said, "letter is known to ±") || len(row) < 4 || len(row) > 20 {
			t.Errorf("%d takes, at the end %+v", len(row), last)
		}
	})
	judge.Fairly(t, func(t *judge.Try) {
		row := made(t, api.JobIn{Settings: &profile.Settings{Command: runs("old"), RateHz: 997}, Until: "sure 0.1%", Repeat: 4})
		if last := row[len(row)-1]; len(row) != 4 || !strings.Contains(last.Said, "the whole is known to ±") || last.Error != "" {
			t.Errorf("%d takes, at the end %+v", len(row), last)
		}
		row = made(t, api.JobIn{Settings: &profile.Settings{Command: runs("old"), RateHz: 997}, Until: "nobody sure 2%"})
		if last := row[len(row)-1]; len(row) != 3 || last.Error != "nobody has no cost in 3 takes" || last.Take == "" {
			t.Errorf("%d takes, at the end %+v", len(row), last)
		}
	})
	for text, want := range map[string]string{"decided": "against a baseline", "certain 2%": "sure 2%"} {
		if status, body := d.ask("POST", "/jobs", api.JobIn{Settings: &profile.Settings{Command: runs("old"), RateHz: 997}, Until: text}, nil); status != http.StatusBadRequest || !strings.Contains(body, want) {
			t.Errorf("%q: %d, %s", text, status, body)
		}
	}
	if status, body := d.ask("POST", "/jobs", api.JobIn{Settings: &profile.Settings{PIDs: []int{1}, RateHz: 997}, Until: "sure 2%"}, nil); status != http.StatusBadRequest || !strings.Contains(body, "name a function") {
		t.Errorf("%d, %s", status, body)
	}
}

// nextOf waits for a take of a row.
func (d *desk) nextOf(series string, turn int) (j api.JobOut) {
	d.t.Helper()
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		var list api.JobsOut
		if status, body := d.ask("GET", "/jobs", nil, &list); status != 200 {
			d.t.Fatalf("%d: %s", status, body)
		}
		for _, j := range list.Jobs {
			if j.Settings.Series == series && j.Settings.Turn == turn {
				return j
			}
		}
	}
	d.t.Fatalf("take %d of the row %s never came", turn, series)
	return j
}
