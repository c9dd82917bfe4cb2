package server_test

import (
	"fmt"
	"math"
	"net/url"
	"strings"
	"testing"

	"entelon/server/api"
)

func pair(t *testing.T) (query string, detail api.TakeDetail) {
	t.Helper()
	a, b := keep(t, 71), keep(t, 72)
	return "baseline=" + a + "&candidate=" + b + "&scale=none", decode[api.TakeDetail](t, ask(t, "GET", "/takes/"+b, nil, 200))
}

// What somebody says of two names holds in the next comparison, and can be taken
// back; a comparison that was kept from before is not shown again.
func TestMatchesByHand(t *testing.T) {
	query, detail := pair(t)
	matches := "/programs/" + url.PathEscape(detail.Take.Program) + "/matches"
	rows := func() (was map[string]string, byHand int) {
		was = map[string]string{}
		for _, r := range decode[api.CompareOut](t, ask(t, "GET", "/compare?"+query, nil, 200)).Rows {
			if r.Was != "" {
				was[r.Name] = r.Was
			}
			if r.ByHand {
				byHand++
			}
		}
		return was, byHand
	}
	d := decode[api.CompareOut](t, ask(t, "GET", "/compare?"+query, nil, 200))
	if len(d.Rows) < 2 {
		t.Fatalf("%d rows", len(d.Rows))
	}
	x, y := d.Rows[0].Name, d.Rows[1].Name
	say := func(how string, status int) {
		t.Helper()
		ask(t, "POST", matches, strings.NewReader(`{"baseline":"`+x+`","candidate":"`+y+`","how":"`+how+`"}`), status)
	}
	say("together", 200)
	if was, n := rows(); n != 1 || was[y] != x {
		t.Errorf("said to be %s: %v, %d by hand", x, was, n)
	}
	if m := decode[api.MatchesOut](t, ask(t, "GET", matches, nil, 200)).Matches; len(m) != 1 || m[0].How != "together" || m[0].Who == "" {
		t.Errorf("kept: %+v", m)
	}
	say("apart", 200)
	if was, n := rows(); n != 0 || was[y] == x {
		t.Errorf("said to be two: %v, %d by hand", was, n)
	}
	say("", 200)
	if m := decode[api.MatchesOut](t, ask(t, "GET", matches, nil, 200)).Matches; len(m) != 0 {
		t.Errorf("forgotten: %+v", m)
	}
	say("perhaps", 400)
	ask(t, "POST", matches, strings.NewReader(`{"baseline":"a","how":"apart"}`), 400)
}

// The lines of both sides sum to what their functions cost, take by take.
func TestLinesOfBothSides(t *testing.T) {
	query, _ := pair(t)
	d := decode[api.CompareOut](t, ask(t, "GET", "/compare?"+query, nil, 200))
	var want [2]float64
	for _, r := range d.Rows { // all of the made functions are in one file
		want[0] += r.Self.Baseline
		want[1] += r.Self.Candidate
	}
	l := decode[api.CompareLines](t, ask(t, "GET", "/compare/lines?"+query+"&name="+url.QueryEscape(d.Rows[0].Name), nil, 200))
	for side := range 2 {
		sum := l.Sides[side].Self
		for i, v := range l.Self[side] {
			sum += v
			if l.Total[side][i] < v {
				t.Errorf("side %d, line %d: self %v, total %v", side, l.Line[side][i], v, l.Total[side][i])
			}
		}
		if math.Abs(sum-want[side]) > 1e-6*want[side] {
			t.Errorf("side %d: the lines have %v, the functions %v", side, sum, want[side])
		}
		if l.Sides[side].Missing == "" || len(l.Line[side]) != len(l.Line[1-side]) {
			t.Errorf("side %d: %+v, %d lines", side, l.Sides[side], len(l.Line[side]))
		}
	}
	ask(t, "GET", "/compare/lines?"+query+"&name=nobody", nil, 404)
}

func TestComparisonForOthers(t *testing.T) {
	query, _ := pair(t)
	if page := string(ask(t, "GET", "/compare/report.html?"+query, nil, 200)); !strings.Contains(page, "<!doctype html>") || strings.Contains(page, "<script") {
		t.Error("the report is no page, or has a script")
	}
	if text := string(ask(t, "GET", "/compare/summary.md?"+query, nil, 200)); !strings.HasPrefix(text, "### ") {
		t.Errorf("the comment begins with %.60q", text)
	}
	ask(t, "GET", "/compare/report.html?baseline=nobody&candidate=nobody", nil, 404)
}

// A function over all builds has in each take what that take's own table says.
func TestOverAllBuilds(t *testing.T) {
	_, detail := pair(t)
	hot := decode[api.HotOut](t, ask(t, "GET", "/takes/"+detail.Take.Key+"/hot", nil, 200))
	name := hot.Functions[0].Name
	out := decode[api.OverOut](t, ask(t, "GET", "/programs/"+url.PathEscape(detail.Take.Program)+"/function?scale=none&name="+url.QueryEscape(name), nil, 200))
	var want int64
	for i, f := range hot.Functions {
		if f.Name == name {
			want += hot.Self[i]
		}
	}
	found := false
	for k, b := range out.Builds {
		for _, x := range b.Takes {
			if x.Key == detail.Take.Key {
				found = true
				if x.Self != float64(want) {
					t.Errorf("in its take it has %v, want %d", x.Self, want)
				}
			}
		}
		if (b.Self.Before.Verdict == "") != (k == 0) || b.Self.Low > b.Self.Mean || b.Self.High < b.Self.Mean {
			t.Errorf("build %d: %+v", k, b.Self)
		}
	}
	if !found {
		t.Error("the take is missing")
	}
	ask(t, "GET", "/programs/"+url.PathEscape(detail.Take.Program)+"/function?name=nobody", nil, 404)
}

// A note stands in the ledger until somebody has settled it.
func TestNotesAreSettled(t *testing.T) {
	_, detail := pair(t)
	n := decode[api.RemarkOut](t, ask(t, "POST", "/takes/"+detail.Take.Key+"/notes", strings.NewReader(`{"function":"","text":"look at this\nsoon"}`), 201))
	open := func() (found bool) {
		for _, x := range decode[api.LedgerOut](t, ask(t, "GET", "/programs/"+url.PathEscape(detail.Take.Program)+"/ledger", nil, 200)).Notes {
			if x.ID == n.ID {
				found = true
				if x.Text != "look at this" || x.Key != detail.Take.Key || x.Build != detail.Take.Build {
					t.Errorf("%+v", x)
				}
			}
		}
		return found
	}
	if !open() {
		t.Error("an open note is missing")
	}
	for _, settled := range []bool{true, false} {
		x := decode[api.RemarkOut](t, ask(t, "PUT", fmt.Sprintf("/notes/%d/settled", n.ID), strings.NewReader(fmt.Sprintf(`{"settled":%v}`, settled)), 200))
		if x.Settled != settled || open() == settled || x.Text != n.Text {
			t.Errorf("settled %v: %+v, in the ledger %v", settled, x, open())
		}
	}
	ask(t, "PUT", fmt.Sprintf("/notes/%d/settled", n.ID), strings.NewReader("x"), 400)
	ask(t, "PUT", "/notes/999999/settled", strings.NewReader(`{"settled":true}`), 404)
}
