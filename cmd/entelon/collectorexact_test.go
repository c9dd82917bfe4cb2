package main

import (
	"strings"
	"testing"
	"time"

	"entelon/core/profile"
	"entelon/server/api"
)

// TestExactJob: a collector makes exact takes as the user that commands run as, keeps what was
// counted of one that is stopped, and says in one line what cannot be; what a program does to its
// own counts harms nobody.
func TestExactJob(t *testing.T) {
	t.Parallel()
	mustSample(t)
	d := newDesk(t)
	d.collect()
	take := func(set profile.Settings, stop bool) (out api.TakeDetail) {
		t.Helper()
		set.Exact, set.RateHz = true, 99
		id := d.job(set)
		if stop {
			d.until(id, "a second of it", func(j api.JobOut) bool { return j.ElapsedNS > int64(time.Second) })
			d.ask("POST", "/jobs/"+id+"/stop", nil, nil)
		}
		j := d.until(id, "its end", ended)
		if j.State != "done" {
			t.Fatalf("%v: %s", set.Command, j.Error)
		}
		if status, body := d.ask("GET", "/takes/"+j.Take, nil, &out); status != 200 {
			t.Fatalf("%d: %s", status, body)
		}
		return out
	}
	loop := []string{"sh", "-c", "i=0; while [ $i -lt 2000 ]; do i=$((i+1)); done"}
	first, second := take(profile.Settings{Command: loop}, false), take(profile.Settings{Command: loop, Once: true}, false)
	if x := first.Facts.Exact; x == nil || x.Runs != 2 || first.Facts.EndedBy != "exit" || !first.Take.Exact || !first.Settings.Exact {
		t.Fatalf("%+v", first.Facts)
	}
	if x := second.Facts.Exact; x == nil || x.Runs != 1 {
		t.Errorf("%+v", x)
	}
	if first.Measures[0].Name != "instructions" || first.Measures[0].Total != second.Measures[0].Total || first.Measures[1].Total < 2000 {
		t.Errorf("%+v and %+v", first.Measures, second.Measures)
	}
	if len(first.Measures) != 2 {
		t.Errorf("measures to choose from: %+v", first.Measures)
	}
	forever := []string{"sh", "-c", "while :; do :; done"}
	if x := take(profile.Settings{Command: forever}, true); x.Facts.EndedBy != "user" || x.Facts.Exact.Runs != 1 || x.Measures[0].Total < 1e6 {
		t.Errorf("stopped: %+v, %+v", x.Facts, x.Measures)
	}
	if x := take(profile.Settings{Command: forever, ForNS: 2e9}, false); x.Facts.EndedBy != "time" || x.Measures[0].Total < 1e6 {
		t.Errorf("for two seconds: %+v, %+v", x.Facts, x.Measures)
	}
	// It does not even end when it is asked to.
	if x := take(profile.Settings{Command: []string{"sh", "-c", "trap '' TERM; while :; do :; done"}, ForNS: 1e9}, false); x.Facts.EndedBy != "time" {
		t.Errorf("stubborn: %+v", x.Facts)
	}
	for name, c := range map[string]struct {
		set  profile.Settings
		says string
	}{
		"gone":       {profile.Settings{Command: []string{"/no/such"}}, "/no/such: the command was not found"},
		"no folder":  {profile.Settings{Command: loop, Dir: "/no/such"}, "the directory does not exist"},
		"set-user":   {profile.Settings{Command: []string{"su"}}, "runs with the rights of its file's owner"},
		"no program": {profile.Settings{Command: []string{"/etc/passwd"}}, "the command was not found"},
		"a pipe":     {profile.Settings{Command: []string{"sh", "-c", "for f in /tmp/entelon-exact-*/counts/$$; do rm -f $f; mkfifo $f; done 2>/dev/null"}}, "is not a regular file any more"},
		"a link":     {profile.Settings{Command: []string{"sh", "-c", "for f in /tmp/entelon-exact-*/counts/$$; do rm -f $f; ln -s /etc/passwd $f; done 2>/dev/null"}}, "reading what was counted"},
	} {
		c.set.Exact, c.set.RateHz = true, 99
		if j := d.until(d.job(c.set), "its end", ended); j.State != "failed" || !strings.Contains(j.Error, c.says) || strings.Contains(j.Error, "\n") {
			t.Errorf("%s: %s, %q", name, j.State, j.Error)
		}
	}
	for says, set := range map[string]profile.Settings{
		"an exact run starts a command itself": {PIDs: []int{1}, RateHz: 99, Exact: true},
		"an exact run counts everything":       {Command: loop, RateHz: 99, Exact: true, BareFirst: true},
	} {
		if status, body := d.ask("POST", "/jobs", api.JobIn{Settings: &set}, nil); status != 400 || !strings.Contains(body, says) {
			t.Errorf("%d: %s", status, body)
		}
	}
}
