package server_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/server/api"
)

// TestAStrayTake: one take of another kind leaves every figure and verdict of a ledger as
// it was, and is shown apart; so it is when the take is moved in by hand, and undone.
func TestAStrayTake(t *testing.T) {
	day := 0
	send := func(build string, times int64, attached bool) string {
		t.Helper()
		tk := invent.Take(77, invent.Small)
		tk.Settings.Program, tk.Settings.Build = "spacer", build
		tk.Settings.Command, tk.Facts.EndedBy = []string{"./spacer", "--slurs", "80"}, "exit"
		if attached {
			tk.Settings.PIDs, tk.Facts.EndedBy = []int{4711}, "user"
		}
		tk.Machine.StartedAt = tk.Machine.StartedAt.AddDate(0, 0, day)
		day++
		for i := range tk.Profile.Samples.Values[0] {
			tk.Profile.Samples.Values[0][i] *= times
		}
		var b bytes.Buffer
		if err := take.Write(&b, tk); err != nil {
			t.Fatal(err)
		}
		key := decode[api.AddedOut](t, ask(t, "POST", "/takes?name=x.take", &b, 201)).Take.Key
		t.Cleanup(func() { ask(t, "DELETE", "/takes/"+key, nil, 204) })
		return key
	}
	for range 3 {
		send("1.0", 1, false)
	}
	for range 3 {
		send("1.1", 2, false)
	}
	ledger := func(query string) api.LedgerOut {
		t.Helper()
		return decode[api.LedgerOut](t, ask(t, "GET", "/programs/spacer/ledger"+query, nil, 200))
	}
	before := ledger("")
	if before.Scale != "run" || before.Builds[1].Verdict != "slower" || before.Builds[1].Mark != "regression" {
		t.Fatalf("%+v", before.Builds)
	}
	stray := send("1.1", 40, true)
	after := ledger("")
	if after.Scale != before.Scale || fmt.Sprint(after.Builds) != fmt.Sprint(before.Builds) || fmt.Sprint(after.Rows) != fmt.Sprint(before.Rows) {
		t.Errorf("the ledger was %+v and is %+v", before.Builds, after.Builds)
	}
	w := after.Workload
	if w.Others != 1 || w.Count != 2 || len(w.Workloads) != 2 || w.ID != w.Workloads[0].ID || w.Workloads[0].Name != "--slurs 80" {
		t.Fatalf("%+v", w)
	}
	if alone := ledger(fmt.Sprint("?workload=", w.Workloads[1].ID)); len(alone.Builds) != 1 || len(alone.Builds[0].Takes) != 1 || alone.Builds[0].Takes[0] != stray || alone.Workload.Others != 6 {
		t.Errorf("%+v", alone)
	}
	over := decode[api.OverOut](t, ask(t, "GET", "/programs/spacer/function?name="+after.Rows[0].Name, nil, 200))
	if over.Workload.Others != 1 || len(over.Builds[1].Takes) != 3 {
		t.Errorf("%+v", over)
	}
	programs := decode[api.ProgramsOut](t, ask(t, "GET", "/programs", nil, 200))
	for _, p := range programs.Programs {
		if p.Name == "spacer" && (p.Builds[1].Takes != 3 || p.Builds[1].Others != 1 || strings.Contains(p.Builds[1].Keys, stray) || p.Chief.Name != "--slurs 80") {
			t.Errorf("%+v", p)
		}
	}
	if list := decode[api.TakesOut](t, ask(t, "GET", fmt.Sprint("/takes?program=spacer&workload=", w.Workloads[1].ID), nil, 200)); list.Count != 1 || list.Takes[0].Workload != "attached, --slurs 80" {
		t.Errorf("%+v", list)
	}
	// Compared all the same, the doubt stands on top.
	c := decode[api.CompareOut](t, ask(t, "GET", "/compare?baseline="+strings.Join(after.Builds[0].Takes, ",")+"&candidate="+stray, nil, 200))
	if len(c.Warnings) == 0 || c.Warnings[0].Code != "workloads" {
		t.Errorf("%+v", c.Warnings)
	}

	body := func(text string, a ...any) *strings.Reader { return strings.NewReader(fmt.Sprintf(text, a...)) }
	ask(t, "POST", "/programs/spacer/workloads/move", body(`{"takes": [%q], "into": %d}`, stray, w.ID), 200)
	if mixed := ledger(""); mixed.Workload.Others != 0 || mixed.Scale != "unchanged" || mixed.Builds[1].Verdict == "" {
		t.Errorf("%+v by %s, %+v", mixed.Workload, mixed.Scale, mixed.Builds)
	}
	shares := ledger("?scale=share")
	for _, b := range shares.Builds[1:] {
		if b.Steady < 0.98 || b.Steady > 1.02 { // all functions grew alike: no share changed
			t.Errorf("the share of what did not change is another one, %.3f times", b.Steady)
		}
	}
	if out := decode[api.WorkloadsOut](t, ask(t, "POST", "/programs/spacer/workloads/undo", body("{}"), 200)); len(out.Workloads) != 2 || len(out.Changes) != 0 {
		t.Errorf("%+v", out)
	}
	out := decode[api.WorkloadsOut](t, ask(t, "PATCH", fmt.Sprint("/programs/spacer/workloads/", w.ID), body(`{"name": "eighty slurs"}`), 200))
	if out.Workloads[0].Name != "eighty slurs" || !out.Workloads[0].Named || out.Workloads[0].Words != "--slurs 80" || out.Changes[0].What != "--slurs 80 named eighty slurs" {
		t.Errorf("%+v", out)
	}
	if merged := decode[api.WorkloadsOut](t, ask(t, "POST", "/programs/spacer/workloads/merge", body(`{"from": [%d], "into": %d}`, w.Workloads[1].ID, w.ID), 200)); len(merged.Workloads) != 1 || merged.Workloads[0].Merged[0] != "attached, --slurs 80" {
		t.Errorf("%+v", merged)
	}
	ask(t, "POST", "/programs/spacer/workloads/undo", body("{}"), 200)
	ask(t, "POST", "/programs/spacer/workloads/undo", body("{}"), 200)
	ask(t, "POST", "/programs/spacer/workloads/undo", body("{}"), 409)
	ask(t, "POST", "/programs/spacer/workloads/move", body(`{"takes": [], "into": %d}`, w.ID), 400)
	ask(t, "PATCH", "/programs/spacer/workloads/no", body(`{"name": "x"}`), 400)
	ask(t, "PATCH", fmt.Sprint("/programs/spacer/workloads/", w.ID+100_000), body(`{"name": "x"}`), 404)
	ask(t, "GET", "/programs/spacer/ledger?workload=0", nil, 400)
	ask(t, "GET", "/programs/spacer/ledger?workload=999999", nil, 404)
}

