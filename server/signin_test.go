package server_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"

	"entelon/people"
	"entelon/server"
	"entelon/server/api"
	"entelon/store/accounts"
)

// needed says who may use each route; a route that is not here fails the test.
var needed = map[string]string{
	"GET /about": "look", "GET /me": "look", "PATCH /me": "person", "POST /enter": "", "POST /sign-in": "", "POST /sign-out": "",
	"GET /me/tokens": "person", "POST /me/tokens": "person", "DELETE /me/tokens/{id}": "person",
	"GET /people": "owner", "POST /people": "owner", "PATCH /people/{id}": "owner", "POST /people/{id}/link": "owner", "GET /audit": "owner",
	"GET /programs": "look", "GET /takes": "look", "POST /takes": "work", "GET /takes/{key}": "look", "PATCH /takes/{key}": "work", "DELETE /takes/{key}": "work",
	"GET /takes/{key}/file": "look", "GET /takes/{key}/hot": "look", "GET /takes/{key}/functions": "look", "GET /takes/{key}/threads": "look", "GET /takes/{key}/builds": "look", "GET /takes/{key}/flame": "look", "GET /takes/{key}/search": "look",
	"GET /takes/{key}/function": "look", "GET /takes/{key}/times": "look", "GET /takes/{key}/scope": "look", "GET /takes/{key}/lines": "look", "GET /takes/{key}/notes": "look", "POST /takes/{key}/notes": "work", "PATCH /notes/{id}": "work", "DELETE /notes/{id}": "work", "GET /programs/{name}/pins": "look", "GET /programs/{name}/sources": "look", "PUT /programs/{name}/sources": "work", "POST /programs/{name}/pins": "work", "GET /takes/{key}/picture.svg": "look", "GET /takes/{key}/table.csv": "look", "GET /takes/{key}/stacks.txt": "look", "GET /takes/{key}/data.json": "look", "GET /takes/{key}/report.html": "look", "GET /takes/{key}/complete": "look", "GET /takes/{key}/kept": "look", "GET /takes/{key}/paths": "look", "GET /takes/{key}/events": "look", "GET /takes/{key}/lanes": "look", "GET /takes/{key}/lanes/at": "look", "GET /takes/{key}/lanes/path": "look", "GET /takes/{key}/spans": "look", "GET /takes/{key}/spans/blame": "look", "GET /takes/{key}/spans/contrast": "look", "GET /takes/{key}/neighbours": "look", "GET /takes/{key}/graph": "look", "GET /compare": "look", "GET /programs/{name}/ledger": "look", "GET /measures": "look", "GET /compare/mirror": "look", "GET /compare/lines": "look", "GET /compare/report.html": "look", "GET /compare/summary.md": "look",
	"GET /programs/{name}/function": "look", "GET /programs/{name}/matches": "look", "POST /programs/{name}/matches": "work",
	"GET /programs/{name}/workloads": "look", "PATCH /programs/{name}/workloads/{id}": "work", "POST /programs/{name}/workloads/merge": "work", "POST /programs/{name}/workloads/move": "work", "POST /programs/{name}/workloads/undo": "work", "PUT /notes/{id}/settled": "work",
	"GET /jobs": "look", "POST /jobs": "collect", "GET /jobs/{id}": "look", "POST /jobs/{id}/stop": "collect", "GET /collectors": "look", "POST /counts": "collect",
	"GET /collectors/{name}/processes": "collect", "GET /collectors/{name}/groups": "collect", "GET /collectors/{name}/measures": "collect", "POST /collector/next": "collector", "POST /collectors": "owner", "DELETE /collectors/{name}": "owner", "POST /collector/enrol": "", "POST /collector/challenge": "", "POST /collector/session": "", "POST /collector/key": "collector", "POST /collector/jobs/{id}/blocks": "collector", "POST /collector/jobs/{id}/end": "collector",
}

