package server_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/server/api"
	"entelon/store/jobs"
)

func takeBytes(t *testing.T, change func(*profile.Take)) []byte {
	t.Helper()
	x := invent.Take(77, invent.Small)
	change(x)
	var b bytes.Buffer
	if err := take.Write(&b, x); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestTakesThatSayWhatCannotBe are refused at the door in one line, and change
// no list.
func TestTakesThatSayWhatCannotBe(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*profile.Take)
		says   string
	}{
		"processor time": {func(x *profile.Take) { x.Facts.CPUNS = math.MaxInt64 }, "processor time"},
		"negative":       {func(x *profile.Take) { x.Facts.Lost = -1 }, "lost samples"},
		"a long name":    {func(x *profile.Take) { x.Settings.Program = strings.Repeat("x", 9000) }, "program"},
		"a long build":   {func(x *profile.Take) { x.Settings.Build = strings.Repeat("x", 9000) }, "build"},
		"not text":       {func(x *profile.Take) { x.Settings.Program = "a\x00b" }, "program"},
		"a bell":         {func(x *profile.Take) { x.Settings.Build = "a\ab" }, "control"},
		"the far future": {func(x *profile.Take) { x.Machine.StartedAt = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC) }, "year"},
		"a huge value":   {func(x *profile.Take) { x.Profile.Samples.Values[0][3] = math.MaxInt64 }, "cannot be"},
		"a huge sum": {func(x *profile.Take) {
			for i := range x.Profile.Samples.Values[0] {
				x.Profile.Samples.Values[0][i] = 1 << 59
			}
		}, "add up"},
		"less than nothing": {func(x *profile.Take) { x.Profile.Samples.Values[0][3] = -5 }, "cannot be"},
		"a 20 MB command":   {func(x *profile.Take) { x.Settings.Command = []string{"engraved", strings.Repeat("y", 20<<20)} }, "8 MB"},
		"columns":           {func(x *profile.Take) { x.Facts.Usage = &profile.Usage{TimeNS: []int64{1, 2}, CPUNS: []int64{1}} }, "columns"},
	} {
		e := decode[api.ErrorBody](t, ask(t, "POST", "/takes?name=x.take", bytes.NewReader(takeBytes(t, c.change)), http.StatusUnprocessableEntity))
		if !strings.Contains(e.Error, c.says) || strings.Contains(e.Error, "\n") || len(e.Error) > 1000 {
			t.Errorf("%s: %q", name, e.Error)
		}
	}
	for _, path := range []string{"/programs", "/takes", "/jobs"} {
		ask(t, "GET", path, nil, http.StatusOK)
	}
}

// TestNamesWithEverythingInThem: names that are odd, but names, are found again
// by every route that has one in its address.
func TestNamesWithEverythingInThem(t *testing.T) {
	for _, name := range []string{"a/b", "../../etc", "100 %", "ä?ö#ü", `"quoted" & <b>`, "%2e%2e%2f", "a+b=c", strings.Repeat("ж", 190)} {
		added := decode[api.AddedOut](t, ask(t, "POST", "/takes", bytes.NewReader(takeBytes(t, func(x *profile.Take) {
			x.Settings.Program, x.Settings.Build = name, name
			x.Settings.Note = name
		})), http.StatusCreated))
		if added.Take.Program != name {
			t.Fatalf("%q became %q", name, added.Take.Program)
		}
		for _, path := range []string{"ledger", "pins", "sources", "matches", "function?name=fn1"} {
			resp, err := http.NewRequest("GET", ts.URL+"/api/v1/programs/"+url.PathEscape(name)+"/"+path, nil)
			if err != nil {
				t.Fatal(err)
			}
			resp.Header.Set("Authorization", "Bearer "+owner)
			got, err := http.DefaultClient.Do(resp)
			if err != nil {
				t.Fatal(err)
			}
			got.Body.Close()
			if got.StatusCode != http.StatusOK {
				t.Errorf("%q, %s: %s", name, path, got.Status)
			}
		}
		ask(t, "DELETE", "/takes/"+added.Take.Key, nil, http.StatusNoContent)
	}
	for _, path := range []string{"/programs/a%00b/ledger", "/programs/a%ffb/ledger", "/takes?search=%00", "/takes?search=%ff", "/takes/%00"} {
		req, err := http.NewRequest("GET", ts.URL+"/api/v1"+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+owner)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != http.StatusBadRequest {
			t.Errorf("%s: %s", path, resp.Status)
		}
	}
}

