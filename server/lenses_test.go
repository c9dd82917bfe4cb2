package server_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/core/profile"
	"entelon/server/api"
)

// Functions are told once, by number; hot functions refer to them, whatever the
// scope and the shape.
func TestFunctionsByNumber(t *testing.T) {
	key := keep(t, 5)
	for _, more := range []string{"", "?fold=foreign", "?group=thread", "?through=fn3"} {
		f := decode[api.FunctionsOut](t, ask(t, "GET", "/takes/"+key+"/functions"+more, nil, 200))
		and := "?"
		if more != "" {
			and = more + "&"
		}
		whole := decode[api.HotOut](t, ask(t, "GET", "/takes/"+key+"/hot"+and+"scope=time+to+1.5+s", nil, 200))
		bare := decode[api.HotOut](t, ask(t, "GET", "/takes/"+key+"/hot"+and+"scope=time+to+1.5+s&bare=true", nil, 200))
		if len(bare.Functions) != 0 || len(bare.ID) != len(whole.Functions) || len(bare.ID) == 0 {
			t.Fatalf("%s: %d functions and %d numbers, want 0 and %d", more, len(bare.Functions), len(bare.ID), len(whole.Functions))
		}
		for i, id := range bare.ID {
			want := whole.Functions[i]
			short := f.Short[id]
			if short == "" {
				short = f.Name[id]
			}
			if f.Name[id] != want.Name || short != want.Short || f.Texts[f.Module[id]] != want.Module || f.Texts[f.Area[id]] != want.Area || f.Texts[f.Kind[id]] != want.Kind || f.Texts[f.Runs[id]] != want.Runs || f.Texts[f.File[id]] != whole.File[i] || f.Line[id] != whole.Line[i] {
				t.Fatalf("%s: function %d is %s in %s, want %+v", more, id, f.Name[id], f.Texts[f.Module[id]], want)
			}
		}
	}
}

// What a scope would keep is what is there when one has changed to it.
func TestKeptIsWhatIsThere(t *testing.T) {
	key := keep(t, 7)
	whole := decode[api.HotOut](t, ask(t, "GET", "/takes/"+key+"/hot", nil, 200))
	for sc, some := range map[string]bool{"": true, "function is fn3": true, "time to 0.9 s and not function is fn2": true, "function is nobody": false} {
		q := "?fold=foreign&scope=" + url.QueryEscape(sc)
		hot := decode[api.HotOut](t, ask(t, "GET", "/takes/"+key+"/hot"+q, nil, 200))
		got := decode[api.KeptOut](t, ask(t, "GET", "/takes/"+key+"/kept"+q, nil, 200))
		if want := (api.KeptOut{Total: hot.Total, Samples: hot.Samples, OfTotal: whole.Total, OfSamples: whole.Samples}); got != want || some != (got.Samples > 0) {
			t.Errorf("%q keeps %+v, want %+v", sc, got, want)
		}
	}
	ask(t, "GET", "/takes/"+key+"/kept?scope=function+is", nil, 400)
}

// The heaviest path comes with the steps along it, as they come one by one.
func TestHeaviestPathWithItsSteps(t *testing.T) {
	key := keep(t, 8)
	heaviest := decode[api.PathsOut](t, ask(t, "GET", "/takes/"+key+"/paths?node=0&heaviest=true", nil, 200))
	if len(heaviest.Heaviest) == 0 || len(heaviest.Steps) != len(heaviest.Heaviest) || heaviest.Heaviest[len(heaviest.Heaviest)-1] != heaviest.Spread {
		t.Fatalf("the path is %v to %d with %d steps", heaviest.Heaviest, heaviest.Spread, len(heaviest.Steps))
	}
	for i, node := range heaviest.Heaviest {
		alone := decode[api.PathsOut](t, ask(t, "GET", fmt.Sprintf("/takes/%s/paths?node=%d", key, node), nil, 200))
		if got, want := heaviest.Steps[i], (api.PathSteps{Rows: alone.Rows, Hidden: alone.Hidden, HiddenValue: alone.HiddenValue}); !reflect.DeepEqual(got, want) {
			t.Errorf("behind %d come %+v, want %+v", node, got, want)
		}
	}
}

