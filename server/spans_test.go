package server_test

import (
	"fmt"
	"net/url"
	"os"
	"testing"

	"entelon/server/api"
)

// TestSpans: the demo's slow pages are found, and what they were slow for: who held the lock of the glyph
// cache, doing what. All figures add up, and scopes hold for them.
func TestSpans(t *testing.T) {
	f, err := os.Open("../demo/takes/engraved-3.7.0-spans.take")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	key := decode[api.AddedOut](t, ask(t, "POST", "/takes?name=x.take", f, 201)).Take.Key
	t.Cleanup(func() { ask(t, "DELETE", "/takes/"+key, nil, 204) })
	all := decode[api.SpansOut](t, ask(t, "GET", "/takes/"+key+"/spans", nil, 200))
	if len(all.Names) != 2 || all.Name != "main.Engrave" || all.All != 300 || !all.Known || len(all.Dots) != 4*300 || len(all.Threads) == 0 {
		t.Fatalf("%d names, %q has %d, %d numbers of dots", len(all.Names), all.Name, all.All, len(all.Dots))
	}
	counted, ended := int64(0), 0
	for i := 0; i < len(all.Buckets); i += 3 {
		counted += all.Buckets[i+2]
	}
	for _, n := range all.Rate {
		ended += n
	}
	if counted != 300 || ended != 300 {
		t.Errorf("the histogram has %d spans, the rate %d", counted, ended)
	}
	few := decode[api.SpansOut](t, ask(t, "GET", "/takes/"+key+"/spans?dots=20&name=main.Engrave", nil, 200))
	if n := len(few.Dots) / 4; n < 10 || n > 30 || few.All != 300 {
		t.Errorf("%d of %d are drawn", n, few.All)
	}

	blame := decode[api.SpanBlameOut](t, ask(t, "GET", "/takes/"+key+"/spans/blame?name=main.Engrave&permille=10", nil, 200))
	sum := int64(0)
	for _, r := range blame.Blame {
		sum += r.NS
	}
	if blame.Spans != 3 || sum != blame.TotalNS || blame.Flame.Total != sum || blame.Flame.Width[0] != sum {
		t.Errorf("%d spans, %d ns, rows of %d, a flame of %d", blame.Spans, blame.TotalNS, sum, blame.Flame.Total)
	}
	first := blame.Blame[0]
	if !first.Lane.Routine || blame.States[first.State].Name != "disk" || blame.Functions[first.Function].Short != "glyph.picture" || 4*first.NS < sum {
		t.Errorf("the slow ones were slow for %+v", first)
	}
	slow := fmt.Sprintf("longer=%d", all.Percentiles[2*8+1])
	if some := decode[api.SpanBlameOut](t, ask(t, "GET", "/takes/"+key+"/spans/blame?name=main.Engrave&permille=1000&"+slow, nil, 200)); some.Spans < 3 || some.Spans > 10 {
		t.Errorf("%d spans are as slow as the slowest hundredth", some.Spans)
	}

	// While the slow ones went on, the disk was written to; scopes of spans hold in other lenses.
	scoped := func(scope string) api.LanesOut {
		return decode[api.LanesOut](t, ask(t, "GET", "/takes/"+key+"/lanes?count=0&scope="+url.QueryEscape(scope), nil, 200))
	}
	if n := len(scoped("during span main.Engrave longer than 100 ms").Lanes); n == 0 || n >= len(scoped("").Lanes) {
		t.Errorf("%d lanes have something in slow spans", n)
	}
	narrow := decode[api.SpansOut](t, ask(t, "GET", "/takes/"+key+"/spans?scope="+url.QueryEscape("time from 2 s to 4 s"), nil, 200))
	if narrow.All == 0 || narrow.All >= 300 {
		t.Errorf("%d spans are in two seconds", narrow.All)
	}
	for _, bad := range []string{"spans/blame", "spans/blame?name=none", "spans/blame?name=main.Engrave&permille=0", "spans/blame?name=main.Engrave&permille=1001", "spans/blame?name=main.Engrave&longer=99999999999999", "spans?dots=20001", "spans?bins=0", "spans?scope=during+draw"} {
		ask(t, "GET", "/takes/"+key+"/"+bad, nil, 400)
	}
}
