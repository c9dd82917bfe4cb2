package spans

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"entelon/core/lanes"
	"entelon/core/profile"
)

// TestAdd: spans that a program told of itself stand where and when they were; what cannot be is left
// out and counted.
func TestAdd(t *testing.T) {
	take := shop()
	const origin = int64(1_700_000_000_000_000_000)
	take.Facts.OriginUnixNS = origin
	told := []Told{
		{Name: "page", Begin: origin + 100, End: origin + 900, PID: 1, TID: 10, ID: "a"},
		{Name: "route", Begin: origin + 200, End: origin + 400, PID: 1, TID: 10, ID: "b", Parent: "a"},
		{Name: "route", Begin: origin + 500, End: origin + 600, PID: 1, TID: 99, Parent: "none"},
		{Name: "expose", Begin: origin + 10, PID: 77, Service: "platesetter"},
		{Name: "expose", Begin: origin + 300, End: origin + 200, PID: 77, Service: "platesetter"},
		{Name: "expose", Begin: origin + 5000, End: origin + 6000},
		{Name: "expose", Begin: origin - 500, End: origin + 50},
		{Name: "", Begin: origin, End: origin + 1},
	}
	with, added, err := Add(take, told, 0)
	if err != nil {
		t.Fatal(err)
	}
	want := Added{Spans: 5, Process: 3, Thread: 2, Parents: 1, Open: 1, Cut: 1, Outside: 1, Reversed: 1, Nameless: 1, From: origin - 500, To: origin + 5000}
	if added != want {
		t.Errorf("%+v, want %+v", added, want)
	}
	if err := with.Profile.Check(); err != nil {
		t.Fatal(err)
	}
	x := New(with.Profile)
	page, route := x.Find("page"), x.Find("route")
	if page == nil || route == nil || len(route.Spans) != 2 || page.Spans[0].From != 100 || page.Spans[0].To != 900 || x.Find("draw") == nil {
		t.Fatalf("the spans are %+v", x.Names)
	}
	parents := with.Profile.AttributeNamed(profile.AttributeParent)
	if len(parents.Value) != 1 || int(parents.Interval[0]) != route.Spans[0].Interval || int(parents.Value[0]) != page.Spans[0].Interval {
		t.Errorf("the parents are %+v", parents)
	}
	// What the thread did then is known.
	b, err := BlameOf(with.Profile, lanes.New(with), "page", page.Spans)
	if err != nil || b.Total != 800 {
		t.Errorf("%v: %+v", err, b)
	}
	merged, err := profile.Merge(with.Profile, with.Profile)
	if err != nil {
		t.Fatal(err)
	}
	for i, at := range merged.AttributeNamed(profile.AttributeParent).Interval {
		of := int(merged.AttributeNamed(profile.AttributeParent).Value[i])
		if merged.Intervals.Start[of] != 100 || merged.Intervals.Start[at] != 200 || of/with.Profile.Intervals.Len() != int(at)/with.Profile.Intervals.Len() {
			t.Errorf("merged, the parent of %d is %d", at, of)
		}
	}

	// A clock that is wrong by an hour.
	if _, _, err := Add(take, told[5:6], 0); !errors.Is(err, ErrOutside) {
		t.Errorf("outside: %v", err)
	}
	if _, added, err := Add(take, []Told{{Name: "page", Begin: origin + 3_600_000_000_100, End: origin + 3_600_000_000_200}}, -time.Hour); err != nil || added.Spans != 1 {
		t.Errorf("an hour late: %v, %+v", err, added)
	}
	bare := *take
	bare.Facts.OriginUnixNS = 0
	if _, _, err := Add(&bare, told, 0); !errors.Is(err, ErrNoClock) {
		t.Errorf("without a clock: %v", err)
	}
}

// TestAddManyNames: a million names do not make a take that nobody can read.
func TestAddManyNames(t *testing.T) {
	take := shop()
	take.Facts.OriginUnixNS = 1
	var told []Told
	for i := range maxNames + 1000 {
		told = append(told, Told{Name: fmt.Sprintf("request %d", i), Begin: 10, End: 20})
	}
	with, added, err := Add(take, told, 0)
	if err != nil || added.Unnamed != 1000 || added.Spans != len(told) {
		t.Fatalf("%v, %+v", err, added)
	}
	if n := New(with.Profile).Find(OtherNames); n == nil || len(n.Spans) != 1000 {
		t.Errorf("the others are %+v", n)
	}
}

// TestAddStrangers: spans of another host are nobody's of the take, whatever their process's number is;
// and of a great many processes only some stay apart.
func TestAddStrangers(t *testing.T) {
	take := shop()
	const origin = int64(1_700_000_000_000_000_000)
	take.Facts.OriginUnixNS, take.Machine.Host = origin, "atelier"
	before := len(take.Profile.Processes)
	told := []Told{
		{Name: "ours", Begin: origin + 1, End: origin + 2, PID: 1, TID: 10, Host: "atelier"},
		{Name: "theirs", Begin: origin + 1, End: origin + 2, PID: 1, TID: 10, Host: "foundry", Service: "platesetter"},
	}
	with, added, err := Add(take, told, 0)
	if err != nil || added.Spans != 2 || added.Process != 1 || added.Thread != 1 {
		t.Fatalf("%v: %+v", err, added)
	}
	if p := with.Profile; len(p.Processes) != before+1 || p.Strings[p.Processes[before].Name] != "platesetter" {
		t.Errorf("processes are %+v", p.Processes)
	}
	for pid := range uint32(50_000) {
		told = append(told, Told{Name: "page", Begin: origin + 3, End: origin + 4, PID: 1000 + pid, Links: []string{"nobody"}})
	}
	with, added, err = Add(take, told, 0)
	if err != nil || added.Spans != len(told) || len(with.Profile.Processes) > before+maxOthers+1 {
		t.Errorf("%v: %+v, %d processes", err, added, len(with.Profile.Processes))
	}
}

// TestAddQueues: what goes on from another span was in a queue since that ended.
func TestAddQueues(t *testing.T) {
	take := shop()
	const origin = int64(1_700_000_000_000_000_000)
	take.Facts.OriginUnixNS = origin
	with, added, err := Add(take, []Told{
		{Name: "put", Begin: origin + 100, End: origin + 150, PID: 1, ID: "p"},
		{Name: "expose", Begin: origin + 400, End: origin + 600, PID: 77, ID: "e", Links: []string{"x", "p", "q"}},
		{Name: "put", Begin: origin + 500, End: origin + 900, PID: 1, ID: "q"},
		{Name: "expose", Begin: origin + 700, End: origin + 800, PID: 77, Links: []string{"q"}},
	}, 0)
	if err != nil || added.Spans != 4 || added.Links != 2 || added.Queued != 2 {
		t.Fatalf("%v: %+v", err, added)
	}
	x := New(with.Profile)
	queued := x.Find("expose" + Queued)
	if queued == nil || len(queued.Spans) != 2 || queued.Spans[0].From != 150 || queued.Spans[0].To != 400 || queued.Spans[1].Duration() != 0 {
		t.Fatalf("in the queue: %+v", queued)
	}
	links := with.Profile.AttributeNamed(profile.AttributeLink)
	if put := x.Find("put"); len(links.Value) != 2 || int(links.Value[0]) != put.Spans[0].Interval || int(links.Value[1]) != put.Spans[1].Interval {
		t.Errorf("links are %+v", links)
	}
}