// TestADriftIsTold: many builds that each cost a little more than the one before are told
// in the ledger, with the build from which on they do, though none is called slower.
func TestADriftIsTold(t *testing.T) {
	for build := range 14 {
		for turn := range 2 {
			tk := invent.Take(uint64(600+10*build+turn), invent.Small)
			tk.Settings.Program, tk.Settings.Build, tk.Facts.EndedBy, tk.Facts.BuildID = "creeper", fmt.Sprintf("1.%02d", build), "exit", ""
			tk.Machine.StartedAt = tk.Machine.StartedAt.AddDate(0, 0, build).Add(time.Duration(turn) * time.Minute)
			tk.Settings.Command = []string{"./creeper"}
			for i := range tk.Profile.Samples.Values[0] {
				tk.Profile.Samples.Values[0][i] = int64(1e6 * (1 + 0.015*float64(build)))
			}
			var b bytes.Buffer
			if err := take.Write(&b, tk); err != nil {
				t.Fatal(err)
			}
			key := decode[api.AddedOut](t, ask(t, "POST", "/takes?name=x.take", &b, 201)).Take.Key
			t.Cleanup(func() { ask(t, "DELETE", "/takes/"+key, nil, 204) })
		}
	}
	l := decode[api.LedgerOut](t, ask(t, "GET", "/programs/creeper/ledger?scale=run", nil, 200))
	if len(l.Builds) != 14 || len(l.Shifts) == 0 || l.Shifts[0].Change < 1.03 || !l.Shifts[0].Unmarked {
		t.Fatalf("%d builds, %+v", len(l.Builds), l.Shifts)
	}
}

// TestAFarOffTake: one take that is far off the others is named, and what the comparison
// comes to without it stands beside.
func TestAFarOffTake(t *testing.T) {
	keys := [2][]string{}
	for n := range 12 {
		tk := invent.Take(uint64(700+n), invent.Small)
		tk.Settings.Program, tk.Settings.Build, tk.Facts.EndedBy, tk.Facts.BuildID = "stamper", fmt.Sprint("1.", n%2), "exit", ""
		tk.Machine.StartedAt = tk.Machine.StartedAt.Add(time.Duration(n) * time.Minute)
		worth := int64(1e6 + 1e3*n)
		if n == 7 {
			worth *= 5
		}
		for i := range tk.Profile.Samples.Values[0] {
			tk.Profile.Samples.Values[0][i] = worth
		}
		var b bytes.Buffer
		if err := take.Write(&b, tk); err != nil {
			t.Fatal(err)
		}
		key := decode[api.AddedOut](t, ask(t, "POST", "/takes?name=x.take", &b, 201)).Take.Key
		t.Cleanup(func() { ask(t, "DELETE", "/takes/"+key, nil, 204) })
		keys[n%2] = append(keys[n%2], key)
	}
	query := "/compare?scale=run&baseline=" + strings.Join(keys[0], ",") + "&candidate="
	c := decode[api.CompareOut](t, ask(t, "GET", query+strings.Join(keys[1], ","), nil, 200))
	if w := c.Without; w == nil || len(w.Takes) != 1 || w.Takes[0] != keys[1][3] || w.Whole.Ratio > 1.1 || c.Whole.Ratio < 1.4 {
		t.Fatalf("%+v, %+v", c.Without, c.Whole)
	}
	if rest := decode[api.CompareOut](t, ask(t, "GET", query+strings.Join(append(keys[1][:3:3], keys[1][4:]...), ","), nil, 200)); rest.Without != nil || rest.Whole != c.Without.Whole {
		t.Errorf("left out, it is %+v, and beside it stood %+v", rest.Whole, c.Without.Whole)
	}
}
