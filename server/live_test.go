package server_test

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"entelon/server"
)

// liveProgram pretends to sample, as far as the server can tell.
type liveProgram struct{ running, stopped atomic.Bool }

func (l *liveProgram) Start() error {
	if l.running.Swap(true) {
		return errors.New("a live take is running already; wait for it to end")
	}
	return nil
}

func (l *liveProgram) State() server.LiveState {
	return server.LiveState{Offered: true, Program: "engraved", Running: l.running.Load(), Seconds: 6}
}

func (l *liveProgram) Stop() { l.running.Store(false); l.stopped.Store(true) }

func TestLive(t *testing.T) {
	l := &liveProgram{}
	h, err := server.New(st, server.Options{Live: l})
	if err != nil {
		t.Fatal(err)
	}
	do := func(method, path string, status int) (s server.LiveState) {
		t.Helper()
		r := httptest.NewRequest(method, "http://127.0.0.1"+path, nil)
		r.Header.Set("Authorization", "Bearer "+owner)
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		if w.Code != status {
			t.Fatalf("%s %s: status %d: %s", method, path, w.Code, w.Body)
		}
		if err := json.Unmarshal(w.Body.Bytes(), &s); err != nil {
			t.Fatal(err)
		}
		return s
	}
	if s := do("POST", "/api/v1/live", http.StatusAccepted); !s.Running || s.Program != "engraved" {
		t.Errorf("%+v", s)
	}
	do("POST", "/api/v1/live", http.StatusConflict)
	if s := do("DELETE", "/api/v1/live", http.StatusOK); s.Running || !l.stopped.Load() {
		t.Errorf("after the stop: %+v", s)
	}
}

// TestPagesOfTheFrontEnd: without a front end the server says how to build one;
// the API's unknown addresses are never answered with a page.
func TestPagesOfTheFrontEnd(t *testing.T) {
	for path, status := range map[string]int{"/": 404, "/takes/x": 404, "/api/v1/nothing": 404, "/api/v2/takes": 404} {
		resp, err := http.Get(ts.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		var e server.ErrorBody
		err = json.NewDecoder(resp.Body).Decode(&e)
		resp.Body.Close()
		if err != nil || resp.StatusCode != status || e.Remedy == "" {
			t.Errorf("%s: status %d, %+v, %v", path, resp.StatusCode, e, err)
		}
	}
}
