package data_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"testing"

	"entelon/codec"
	"entelon/codec/data"
	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/profile"
	"entelon/core/scope"
)

// written is what a reader needs of it.
type written struct {
	Settings profile.Settings
	Measures []struct {
		Name, Unit string
		Total      int64
	}
	Functions []struct{ Name string }
	Frames    []struct{ Function int }
	Stacks    struct{ Parent, Frame []int }
	Threads   []struct{ Name string }
	Samples   struct {
		Time   []int64 `json:"time_ns"`
		Thread []int
		Stack  []int
		Values [][]int64
	}
}

// TestASumFromTheData: a reader of the data arrives at the same costs, by function and in scope.
func TestASumFromTheData(t *testing.T) {
	for seed := range uint64(10) {
		p := invent.Profile(seed, invent.Small)
		take := &profile.Take{Profile: p, Settings: profile.Settings{Program: "engraved", Env: []string{"SECRET=quill"}}}
		for _, text := range []string{"", "thread is 101", "function is fn3"} {
			sc, err := scope.Parse(text)
			if err != nil {
				t.Fatal(err)
			}
			tr := calltree.New(p)
			cost := tr.Cost(0, sc)
			var b bytes.Buffer
			if err := data.Write(&b, codec.View{Take: take, Tree: tr, Cost: cost, Scope: sc}); err != nil {
				t.Fatal(err)
			}
			if bytes.Contains(b.Bytes(), []byte("quill")) {
				t.Error("the environment is in it")
			}
			var x written
			if err := json.Unmarshal(b.Bytes(), &x); err != nil {
				t.Fatal(err)
			}
			got := map[string]int64{}
			for i, s := range x.Samples.Stack {
				got[x.Functions[x.Frames[x.Stacks.Frame[s]].Function].Name] += x.Samples.Values[0][i]
			}
			want := map[string]int64{}
			for _, r := range calltree.Functions(tr, cost) {
				if r.Self != 0 {
					want[p.FunctionName(r.Function)] += r.Self
				}
			}
			for name, v := range want {
				if got[name] != v {
					t.Errorf("seed %d, %q: %s costs %d, not %d", seed, text, name, got[name], v)
				}
			}
			if x.Measures[0].Total != p.Total(0) || x.Settings.Program != "engraved" || len(x.Samples.Time) != len(x.Samples.Stack) || len(x.Samples.Thread) != len(x.Samples.Stack) {
				t.Errorf("seed %d, %q: %+v", seed, text, x.Measures)
			}
		}
	}
}

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("the disk is full") }

func TestADataFileThatCannotBeWritten(t *testing.T) {
	p := invent.Profile(1, invent.Small)
	if err := data.Write(full{}, codec.View{Take: &profile.Take{Profile: p}}); err == nil {
		t.Error("nobody noticed")
	}
	var b bytes.Buffer
	if err := data.Write(&b, codec.View{Take: &profile.Take{Profile: p}, Bounds: codec.Bounds{Bytes: 2000}}); !errors.Is(err, codec.ErrTooLarge) || b.Len() > 2000 {
		t.Errorf("%d bytes, %v", b.Len(), err)
	}
}
