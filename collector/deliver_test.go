package collector

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"testing"
	"time"

	"entelon/server/api"
)

// TestSendingTakesNoMoreMemoryThanIsNew: what a growing take has gained is sent twice a
// second, for as long as it is made.
func TestSendingTakesNoMoreMemoryThanIsNew(t *testing.T) {
	var size int64
	ts := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at, err := strconv.ParseInt(r.URL.Query().Get("at"), 10, 64)
		if err != nil || at != size {
			t.Errorf("a piece at %d after %d: %v", at, size, err)
		}
		n, err := io.Copy(io.Discard, r.Body)
		if err != nil {
			t.Error(err)
		}
		size += n
		if err := json.NewEncoder(w).Encode(api.GrowOut{Size: size}); err != nil {
			t.Error(err)
		}
	}))
	defer ts.Close()
	base, err := url.Parse(ts.URL)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "x.take")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	var whole int64
	const gain, times = 20 << 10, 50
	g := &growth{
		w:  &Collector{server: &Client{base: base, client: ts.Client(), secret: "s", until: time.Now().Add(time.Hour)}},
		id: "x", path: path, whole: func() int64 { return whole }, stop: func() {},
	}
	var before, after runtime.MemStats
	for i := range times + 1 {
		if i == 1 { // the connection is there
			runtime.ReadMemStats(&before)
		}
		if _, err := f.Write(make([]byte, gain)); err != nil {
			t.Fatal(err)
		}
		whole += gain
		if err := g.once(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	runtime.ReadMemStats(&after)
	if size != whole {
		t.Errorf("%d of %d bytes were sent", size, whole)
	}
	// Both sides are in this process.
	if each := (after.TotalAlloc - before.TotalAlloc) / times; each > gain*2+100<<10 {
		t.Errorf("%d bytes are allocated for %d that are new", each, gain)
	} else {
		t.Logf("%d bytes for %d that are new", each, gain)
	}
}