// What threads have in a scope is what the scope has.
func TestThreadsSumToTheScope(t *testing.T) {
	key := keep(t, 6)
	for _, sc := range []string{"", "time from 0.5 s", "function is fn3", "time to 0.9 s and not function is fn2"} {
		q := "?scope=" + url.QueryEscape(sc)
		x := decode[api.ThreadsOut](t, ask(t, "GET", "/takes/"+key+"/threads"+q, nil, 200))
		var sum int64
		for _, r := range x.Threads {
			sum += r.Value
		}
		if hot := decode[api.HotOut](t, ask(t, "GET", "/takes/"+key+"/hot"+q, nil, 200)); sum != hot.Total || x.Total != hot.Total || len(x.Threads) == 0 {
			t.Errorf("%q: the threads have %d of %d", sc, sum, hot.Total)
		}
	}
}

// A function's share in other builds is that of the same scope.
func TestBuildsInScope(t *testing.T) {
	var keys []string
	for i, build := range []string{"1.0", "1.1"} {
		x := invent.Take(uint64(70+i), invent.Small)
		x.Settings.Build = build
		x.Machine.StartedAt = x.Machine.StartedAt.AddDate(0, 0, i)
		var b bytes.Buffer
		if err := take.Write(&b, x); err != nil {
			t.Fatal(err)
		}
		key := decode[api.AddedOut](t, ask(t, "POST", "/takes?name=x.take", &b, 201)).Take.Key
		t.Cleanup(func() { ask(t, "DELETE", "/takes/"+key, nil, 204) })
		keys = append(keys, key)
	}
	q := "?scope=" + url.QueryEscape("time from 0.3 s to 1.2 s")
	name := decode[api.HotOut](t, ask(t, "GET", "/takes/"+keys[0]+"/hot"+q, nil, 200)).Functions[0].Name
	out := decode[api.BuildsOut](t, ask(t, "GET", "/takes/"+keys[1]+"/builds"+q+"&name="+url.QueryEscape(name), nil, 200))
	if len(out.Builds) != 2 || out.Builds[0].Build != "1.0" || out.Builds[1].Build != "1.1" {
		t.Fatalf("%+v", out)
	}
	for i, key := range keys {
		hot := decode[api.HotOut](t, ask(t, "GET", "/takes/"+key+"/hot"+q, nil, 200))
		want := 0.0
		for k, f := range hot.Functions {
			if f.Name == name {
				want = float64(hot.Self[k]) / float64(hot.Total)
			}
		}
		if out.Builds[i].SelfShare != want || (i == 0 && want == 0) {
			t.Errorf("build %s has %f, want %f", out.Builds[i].Build, out.Builds[i].SelfShare, want)
		}
	}
}

