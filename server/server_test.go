package server_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/people"
	"entelon/server"
	"entelon/server/api"
	"entelon/store"
	"entelon/store/private"
)

var (
	database string // its address
	st       *store.Store
	ts       *httptest.Server
	owner    string // a token of the owner
	// sourceFolder is where the server reads source from.
	sourceFolder string
	router       routers.Router // finds what the description says of a request
)

func TestMain(m *testing.M) {
	code, err := withServer(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

func withServer(m *testing.M) (int, error) {
	ctx := context.Background()
	pg, err := private.Temporary(ctx)
	if err != nil {
		return 1, err
	}
	defer pg.Stop()
	database = pg.Address
	if st, err = store.Open(ctx, pg.Address); err != nil {
		return 1, err
	}
	defer st.Close()
	if sourceFolder, err = os.MkdirTemp("", "source"); err != nil {
		return 1, err
	}
	defer func() { _ = os.RemoveAll(sourceFolder) }() // what is left of it hurts nobody
	h, err := server.New(st, server.Options{MaxUpload: 8 << 20, Sources: []string{sourceFolder}})
	if err != nil {
		return 1, err
	}
	first, err := st.FirstPerson(ctx)
	if err != nil {
		return 1, err
	}
	if _, owner, err = st.AddToken(ctx, first.ID, "tests", people.Collect); err != nil {
		return 1, err
	}
	ts = httptest.NewServer(h)
	defer ts.Close()
	b, err := server.Description()
	if err != nil {
		return 1, err
	}
	doc, err := openapi3.NewLoader().LoadFromData(b)
	if err != nil {
		return 1, err
	}
	if router, err = gorillamux.NewRouter(doc); err != nil {
		return 1, err
	}
	return m.Run(), nil
}

// ask sends a request and holds the answer against the description.
func ask(t *testing.T, method, path string, body io.Reader, status int) []byte {
	t.Helper()
	req, err := http.NewRequest(method, ts.URL+"/api/v1"+path, body)
	if err != nil {
		t.Fatal(err)
	}
	if method == http.MethodPatch || method == http.MethodPut {
		req.Header.Set("Content-Type", "application/json")
	} else if body != nil {
		req.Header.Set("Content-Type", "application/octet-stream")
	}
	req.Header.Set("Authorization", "Bearer "+owner)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	if resp.StatusCode != status {
		t.Fatalf("%s %s: status %d, want %d: %s", method, path, resp.StatusCode, status, b)
	}
	lookup, err := http.NewRequest(method, "/api/v1"+path, nil)
	if err != nil {
		t.Fatal(err)
	}
	route, params, err := router.FindRoute(lookup)
	if err != nil {
		t.Fatalf("%s %s is not described: %v", method, path, err)
	}
	in := &openapi3filter.RequestValidationInput{Request: lookup, PathParams: params, Route: route}
	out := &openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: resp.StatusCode, Header: resp.Header, Options: &openapi3filter.Options{IncludeResponseStatus: true}}
	out.SetBodyBytes(b)
	if resp.Header.Get("Content-Type") != "application/octet-stream" {
		if err := openapi3filter.ValidateResponse(context.Background(), out); err != nil {
			t.Errorf("%s %s: the answer is not as described: %v", method, path, err)
		}
	}
	return b
}

func decode[T any](t *testing.T, b []byte) (v T) {
	t.Helper()
	if err := json.Unmarshal(b, &v); err != nil {
		t.Fatal(err)
	}
	return v
}

// keep adds a made-up take and returns its key.
func keep(t *testing.T, seed uint64) string {
	t.Helper()
	var b bytes.Buffer
	if err := take.Write(&b, invent.Take(seed, invent.Small)); err != nil {
		t.Fatal(err)
	}
	added := decode[api.AddedOut](t, ask(t, "POST", "/takes?name=x.take", &b, 201))
	t.Cleanup(func() { ask(t, "DELETE", "/takes/"+added.Take.Key, nil, 204) })
	return added.Take.Key
}

func TestEveryRouteAnswersAsDescribed(t *testing.T) {
	a, b := keep(t, 1), keep(t, 2)
	ask(t, "GET", "/about", nil, 200)
	if p := decode[api.ProgramsOut](t, ask(t, "GET", "/programs", nil, 200)); len(p.Programs) != 1 || p.Programs[0].Builds[0].Takes != 2 || len(p.Programs[0].Newest.Name) != 5 || p.Programs[0].Newest.Take != b {
		t.Errorf("%+v", p)
	}
	if l := decode[api.TakesOut](t, ask(t, "GET", "/takes?search=made&sort=samples&descending=true", nil, 200)); l.Count != 2 {
		t.Errorf("%d takes", l.Count)
	}
	d := decode[api.TakeDetail](t, ask(t, "GET", "/takes/"+a, nil, 200))
	if len(d.Measures) != 2 || d.Measures[0].Name != "cpu" || d.Measures[0].Unit != "ns" || len(d.Threads) != invent.Small.Threads || len(d.Siblings) != 2 {
		t.Errorf("%v, %d threads, %d siblings", d.Measures, len(d.Threads), len(d.Siblings))
	}
	if n := decode[api.TakeOut](t, ask(t, "PATCH", "/takes/"+a, strings.NewReader(`{"note":"<b>seen</b>"}`), 200)); n.Note != "<b>seen</b>" {
		t.Errorf("the note is %q", n.Note)
	}
	if f := ask(t, "GET", "/takes/"+a+"/file", nil, 200); int64(len(f)) != d.Take.Size {
		t.Errorf("the file has %d bytes, want %d", len(f), d.Take.Size)
	}
	hot := decode[api.HotOut](t, ask(t, "GET", "/takes/"+a+"/hot?from=100000000&to=900000000", nil, 200))
	var sum int64
	for _, v := range hot.Self {
		sum += v
	}
	if sum != hot.Total || len(hot.Reading) == 0 {
		t.Errorf("self costs sum to %d of %d, %d parts of a reading", sum, hot.Total, len(hot.Reading))
	}
	name := hot.Functions[0].Name
	card := decode[api.FunctionOut](t, ask(t, "GET", "/takes/"+a+"/function?name="+name, nil, 200))
	if card.Function.Name != name || card.TotalLow > float64(card.Total)/float64(card.ScopeTotal)+0.1 || len(card.Builds) != 1 {
		t.Errorf("%+v", card)
	}
	for _, scope := range []string{"", "&from=100000000&to=900000000"} {
		card := decode[api.FunctionOut](t, ask(t, "GET", "/takes/"+a+"/function?name="+name+scope, nil, 200))
		var found, into int64
		for _, f := range card.Origin.Found {
			found += f.Value
		}
		for _, e := range card.Origin.Into {
			into += e.Value
		}
		if found != card.Total || into != card.Origin.Inlined || len(card.Origin.Lines) == 0 {
			t.Errorf("%q: of a total of %d, %d were found in some way; %+v", scope, card.Total, found, card.Origin)
		}
	}
	times := decode[api.TimesOut](t, ask(t, "GET", "/takes/"+a+"/times?bins=10", nil, 200))
	sum = 0
	for i := range times.User {
		sum += times.User[i] + times.Kernel[i]
	}
	if sum != d.Take.Samples {
		t.Errorf("%d samples over time, want %d", sum, d.Take.Samples)
	}
	c := decode[api.CompareOut](t, ask(t, "GET", "/compare?baseline="+a+"&candidate="+b, nil, 200))
	if c.Scale != "run" || len(c.Rows) == 0 {
		t.Errorf("compared by %s, %d rows", c.Scale, len(c.Rows))
	}
	ask(t, "GET", "/takes/"+a+"/search?text=fn", nil, 200)
	ask(t, "GET", "/jobs?running=true", nil, 200)
	ask(t, "GET", "/collectors", nil, 200)
}

// TestFlameColumns: equal lengths, conserved widths, and a dive that shows the
// same frames as the whole.
func TestFlameColumns(t *testing.T) {
	a := keep(t, 3)
	f := decode[api.FlameOut](t, ask(t, "GET", "/takes/"+a+"/flame?pixels=60000", nil, 200))
	n := len(f.Node)
	if len(f.Function) != n || len(f.Depth) != n || len(f.X) != n || len(f.Width) != n || len(f.Self) != n || len(f.Hidden) != n || len(f.Inlined) != n {
		t.Fatal("the columns differ in length")
	}
	var self int64
	for i := range n {
		if f.Hidden[i] > 0 {
			self += f.Width[i]
		} else {
			self += f.Self[i]
		}
	}
	if self != f.Total || f.Width[0] != f.Total {
		t.Errorf("self costs and bands sum to %d, the total is %d", self, f.Total)
	}
	into := -1
	for i := range n {
		if f.Depth[i] == 2 && f.Hidden[i] == 0 {
			into = i
		}
	}
	d := decode[api.FlameOut](t, ask(t, "GET", fmt.Sprintf("/takes/%s/flame?root=%d&pixels=60000", a, f.Node[into]), nil, 200))
	if d.Width[0] != f.Width[into] || d.Total != f.Total || len(d.Path) != 2 || d.Path[0].Node != 0 {
		t.Errorf("dived into %d of %d; it is %d of %d with %d frames above", f.Width[into], f.Total, d.Width[0], d.Total, len(d.Path))
	}
	coarse := decode[api.FlameOut](t, ask(t, "GET", "/takes/"+a+"/flame?pixels=40", nil, 200))
	bands := 0
	for _, h := range coarse.Hidden {
		if h > 0 {
			bands++
		}
	}
	if len(coarse.Node) >= n || bands == 0 {
		t.Errorf("on 40 pixels there are %d boxes of %d, %d of them bands", len(coarse.Node), n, bands)
	}
}

func TestWhatCannotBeAnswered(t *testing.T) {
	a := keep(t, 4)
	for path, status := range map[string]int{
		"/takes/nosuchtake":                                          404,
		"/takes/nosuchtake/hot":                                      404,
		"/takes?sort=colour":                                         400,
		"/takes?limit=-1":                                            400,
		"/takes/" + a + "/hot?from=x":                                400,
		"/takes/" + a + "/hot?from=9&to=3":                           400,
		"/takes/" + a + "/flame?root=99999999":                       400,
		"/takes/" + a + "/flame?order=colour":                        400,
		"/takes/" + a + "/flame?pixels=0":                            400,
		"/takes/" + a + "/function?name=nobody":                      404,
		"/takes/" + a + "/times?bins=0":                              400,
		"/compare?baseline=" + a + "&candidate=no":                   404,
		"/compare?baseline=" + a + "&candidate=" + a + "&scale=feet": 400,
	} {
		e := decode[api.ErrorBody](t, ask(t, "GET", path, nil, status))
		if e.Error == "" || strings.Contains(e.Error, "\n") {
			t.Errorf("%s: %q is not one line", path, e.Error)
		}
	}
	ask(t, "PATCH", "/takes/"+a, strings.NewReader(`{"note":7}`), 400)
	ask(t, "PATCH", "/takes/"+a, strings.NewReader(`{"note":"`+strings.Repeat("x", 20000)+`"}`), 400)
	ask(t, "DELETE", "/takes/nosuchtake", nil, 404)
}

func TestBadUploads(t *testing.T) {
	var b bytes.Buffer
	if err := take.Write(&b, invent.Take(5, invent.Small)); err != nil {
		t.Fatal(err)
	}
	whole := b.Bytes()
	harmed := bytes.Clone(whole)
	harmed[len(harmed)/2] ^= 1
	for name, c := range map[string]struct {
		body   []byte
		status int
		words  string
	}{
		"empty": {nil, 422, "empty"}, "text": {[]byte("dear reader, no take"), 422, "not a take"}, "cut": {whole[:len(whole)/2], 422, "cut off"},
		"harmed": {harmed, 422, "damaged"}, "enormous": {append(bytes.Clone(whole), make([]byte, 9<<20)...), 413, "larger"},
	} {
		e := decode[api.ErrorBody](t, ask(t, "POST", "/takes?name=slow.take", bytes.NewReader(c.body), c.status))
		if !strings.Contains(e.Error, c.words) && !strings.Contains(e.Error, "too large") {
			t.Errorf("%s: %q", name, e.Error)
		}
		if name != "enormous" && !strings.Contains(e.Error, "slow.take") {
			t.Errorf("%s: %q does not name the file", name, e.Error)
		}
	}
	// An upload whose sender goes away in the middle.
	conn, err := net.Dial("tcp", ts.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(conn, "POST /api/v1/takes HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: %d\r\n\r\n%s", len(whole), whole[:len(whole)/2])
	if err := conn.Close(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(100 * time.Millisecond)
	if l := decode[api.TakesOut](t, ask(t, "GET", "/takes", nil, 200)); l.Count != 0 {
		t.Errorf("%d takes were left by bad uploads", l.Count)
	}
}

func TestOnlyForThisSite(t *testing.T) {
	for name, c := range map[string]struct {
		method, host, origin, site string
		status                     int
	}{
		"another name":     {"GET", "entelon.example", "", "", 421},
		"its own name":     {"GET", "localhost:1", "", "", 200},
		"address":          {"GET", "[::1]:7420", "", "", 200},
		"another origin":   {"DELETE", "127.0.0.1", "http://evil.example", "", 403},
		"its own origin":   {"DELETE", "127.0.0.1", "http://127.0.0.1", "same-origin", 404},
		"cross-site":       {"DELETE", "127.0.0.1", "", "cross-site", 403},
		"origin is no URL": {"DELETE", "127.0.0.1", "null", "", 403},
	} {
		path := map[string]string{"GET": "/api/v1/about", "DELETE": "/api/v1/takes/none"}[c.method]
		req, err := http.NewRequest(c.method, ts.URL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Host = c.host
		req.Header.Set("Authorization", "Bearer "+owner)
		if c.origin != "" {
			req.Header.Set("Origin", c.origin)
		}
		if c.site != "" {
			req.Header.Set("Sec-Fetch-Site", c.site)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != c.status {
			t.Errorf("%s: status %d, want %d", name, resp.StatusCode, c.status)
		}
	}
}

// asOwner asks with the owner's token.
func asOwner(method, address string, body io.Reader) (*http.Response, error) {
	req, err := http.NewRequest(method, address, body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+owner)
	return http.DefaultClient.Do(req)
}

// TestDatabaseGoes: the server says so in one line, and goes on when it is back.
func TestDatabaseGoes(t *testing.T) {
	ctx := context.Background()
	pg, err := private.Temporary(ctx)
	if err != nil {
		t.Fatal(err)
	}
	own, err := store.Open(ctx, pg.Address)
	if err != nil {
		t.Fatal(err)
	}
	defer own.Close()
	h, err := server.New(own, server.Options{})
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(h)
	defer srv.Close()
	if err := pg.Stop(); err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := take.Write(&b, invent.Take(6, invent.Small)); err != nil {
		t.Fatal(err)
	}
	for range 3 {
		for _, send := range []func() (*http.Response, error){
			func() (*http.Response, error) { return asOwner(http.MethodGet, srv.URL+"/api/v1/takes", nil) },
			func() (*http.Response, error) {
				return asOwner(http.MethodPost, srv.URL+"/api/v1/takes", bytes.NewReader(b.Bytes()))
			},
		} {
			resp, err := send()
			if err != nil {
				t.Fatal(err)
			}
			text, err := io.ReadAll(resp.Body)
			resp.Body.Close()
			if err != nil {
				t.Fatal(err)
			}
			if e := decode[api.ErrorBody](t, text); resp.StatusCode != 503 || !strings.Contains(e.Error, "does not answer at 127.0.0.1") || e.Remedy == "" {
				t.Errorf("status %d: %s", resp.StatusCode, text)
			}
		}
	}
}
