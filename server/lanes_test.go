package server_test

import (
	"bytes"
	"fmt"
	"testing"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/server/api"
)

// TestLanes: rows add up to what each thread did, at every zoom; a wait says who ended it; what
// cannot be asked is refused.
func TestLanes(t *testing.T) {
	var b bytes.Buffer
	if err := take.Write(&b, invent.Invention{Samples: 3000, Stacks: 200, Seed: 9, Intervals: 20_000, Lanes: 5, Seconds: 20}.Take()); err != nil {
		t.Fatal(err)
	}
	key := decode[api.AddedOut](t, ask(t, "POST", "/takes?name=x.take", &b, 201)).Take.Key
	t.Cleanup(func() { ask(t, "DELETE", "/takes/"+key, nil, 204) })
	whole := decode[api.LanesOut](t, ask(t, "GET", "/takes/"+key+"/lanes", nil, 200))
	if len(whole.Lanes) < 5 || len(whole.Rows) != len(whole.Lanes) || !whole.Measured {
		t.Fatalf("%d lanes, %d rows, measured: %v", len(whole.Lanes), len(whole.Rows), whole.Measured)
	}
	wait, thread := int64(-1), uint32(0)
	for _, parts := range []int{10, 500, 4000} {
		got := decode[api.LanesOut](t, ask(t, "GET", fmt.Sprintf("/takes/%s/lanes?parts=%d", key, parts), nil, 200))
		for i, row := range got.Rows {
			sums := make([]int64, len(got.States))
			for k := 0; k < len(row.Runs); k += 6 {
				r := row.Runs[k : k+6]
				if r[3] == 1 {
					sums[r[2]] += r[1] - r[0]
					if got.States[r[2]].Name == "lock" {
						wait, thread = (r[0]+r[1])/2, got.Lanes[i].ID
					}
					continue
				}
				for spent := row.Spent[r[5]]; len(spent) > 0; spent = spent[2:] {
					sums[spent[0]] += spent[1]
				}
			}
			for s, want := range got.Lanes[i].Spent {
				if sums[s] != want {
					t.Errorf("in %d parts thread %s has %d ns of %s, and %d in all", parts, got.Lanes[i].Thread, sums[s], got.States[s].Name, want)
				}
			}
		}
	}
	at := decode[api.LaneAtOut](t, ask(t, "GET", fmt.Sprintf("/takes/%s/lanes/at?thread=%d&at=%d", key, thread, wait), nil, 200))
	if at.State != "lock" || at.By == nil || len(at.Stack) == 0 || at.FromNS > wait || at.ToNS <= wait {
		t.Errorf("the wait is %+v", at)
	}
	open := decode[api.LanesOut](t, ask(t, "GET", fmt.Sprintf("/takes/%s/lanes?open=%d&begin=0&end=500000000", key, whole.Lanes[0].ID), nil, 200))
	if bars := open.Rows[0].Bars; len(bars) == 0 || len(bars)%6 != 0 || len(open.Functions) == 0 {
		t.Errorf("%d numbers of bars, %d functions", len(bars), len(open.Functions))
	}
	bare := decode[api.LanesOut](t, ask(t, "GET", "/takes/"+key+"/lanes?bare=true", nil, 200))
	if len(bare.Lanes) != 0 || len(bare.Rows) != len(whole.Rows) {
		t.Errorf("rows alone are %d, with %d lanes", len(bare.Rows), len(bare.Lanes))
	}
	one := decode[api.LanesOut](t, ask(t, "GET", "/takes/"+key+"/lanes?scope=thread+is+worker-3", nil, 200))
	if len(one.Lanes) != 1 || one.Hidden != len(whole.Lanes)-1 {
		t.Errorf("in scope are %d lanes, and %d are not", len(one.Lanes), one.Hidden)
	}
	path := decode[api.LanePathOut](t, ask(t, "GET", fmt.Sprintf("/takes/%s/lanes/path?thread=%d&begin=%d&end=%d", key, thread, wait, wait+100_000_000), nil, 200))
	blamed, end := int64(0), path.FromNS
	for _, b := range path.Blame {
		blamed += b.NS
	}
	for s := path.Steps; len(s) > 0; s = s[5:] {
		if s[0] != end {
			t.Errorf("a step begins at %d, and the one before ended at %d", s[0], end)
		}
		end = s[1]
	}
	if blamed != path.ToNS-path.FromNS || end != path.ToNS || path.Cut || len(path.Steps) < 10 {
		t.Errorf("of %d ns, %d are told; the steps end at %d, want %d", path.ToNS-path.FromNS, blamed, end, path.ToNS)
	}
	for _, bad := range []string{"lanes/path?thread=99", "lanes/path", "lanes?begin=5&end=5", "lanes?parts=0", "lanes?parts=5000", "lanes?count=1000", "lanes?open=x", "lanes/at?thread=99&at=1", "lanes/at?thread=0&at=99999999999999", "lanes/at?at=1"} {
		ask(t, "GET", "/takes/"+key+"/"+bad, nil, 400)
	}
}