// Source comes with the take, else from where the program's rules say; rules
// cannot lead out of the server's folders.
func TestSourceByRuleAndWithTheTake(t *testing.T) {
	x := invent.Take(8, invent.Small)
	f := 1
	for x.Profile.FunctionName(profile.FunctionID(f)) == "" {
		f++
	}
	p := x.Profile
	p.Strings = append(p.Strings, "/build/17/beam/group.go")
	for i := range p.Functions {
		p.Functions[i].File = profile.StringID(len(p.Strings) - 1)
	}
	add := func() string {
		var b bytes.Buffer
		if err := take.Write(&b, x); err != nil {
			t.Fatal(err)
		}
		key := decode[api.AddedOut](t, ask(t, "POST", "/takes?name=x.take", &b, 201)).Take.Key
		t.Cleanup(func() { ask(t, "DELETE", "/takes/"+key, nil, 204) })
		return key
	}
	key := add()
	program := x.Settings.Program
	name := decode[api.HotOut](t, ask(t, "GET", "/takes/"+key+"/hot", nil, 200)).Functions[0].Name
	lines := func(key string) api.LinesOut {
		return decode[api.LinesOut](t, ask(t, "GET", "/takes/"+key+"/lines?name="+url.QueryEscape(name), nil, 200))
	}
	if l := lines(key); l.Missing == "" || len(l.Source) != 0 {
		t.Errorf("source from nowhere: %+v", l.Source)
	}
	place := filepath.Join(sourceFolder, "engraved-17", "lib", "beam", "group.go")
	if err := os.MkdirAll(filepath.Dir(place), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(place, []byte("package beam\n// by rule\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	put := func(status int, rules ...api.SourceRule) {
		t.Helper()
		b, err := json.Marshal(api.SourceRulesIn{Rules: rules})
		if err != nil {
			t.Fatal(err)
		}
		ask(t, "PUT", "/programs/"+program+"/sources", bytes.NewReader(b), status)
	}
	put(400, api.SourceRule{Begins: "/build/", Becomes: "/etc/"})
	put(400, api.SourceRule{Begins: "/build/", Becomes: "../"})
	put(400, api.SourceRule{Begins: "/build/", Becomes: ""})
	put(400, api.SourceRule{Begins: "/build/", Becomes: "a/"}, api.SourceRule{Begins: "/build/", Becomes: "b/"})
	put(200, api.SourceRule{Begins: "/build/17/", Becomes: filepath.Join(sourceFolder, "engraved-17", "lib") + "/"}, api.SourceRule{Begins: "/build/", Becomes: "nowhere/"})
	if l := lines(key); l.Missing != "" || l.Found != place || len(l.Source) < 2 || l.Source[1] != "// by rule" || l.Delivered {
		t.Errorf("by a rule: found %q, missing %q, %q", l.Found, l.Missing, l.Source)
	}
	x.Sources = []profile.Source{{Path: "/build/17/beam/group.go", Text: "package beam\n// with the take\n"}}
	x.Settings.Note = "another"
	if l := lines(add()); !l.Delivered || len(l.Source) < 2 || l.Source[1] != "// with the take" {
		t.Errorf("with the take: %+v", strings.Join(l.Source, "|"))
	}
	put(200)
	if r := decode[api.SourceRules](t, ask(t, "GET", "/programs/"+program+"/sources", nil, 200)); len(r.Rules) != 0 || len(r.Folders) != 1 {
		t.Errorf("%+v", r)
	}
}

// The ledger has each build's mean and each function's, pinned functions first;
// a build that got slower is marked, and so is the one that mends it.
func TestLedger(t *testing.T) {
	var keys []string
	day := 0
	for _, x := range []struct {
		build string
		times int // by how much the work is repeated
	}{{"1.0", 1}, {"1.1", 2}, {"1.2", 1}} {
		for range 3 {
			tk := invent.Take(91, invent.Small)
			tk.Settings.Program, tk.Settings.Build = "lettering", x.build
			tk.Machine.StartedAt = tk.Machine.StartedAt.AddDate(0, 0, day)
			day++
			for i := range tk.Profile.Samples.Values[0] {
				tk.Profile.Samples.Values[0][i] *= int64(x.times)
			}
			var b bytes.Buffer
			if err := take.Write(&b, tk); err != nil {
				t.Fatal(err)
			}
			key := decode[api.AddedOut](t, ask(t, "POST", "/takes?name=x.take", &b, 201)).Take.Key
			t.Cleanup(func() { ask(t, "DELETE", "/takes/"+key, nil, 204) })
			keys = append(keys, key)
		}
	}
	hot := decode[api.HotOut](t, ask(t, "GET", "/takes/"+keys[0]+"/hot", nil, 200))
	l := decode[api.LedgerOut](t, ask(t, "GET", "/programs/lettering/ledger?scale=none", nil, 200))
	if len(l.Builds) != 3 || l.Builds[0].Name != "1.0" || len(l.Builds[1].Takes) != 3 || l.Builds[0].Mean != float64(hot.Total) || l.Builds[1].Mean != 2*float64(hot.Total) {
		t.Fatalf("%+v", l.Builds)
	}
	if l.Builds[0].Verdict != "" || l.Builds[1].Verdict != "slower" || l.Builds[1].Mark != "regression" || l.Builds[2].Verdict != "faster" || l.Builds[2].Mark != "fixed" {
		t.Errorf("%+v", l.Builds)
	}
	found := false
	for _, r := range l.Rows {
		if r.Name == hot.Functions[0].Name {
			found = true
			if r.Self[0] != float64(hot.Self[0]) || r.Self[1] != 2*float64(hot.Self[0]) || r.Total[2] != float64(hot.SumTotal[0]) {
				t.Errorf("%+v, want %d", r, hot.Self[0])
			}
		}
	}
	if !found {
		t.Error("the hottest function has no row")
	}
	shares := decode[api.LedgerOut](t, ask(t, "GET", "/programs/lettering/ledger?scale=total", nil, 200))
	for _, r := range shares.Rows {
		if r.Name == hot.Functions[0].Name && (r.Self[0] != r.Self[1] || r.Self[0] <= 0 || r.Self[0] > 1) {
			t.Errorf("as a share it is %v", r.Self)
		}
	}
	ask(t, "GET", "/programs/lettering/ledger?scale=feet", nil, 400)
	ask(t, "GET", "/programs/nothing/ledger", nil, 404)
}

// Bytes are not seconds: a ledger is of one measure, with its unit, and says how many
// takes do not have it.
func TestLedgerOfOneMeasure(t *testing.T) {
	for i, name := range []string{"allocated", "cpu", "cpu"} {
		tk := invent.Take(uint64(70+i), invent.Small)
		tk.Settings.Program, tk.Settings.Build = "stockroom", fmt.Sprint("build ", i)
		p := tk.Profile
		p.Measures, p.Samples.Values = p.Measures[:1], p.Samples.Values[:1]
		unit := map[string]string{"allocated": "bytes", "cpu": "ns"}[name]
		p.Strings = append(p.Strings, name, unit)
		p.Measures[0] = profile.Measure{Name: profile.StringID(len(p.Strings) - 2), Unit: profile.StringID(len(p.Strings) - 1), Counted: name != "cpu"}
		var b bytes.Buffer
		if err := take.Write(&b, tk); err != nil {
			t.Fatal(err)
		}
		key := decode[api.AddedOut](t, ask(t, "POST", "/takes?name=x.take", &b, 201)).Take.Key
		t.Cleanup(func() { ask(t, "DELETE", "/takes/"+key, nil, 204) })
	}
	cpu := decode[api.LedgerOut](t, ask(t, "GET", "/programs/stockroom/ledger?scale=none", nil, 200))
	if cpu.Measure != "cpu" || cpu.Label != "CPU time" || cpu.Unit != "ns" || len(cpu.Builds) != 2 || cpu.Without != 1 || len(cpu.Measures) != 2 {
		t.Errorf("%s, %s in %s, %d builds, %d without, %v", cpu.Measure, cpu.Label, cpu.Unit, len(cpu.Builds), cpu.Without, cpu.Measures)
	}
	bytes := decode[api.LedgerOut](t, ask(t, "GET", "/programs/stockroom/ledger?scale=none&measure=allocated", nil, 200))
	if bytes.Label != "allocated bytes" || bytes.Unit != "bytes" || !bytes.Counted || len(bytes.Builds) != 1 || bytes.Without != 2 {
		t.Errorf("%s in %s, %d builds, %d without", bytes.Label, bytes.Unit, len(bytes.Builds), bytes.Without)
	}
	name := url.QueryEscape(bytes.Rows[0].Name)
	over := decode[api.OverOut](t, ask(t, "GET", "/programs/stockroom/function?scale=none&measure=allocated&name="+name, nil, 200))
	if over.Label != "allocated bytes" || over.Unit != "bytes" || len(over.Builds) != 1 || over.Builds[0].Total.Mean != bytes.Rows[0].Total[0] {
		t.Errorf("%+v", over)
	}
	ask(t, "GET", "/programs/stockroom/ledger?measure=colour", nil, 400)
	for _, p := range decode[api.ProgramsOut](t, ask(t, "GET", "/programs", nil, 200)).Programs {
		if p.Name == "stockroom" && p.Newest.Label == "" {
			t.Errorf("what its shares are of is not said: %+v", p.Newest)
		}
	}
	kinds := decode[api.MeasuresOut](t, ask(t, "GET", "/measures", nil, 200)).Measures
	if len(kinds) < 8 || kinds[0].Word != "cpu" || !kinds[0].Plain {
		t.Errorf("%+v", kinds)
	}
}

// A take whose samples have no times is shown in every lens, and says so where times
// are asked for, instead of answering for all of it.
func TestTakeWithoutTimes(t *testing.T) {
	tk := invent.Take(77, invent.Small)
	tk.Profile.Samples.Time = nil
	var b bytes.Buffer
	if err := take.Write(&b, tk); err != nil {
		t.Fatal(err)
	}
	key := decode[api.AddedOut](t, ask(t, "POST", "/takes?name=x.take", &b, 201)).Take.Key
	t.Cleanup(func() { ask(t, "DELETE", "/takes/"+key, nil, 204) })
	for _, lens := range []string{"hot", "flame?pixels=900", "paths", "threads", "graph?most=20", "function?name=fn1", "kept"} {
		ask(t, "GET", "/takes/"+key+"/"+lens, nil, 200)
	}
	for _, lens := range []string{"hot", "flame", "threads", "kept"} {
		for _, scope := range []string{"time from 1 ms", "not (function is fn1 and time to 2 ms)"} {
			if text := string(ask(t, "GET", "/takes/"+key+"/"+lens+"?scope="+url.QueryEscape(scope), nil, 400)); !strings.Contains(text, "no times") {
				t.Errorf("%s in %s: %s", lens, scope, text)
			}
		}
	}
	if text := string(ask(t, "GET", "/takes/"+key+"/times", nil, 400)); !strings.Contains(text, "no times") {
		t.Errorf("%s", text)
	}
}
