package take_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"reflect"
	"testing"

	"entelon/codec/take"
	"entelon/core/calltree"
	"entelon/core/profile"
	"entelon/core/scope"
)

var writeResults = flag.Bool("write-results", false, "write what the takes of earlier formats come to; only of a format that no release has changed since")

// said is what a take comes to, in figures that no later format may change.
type said struct {
	Program, Build string
	Samples        int
	Measures       []saidMeasure
	Intervals      map[string]int64 `json:",omitempty"` // nanoseconds by kind
	Links          int              `json:",omitempty"`
	Attributes     map[string]int64 `json:",omitempty"` // that are more than numbers: what their values, or the lengths of their texts, add up to
}

type saidMeasure struct {
	Name, Unit     string
	Counted        bool
	Total, Samples int64
	Idle           int64 // of it
	Marked         int64 // below marks: cut off, waiting, calls
	Functions      int
	Top            []saidFunction
}

type saidFunction struct {
	Name                                   string
	Self, Total, SelfSamples, TotalSamples int64
	CutOff                                 int64
}

func saidOf(t *testing.T, file string) said {
	t.Helper()
	tk, err := take.ReadFile(file, take.Options{})
	if err != nil {
		t.Fatal(err)
	}
	idle, err := scope.Parse("idle")
	if err != nil {
		t.Fatal(err)
	}
	marks, err := scope.Parse("code is mark")
	if err != nil {
		t.Fatal(err)
	}
	p, tr := tk.Profile, calltree.New(tk.Profile)
	var intervals map[string]int64
	for i, k := range p.Intervals.Kind {
		if intervals == nil {
			intervals = map[string]int64{}
		}
		intervals[k.String()] += p.Intervals.Duration[i]
	}
	out := said{Intervals: intervals, Links: len(p.Intervals.Ended.Interval), Program: tk.Settings.Program, Build: tk.Settings.Build, Samples: p.Samples.Len()}
	for _, a := range p.Intervals.Attributes {
		for _, v := range a.Value {
			if a.Type == profile.AttributeText {
				v = int64(len(p.Strings[v]))
			}
			if a.Type == profile.AttributeNumber {
				break
			}
			if out.Attributes == nil {
				out.Attributes = map[string]int64{}
			}
			out.Attributes[p.Strings[a.Name]] += v
		}
	}
	for m := range p.Measures {
		w, c := p.Words(m), tr.Cost(m, scope.Scope{})
		rows := calltree.Functions(tr, c)
		x := saidMeasure{Name: w.Name, Unit: w.Unit, Counted: w.Counted, Total: p.Total(m), Samples: c.TotalSamples(0), Idle: tr.Cost(m, idle).Total(0), Marked: tr.Cost(m, marks).Total(0), Functions: len(rows), Top: nil}
		for _, f := range rows[:min(25, len(rows))] {
			cut := int64(0)
			if p.Functions[f.Function].Kind != profile.KindMark {
				cut = calltree.OriginOf(tr, c, f.Function).CutOff
			}
			x.Top = append(x.Top, saidFunction{p.FunctionName(f.Function), f.Self, f.Total, f.SelfSamples, f.TotalSamples, cut})
		}
		out.Measures = append(out.Measures, x)
	}
	return out
}

// TestEveryEarlierFormat: a take of each format gives the same numbers as when that
// format was the newest.
func TestEveryEarlierFormat(t *testing.T) {
	for version := take.Version1; version <= take.Version11; version++ {
		file := fmt.Sprintf("testdata/format%d.take", version)
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if int(b[8]) != version {
			t.Fatalf("%s is in format %d", file, b[8])
		}
		got := saidOf(t, file)
		results := fmt.Sprintf("testdata/format%d.json", version)
		if *writeResults {
			text, err := json.MarshalIndent(got, "", " ")
			if err == nil {
				err = os.WriteFile(results, text, 0o644)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		if b, err = os.ReadFile(results); err != nil {
			t.Fatal(err)
		}
		var want said
		if err := json.Unmarshal(b, &want); err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(got, want) {
			t.Errorf("a take of format %d says\n%+v\nand once said\n%+v", version, got, want)
		}
	}
}