// TestRowsThatCannotBeShown: whatever stands in the database, lists go on, and
// say of the row that it cannot be read.
func TestRowsThatCannotBeShown(t *testing.T) {
	ctx := context.Background()
	added := decode[api.AddedOut](t, ask(t, "POST", "/takes", bytes.NewReader(takeBytes(t, func(x *profile.Take) { x.Settings.Program = "broken rows" })), http.StatusCreated))
	t.Cleanup(func() { ask(t, "DELETE", "/takes/"+added.Take.Key, nil, http.StatusNoContent) })
	job := &jobs.Job{Kind: "take", Collector: "nobody here", Settings: profile.Settings{Command: []string{"x"}}, Who: "mara"}
	if err := st.AddJob(ctx, job); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _, _ = st.StopJob(ctx, job.ID) })
	for _, sql := range []string{
		`UPDATE takes SET cpu_ns = 9223372036854775807, duration_ns = -1, settings = '{"command": 7}', machine = '[]', facts = '"x"', outline = '7', started_at = '290000-01-01' WHERE key = '` + added.Take.Key + `'`,
		`UPDATE function_figures SET self = 9223372036854775807 WHERE take_id = (SELECT id FROM takes WHERE key = '` + added.Take.Key + `')`,
		`UPDATE jobs SET settings = '[1]', result = '7' WHERE id = '` + job.ID + `'`,
		`INSERT INTO collectors (name, public_key, seen_at, report) VALUES ('broken report', 'x', now(), '[7]')`,
	} {
		execute(t, sql)
	}
	t.Cleanup(func() { _, _ = st.RemoveCollector(ctx, "broken report") })
	list := decode[api.TakesOut](t, ask(t, "GET", "/takes?search=broken", nil, http.StatusOK))
	if len(list.Takes) != 1 || list.Takes[0].Broken == "" {
		t.Errorf("%+v", list)
	}
	for _, path := range []string{"/programs", "/takes", "/jobs", "/jobs?running=true", "/collectors", "/programs/broken%20rows/ledger", "/takes/" + added.Take.Key} {
		ask(t, "GET", path, nil, http.StatusOK)
	}
	press := enrolled(t, "press of broken rows")
	done := make(chan int, 1)
	go func() {
		status, _ := request(t, http.DefaultClient, http.MethodPost, "/collector/next", api.CollectorIn{}, press.header(t))
		done <- status
	}()
	if _, err := st.StopJob(ctx, job.ID); err != nil {
		t.Error(err)
	}
	j := &jobs.Job{Kind: "groups", Collector: press.name, Who: "mara"}
	if err := st.AddJob(ctx, j); err != nil {
		t.Fatal(err)
	}
	if status := <-done; status != http.StatusOK {
		t.Errorf("a collector's poll: %d", status)
	}
}

