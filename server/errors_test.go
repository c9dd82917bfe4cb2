package server_test

import (
	"strings"
	"testing"

	"entelon/server/api"
)

// TestWhatThereIsNot: what is missing is called by its own name, with where to look.
func TestWhatThereIsNot(t *testing.T) {
	for _, x := range []struct{ method, path, body, what, remedy string }{
		{"GET", "/takes/none", "", "take", "list of takes"},
		{"GET", "/takes/none/hot", "", "take", "list of takes"},
		{"PATCH", "/takes/none", `{"note": "x"}`, "take", "list of takes"},
		{"DELETE", "/takes/none", "", "take", "list of takes"},
		{"GET", "/programs/none/ledger", "", "program", "list of programs"},
		{"GET", "/jobs/none", "", "job", "its take is in the list"},
		{"POST", "/jobs/none/stop", "", "job", "its take is in the list"},
		{"GET", "/takes/job-none/hot", "", "job", "its take is in the list"},
		{"DELETE", "/notes/4711", "", "note", "removed"},
	} {
		got := decode[api.ErrorBody](t, ask(t, x.method, x.path, strings.NewReader(x.body), 404))
		if got.Error != "there is no such "+x.what || !strings.Contains(got.Remedy, x.remedy) {
			t.Errorf("%s %s: %q, %q", x.method, x.path, got.Error, got.Remedy)
		}
	}
}