// browserOf signs somebody in and returns their browser.
func browserOf(t *testing.T, p *accounts.Person) *http.Client {
	t.Helper()
	secret, err := st.AddLink(context.Background(), p.ID, 1e12)
	if err != nil {
		t.Fatal(err)
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	c := &http.Client{Jar: jar}
	if status, body := post(t, c, "/enter", api.EnterIn{Link: secret}); status != http.StatusOK {
		t.Fatalf("entering as %s: %d, %s", p.Name, status, body)
	}
	return c
}

func post(t *testing.T, c *http.Client, path string, in any) (int, string) {
	t.Helper()
	return request(t, c, http.MethodPost, path, in, nil)
}

func request(t *testing.T, c *http.Client, method, path string, in any, header http.Header) (int, string) {
	t.Helper()
	b, err := json.Marshal(in)
	if err != nil {
		t.Fatal(err)
	}
	req, err := http.NewRequest(method, ts.URL+"/api/v1"+path, bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	for k, v := range header {
		req.Header[k] = v
	}
	resp, err := c.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp.StatusCode, string(text)
}

func somebody(t *testing.T, name string, role people.Role, owner bool) *accounts.Person {
	t.Helper()
	p, err := st.AddPerson(context.Background(), name, role, owner)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// TestEveryRoleAtEveryRoute tries nobody, each role in a browser and by token,
// and who manages people, at every route that is described.
func TestEveryRoleAtEveryRoute(t *testing.T) {
	ctx := context.Background()
	b, err := server.Description()
	if err != nil {
		t.Fatal(err)
	}
	doc, err := openapi3.NewLoader().LoadFromData(b)
	if err != nil {
		t.Fatal(err)
	}
	type visitor struct {
		name   string
		client *http.Client
		header http.Header
		may    map[string]bool
	}
	visitors := []visitor{{"nobody", http.DefaultClient, nil, map[string]bool{"": true}}}
	for i, role := range []people.Role{people.Look, people.Work, people.Collect} {
		may := map[string]bool{"": true, "look": true, "work": i > 0, "collect": i > 1}
		p := somebody(t, "matrix "+string(role), role, false)
		_, secret, err := st.AddToken(ctx, p.ID, "t", people.Collect) // a token has at most the person's role
		if err != nil {
			t.Fatal(err)
		}
		byToken := map[string]bool{}
		for k, v := range may {
			byToken[k] = v
		}
		visitors = append(visitors, visitor{string(role) + " by token", http.DefaultClient, http.Header{"Authorization": {"Bearer " + secret}}, byToken})
		person := map[string]bool{"person": true}
		for k, v := range may {
			person[k] = v
		}
		visitors = append(visitors, visitor{string(role) + " in a browser", browserOf(t, p), nil, person})
	}
	boss := somebody(t, "matrix owner", people.Look, true)
	visitors = append(visitors, visitor{"who manages people", browserOf(t, boss), nil, map[string]bool{"": true, "look": true, "person": true, "owner": true}})
	visitors = append(visitors, visitor{"a wrong token", http.DefaultClient, http.Header{"Authorization": {"Bearer x"}}, map[string]bool{"": true}})
	press := enrolled(t, "matrix press")
	visitors = append(visitors, visitor{"a collector", http.DefaultClient, press.header(t), map[string]bool{"": true, "collector": true}})
	seen := 0
	for path, item := range doc.Paths.Map() {
		for method := range item.Operations() {
			route := strings.TrimPrefix(path, "/api/v1")
			needs, known := needed[method+" "+route]
			if !known {
				t.Errorf("%s %s: nobody said who may use it", method, route)
				continue
			}
			if route == "/collectors/{name}/processes" || route == "/collectors/{name}/groups" || route == "/collectors/{name}/measures" || route == "/sign-out" || route == "/enter" || route == "/sign-in" || route == "/collector/enrol" || route == "/collector/session" || route == "/collector/key" {
				continue // they are open and would end the sessions of this test, or wait for a collector
			}
			seen++
			address := strings.NewReplacer("{key}", "nosuchtake", "{id}", "999999", "{name}", "nobody").Replace(route)
			for _, v := range visitors {
				status, body := request(t, v.client, method, address, map[string]string{}, v.header)
				denied := status == http.StatusUnauthorized || status == http.StatusForbidden
				if denied == v.may[needs] {
					t.Errorf("%s %s by %s: status %d, %s", method, route, v.name, status, body)
				}
			}
		}
	}
	if seen < 25 {
		t.Errorf("only %d routes were tried", seen)
	}
}

// TestPasswordsAndSessions: a password signs in; a wrong one does not, and after
// some attempts nobody may try; a new password ends the other sessions; who is
// locked out is out at once.
func TestPasswordsAndSessions(t *testing.T) {
	ctx := context.Background()
	p := somebody(t, "Greta Stichel", people.Work, false)
	first := browserOf(t, p)
	const password = "burin, burnisher, plate"
	if status, body := request(t, first, http.MethodPatch, "/me", api.ChangeMeIn{Password: "short"}, nil); status != http.StatusBadRequest {
		t.Errorf("a short password: %d, %s", status, body)
	}
	if status, body := request(t, first, http.MethodPatch, "/me", api.ChangeMeIn{Password: password}, nil); status != http.StatusOK {
		t.Fatalf("the first password: %d, %s", status, body)
	}
	signIn := func(name, password string) (*http.Client, int, string) {
		jar, err := cookiejar.New(nil)
		if err != nil {
			t.Fatal(err)
		}
		c := &http.Client{Jar: jar}
		status, body := post(t, c, "/sign-in", api.SignInIn{Name: name, Password: password})
		return c, status, body
	}
	second, status, body := signIn(p.Name, password)
	if status != http.StatusOK {
		t.Fatalf("signing in: %d, %s", status, body)
	}
	if status, body = request(t, second, http.MethodPatch, "/me", api.ChangeMeIn{Password: password + "!", Before: "guess at it"}, nil); status != http.StatusUnauthorized {
		t.Errorf("a new password without the old one: %d, %s", status, body)
	}
	if status, body = request(t, second, http.MethodPatch, "/me", api.ChangeMeIn{Password: password + "!", Before: password}, nil); status != http.StatusOK {
		t.Fatalf("a new password: %d, %s", status, body)
	}
	if status, _ = request(t, first, http.MethodGet, "/me", nil, nil); status != http.StatusUnauthorized {
		t.Errorf("the other session lives on: %d", status)
	}
	if status, _ = request(t, second, http.MethodGet, "/me", nil, nil); status != http.StatusOK {
		t.Errorf("the own session ended: %d", status)
	}
	if _, status, _ = signIn(p.Name, password); status != http.StatusUnauthorized {
		t.Errorf("the password before still works: %d", status)
	}
	_, unknown, unknownBody := signIn("Nobody Known", password)
	_, wrong, wrongBody := signIn(p.Name, password)
	if unknown != wrong || unknownBody != wrongBody {
		t.Errorf("a name that is not known can be told: %s and %s", unknownBody, wrongBody)
	}
	limited := false
	for range 12 {
		if _, status, _ = signIn(p.Name, "wrong again"); status == http.StatusTooManyRequests {
			limited = true
			break
		}
	}
	if !limited {
		t.Error("a dozen wrong passwords were tried without a wait")
	}
	if _, status, _ = signIn(p.Name, password+"!"); status != http.StatusTooManyRequests {
		t.Errorf("the right password gets through the wait: %d", status)
	}
	// A browser in which they signed in before is not kept out by that.
	if status, body = post(t, second, "/sign-in", api.SignInIn{Name: p.Name, Password: password + "!"}); status != http.StatusOK {
		t.Errorf("in a known browser: %d, %s", status, body)
	}
	forgetAttempts(t)
	_, token, err := st.AddToken(ctx, p.ID, "t", people.Work)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := st.ChangePerson(ctx, p.ID, func(p *accounts.Person) { p.Disabled = true }); err != nil {
		t.Fatal(err)
	}
	if status, _ = request(t, second, http.MethodGet, "/me", nil, nil); status != http.StatusUnauthorized {
		t.Errorf("who is locked out still looks: %d", status)
	}
	if status, _ = request(t, http.DefaultClient, http.MethodGet, "/me", nil, http.Header{"Authorization": {"Bearer " + token}}); status != http.StatusUnauthorized {
		t.Errorf("the token of who is locked out works: %d", status)
	}
	if _, status, _ = signIn(p.Name, password+"!"); status != http.StatusUnauthorized {
		t.Errorf("who is locked out signs in: %d", status)
	}
	forgetAttempts(t)
	events, err := st.Audit(ctx, 100)
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]int{}
	for _, e := range events {
		if e.Who == p.Name {
			kinds[e.What]++
		}
	}
	if kinds["sign-in"] < 3 || kinds["sign-in failed"] < 5 {
		t.Errorf("the audit list has %v", kinds)
	}
}

// forgetAttempts lets the tests sign in at once again.
func forgetAttempts(t *testing.T) {
	t.Helper()
	keys := []string{"from 127.0.0.1"}
	for i := range 1 << 16 {
		keys = append(keys, fmt.Sprintf("name %04x", i))
	}
	for part := range slices.Chunk(keys, 10_000) {
		if err := st.Succeeded(context.Background(), part...); err != nil {
			t.Fatal(err)
		}
	}
}

// TestGuessesAtOnce: however many passwords are tried at the same time, no more
// are checked than one after the other would be; and who shares the address of
// who guesses is let in.
func TestGuessesAtOnce(t *testing.T) {
	forgetAttempts(t)
	p := somebody(t, "Ole Platt", people.Look, false)
	const password = "copper, steel, zinc"
	if status, body := request(t, browserOf(t, p), http.MethodPatch, "/me", api.ChangeMeIn{Password: password}, nil); status != http.StatusOK {
		t.Fatalf("%d, %s", status, body)
	}
	var mu sync.Mutex
	var all sync.WaitGroup
	got := map[int]int{}
	for i := range 100 {
		all.Go(func() {
			b, _ := json.Marshal(api.SignInIn{Name: "Greta Griffel", Password: fmt.Sprintf("guess number %d", i)})
			resp, err := http.Post(ts.URL+"/api/v1/sign-in", "application/json", bytes.NewReader(b))
			if err != nil {
				return
			}
			resp.Body.Close()
			mu.Lock()
			got[resp.StatusCode]++
			mu.Unlock()
		})
	}
	all.Wait()
	if got[http.StatusUnauthorized] == 0 || got[http.StatusUnauthorized] > 6 || got[http.StatusUnauthorized]+got[http.StatusTooManyRequests] != 100 {
		t.Errorf("of 100 guesses at once: %v", got)
	}
	if status, body := post(t, http.DefaultClient, "/sign-in", api.SignInIn{Name: p.Name, Password: password}); status != http.StatusOK {
		t.Errorf("somebody else at that address: %d, %s", status, body)
	}
	forgetAttempts(t)
}

// TestSecretsAreNotKept: nothing in the database lets anybody in.
func TestSecretsAreNotKept(t *testing.T) {
	ctx := context.Background()
	p := somebody(t, "secret keeper", people.Look, false)
	link, err := st.AddLink(ctx, p.ID, 1e12)
	if err != nil {
		t.Fatal(err)
	}
	token, secret, err := st.AddToken(ctx, p.ID, "t", people.Look)
	if err != nil {
		t.Fatal(err)
	}
	session, _, err := st.SignIn(ctx, p.ID)
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range []string{link, secret, session} {
		if people.Digest(x) == x || strings.Contains(fmt.Sprintf("%+v", *token), x) {
			t.Error("a secret is kept as it is")
		}
	}
	if _, err := st.SignedIn(ctx, people.Digest(session)); err == nil {
		t.Error("what is kept of a session signs in")
	}
}