// TestBodiesAreBounded: nobody, signed in or not, can send more than a route
// takes, nor texts that no database keeps.
func TestBodiesAreBounded(t *testing.T) {
	big := strings.Repeat("x", 5<<20)
	for path, body := range map[string]any{
		"/sign-in": api.SignInIn{Name: big}, "/enter": api.EnterIn{Link: big}, "/collector/enrol": api.EnrolIn{Link: big}, "/collector/session": api.CollectorSessionIn{Name: big},
	} {
		if status, text := post(t, http.DefaultClient, path, body); status != http.StatusRequestEntityTooLarge {
			t.Errorf("%s: %d, %.200s", path, status, text)
		}
	}
	header := http.Header{"Authorization": {"Bearer " + owner}}
	if status, text := request(t, http.DefaultClient, http.MethodPost, "/jobs", api.JobIn{Settings: &profile.Settings{Note: big}}, header); status != http.StatusRequestEntityTooLarge {
		t.Errorf("a job: %d, %.200s", status, text)
	}
	for _, body := range []string{`{"name":"a\u0000"}`, `{"name":"a"} {"name":"b"}`, `{"name":`, `[`, `7`} {
		resp, err := http.Post(ts.URL+"/api/v1/sign-in", "application/json", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		var e api.ErrorBody
		err = json.NewDecoder(resp.Body).Decode(&e)
		resp.Body.Close()
		if resp.StatusCode != http.StatusBadRequest || err != nil || strings.Contains(e.Error, "\n") {
			t.Errorf("%s: %s, %+v", body, resp.Status, e)
		}
	}
}

// TestDeepTakes: the answer about a stack of a hundred thousand frames has a
// bound, says what it leaves out, and what it leaves out can be dived into.
func TestDeepTakes(t *testing.T) {
	const frames = 100_000
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	p := b.Process(1)
	th := b.Thread(p, 1)
	m := b.Module(profile.Module{Path: b.Intern("/srv/engraved"), Kind: profile.KindOwn})
	f := b.Function(profile.Function{Name: b.Intern("nest"), Module: m, Kind: profile.KindOwn})
	fr := b.Frame(profile.Frame{Function: f})
	s := profile.StackID(0)
	for i := range frames {
		if s = b.Push(s, fr); i%100 == 0 {
			b.Sample(int64(i)*1000, th, s, 1000)
		}
	}
	x := invent.Take(5, invent.Small)
	x.Profile, x.Settings.Program = b.Profile(), "deep"
	var file bytes.Buffer
	if err := take.Write(&file, x); err != nil {
		t.Fatal(err)
	}
	key := decode[api.AddedOut](t, ask(t, "POST", "/takes", &file, http.StatusCreated)).Take.Key
	t.Cleanup(func() { ask(t, "DELETE", "/takes/"+key, nil, http.StatusNoContent) })
	root, dives := uint32(0), 0
	for ; dives < 3; dives++ {
		answer := ask(t, "GET", fmt.Sprintf("/takes/%s/flame?root=%d", key, root), nil, http.StatusOK)
		if len(answer) > 1<<20 {
			t.Fatalf("the answer has %d bytes", len(answer))
		}
		flame := decode[api.FlameOut](t, answer)
		last := len(flame.Node) - 1
		if flame.Deep[last] != 1 || flame.Hidden[last] == 0 || flame.Width[last] == 0 {
			t.Fatalf("the last box is not a band of deeper frames: %d, %d", flame.Hidden[last], flame.Width[last])
		}
		if dives > 0 && flame.Above+len(flame.Path) < 900*dives {
			t.Errorf("%d ancestors and %d above them", len(flame.Path), flame.Above)
		}
		root = flame.Node[last]
	}
	for path, most := range map[string]int{"paths?heaviest=true": 1 << 20, "hot": 1 << 20, "picture.svg": 2 << 20, "data.json": 8 << 20, "report.html": 4 << 20, "graph": 1 << 20, "neighbours?name=nest": 1 << 20, "function?name=nest": 1 << 20} {
		if b := ask(t, "GET", "/takes/"+key+"/"+path, nil, http.StatusOK); len(b) > most {
			t.Errorf("%s has %d bytes", path, len(b))
		}
	}
	ask(t, "GET", "/takes/"+key+"/stacks.txt", nil, http.StatusRequestEntityTooLarge)
	if b := ask(t, "GET", "/compare/mirror?baseline="+key+"&candidate="+key, nil, http.StatusOK); len(b) > 4<<20 {
		t.Errorf("the mirror has %d bytes", len(b))
	}
}

// execute changes the database behind the store's back.
func execute(t *testing.T, sql string) {
	t.Helper()
	db, err := pgx.Connect(context.Background(), database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	if _, err := db.Exec(context.Background(), sql); err != nil {
		t.Fatal(err)
	}
}
