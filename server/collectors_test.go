package server_test

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"entelon/core/profile"
	"entelon/people"
	"entelon/server/api"
	"entelon/store/jobs"
)

// press is a collector with a key of its own.
type press struct {
	name string
	key  ed25519.PrivateKey
}

func newKey(t *testing.T) ed25519.PrivateKey {
	t.Helper()
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

func public(key ed25519.PrivateKey) string { return people.KeyText(key.Public().(ed25519.PublicKey)) }

func enrolled(t *testing.T, name string) press {
	t.Helper()
	x := press{name, newKey(t)}
	if err := st.EnrolCollector(context.Background(), name, public(x.key), "a test"); err != nil {
		t.Fatal(err)
	}
	return x
}

// begin asks for a session, with whatever is to be wrong in it.
func (x press) begin(t *testing.T, change func(*api.CollectorSessionIn)) (int, string) {
	t.Helper()
	_, body := post(t, http.DefaultClient, "/collector/challenge", map[string]string{})
	var given api.ChallengeOut
	if err := json.Unmarshal([]byte(body), &given); err != nil {
		t.Fatal(err, body)
	}
	in := api.CollectorSessionIn{Name: x.name, Challenge: given.Challenge, Signature: people.Sign(x.key, people.SessionText(strings.TrimPrefix(ts.URL, "http://"), x.name, given.Challenge))}
	if change != nil {
		change(&in)
	}
	return post(t, http.DefaultClient, "/collector/session", in)
}

// header is what a collector's requests have within a session.
func (x press) header(t *testing.T) http.Header {
	t.Helper()
	status, body := x.begin(t, nil)
	var out api.CollectorSessionOut
	if err := json.Unmarshal([]byte(body), &out); status != http.StatusOK || err != nil {
		t.Fatalf("beginning a session: %d, %s", status, body)
	}
	return http.Header{"Authorization": {"Collector " + out.Secret}}
}

// TestCollectorsProveTheirKeys: nothing but the key of that very collector, for
// this very server, begins a session, and a link enrols one collector once.
func TestCollectorsProveTheirKeys(t *testing.T) {
	boss := browserOf(t, somebody(t, "key owner", people.Look, true))
	status, body := post(t, boss, "/collectors", api.CollectorNameIn{Name: "press 9"})
	var link api.CollectorLinkOut
	if err := json.Unmarshal([]byte(body), &link); status != http.StatusCreated || err != nil {
		t.Fatalf("%d, %s", status, body)
	}
	_, secret, _ := strings.Cut(link.Path, "/enrol/")
	x := press{"press 9", newKey(t)}
	if status, body := post(t, http.DefaultClient, "/collector/enrol", api.EnrolIn{Link: secret, PublicKey: "short"}); status != http.StatusBadRequest {
		t.Errorf("no key: %d, %s", status, body)
	}
	if status, body := post(t, http.DefaultClient, "/collector/enrol", api.EnrolIn{Link: secret, PublicKey: public(x.key)}); status != http.StatusOK {
		t.Fatalf("enrolling: %d, %s", status, body)
	}
	if status, _ := post(t, http.DefaultClient, "/collector/enrol", api.EnrolIn{Link: secret, PublicKey: public(newKey(t))}); status != http.StatusUnauthorized {
		t.Errorf("the link works twice: %d", status)
	}
	if status, _ := post(t, boss, "/collectors", api.CollectorNameIn{Name: "press 9"}); status != http.StatusConflict {
		t.Errorf("a link for a name that has a key: %d", status)
	}
	other := enrolled(t, "press 10")
	for name, change := range map[string]func(*api.CollectorSessionIn){
		"another name": func(in *api.CollectorSessionIn) { in.Name = other.name },
		"another key": func(in *api.CollectorSessionIn) {
			in.Signature = people.Sign(other.key, people.SessionText(strings.TrimPrefix(ts.URL, "http://"), in.Name, in.Challenge))
		},
		"another server": func(in *api.CollectorSessionIn) {
			in.Signature = people.Sign(x.key, people.SessionText("evil.example", in.Name, in.Challenge))
		},
		"no signature":       func(in *api.CollectorSessionIn) { in.Signature = "" },
		"nobody":             func(in *api.CollectorSessionIn) { in.Name = "nobody" },
		"a made up question": func(in *api.CollectorSessionIn) { in.Challenge = "AAAA" },
	} {
		if status, body := x.begin(t, change); status != http.StatusUnauthorized && status != http.StatusBadRequest {
			t.Errorf("%s: %d, %s", name, status, body)
		}
	}
	// A new key is signed with the old one, and the old one is worth nothing then.
	h := x.header(t)
	next := press{x.name, newKey(t)}
	text := people.RenewalText(x.name, next.key.Public().(ed25519.PublicKey))
	if status, body := request(t, http.DefaultClient, http.MethodPost, "/collector/key", api.CollectorKeyIn{PublicKey: public(next.key), Signature: people.Sign(next.key, text)}, h); status != http.StatusForbidden {
		t.Errorf("a key signed by itself: %d, %s", status, body)
	}
	if status, body := request(t, http.DefaultClient, http.MethodPost, "/collector/key", api.CollectorKeyIn{PublicKey: public(next.key), Signature: people.Sign(x.key, text)}, h); status != http.StatusNoContent {
		t.Fatalf("renewing: %d, %s", status, body)
	}
	if status, _ := x.begin(t, nil); status != http.StatusUnauthorized {
		t.Errorf("the old key still begins a session: %d", status)
	}
	h = next.header(t)
	if status, body := request(t, boss, http.MethodDelete, "/collectors/press%209", nil, nil); status != http.StatusNoContent {
		t.Fatalf("removing: %d, %s", status, body)
	}
	if status, _ := request(t, http.DefaultClient, http.MethodPost, "/collector/next", api.CollectorIn{}, h); status != http.StatusUnauthorized {
		t.Errorf("a removed collector still gets jobs: %d", status)
	}
}

// TestJobsAreOneCollectors: one machine that is taken over cannot see, write or
// end what is another's.
func TestJobsAreOneCollectors(t *testing.T) {
	ctx := context.Background()
	mine, theirs := enrolled(t, "press mine"), enrolled(t, "press theirs")
	j := &jobs.Job{Kind: "take", Collector: mine.name, Settings: profile.Settings{Command: []string{"engraved"}, RateHz: 99, Env: []string{"PLATE_KEY=hush"}}, Who: "mara"}
	if err := st.AddJob(ctx, j); err != nil {
		t.Fatal(err)
	}
	if got, err := st.NextJob(ctx, theirs.name, nil); err != nil || got != nil {
		t.Errorf("another collector got %v, %v", got, err)
	}
	status, body := request(t, http.DefaultClient, http.MethodPost, "/collector/next", api.CollectorIn{}, mine.header(t))
	if status != http.StatusOK || !strings.Contains(body, "PLATE_KEY=hush") || !strings.Contains(body, `"who":"mara"`) {
		t.Fatalf("its own collector got %d, %s", status, body)
	}
	h := theirs.header(t)
	if status, _ := request(t, http.DefaultClient, http.MethodPost, "/collector/jobs/"+j.ID+"/end", api.JobEndIn{Error: "gone"}, h); status != http.StatusNotFound {
		t.Errorf("another collector ends it: %d", status)
	}
	if status, _ := request(t, http.DefaultClient, http.MethodPost, "/collector/jobs/"+j.ID+"/blocks?at=0", "x", h); status != http.StatusNotFound {
		t.Errorf("another collector writes to it: %d", status)
	}
	// Who looks sees the names of what was set, and no values.
	for _, path := range []string{"/jobs/" + j.ID, "/jobs"} {
		b := string(ask(t, http.MethodGet, path, nil, http.StatusOK))
		if strings.Contains(b, "hush") || !strings.Contains(b, "PLATE_KEY") {
			t.Errorf("%s shows %s", path, b)
		}
	}
	if _, err := st.EndJob(ctx, j.ID, jobs.Ended{Failed: "over"}); err != nil {
		t.Fatal(err)
	}
}
