package server_test

import (
	"encoding/json"
	"net/http"
	"testing"

	"entelon/server/api"
)

// TestPagesOfTheFrontEnd: without a front end the server says how to build one;
// the API's unknown addresses are never answered with a page.
func TestPagesOfTheFrontEnd(t *testing.T) {
	for path, status := range map[string]int{"/": 404, "/takes/x": 404, "/api/v1/nothing": 404, "/api/v2/takes": 404} {
		resp, err := http.Get(ts.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		var e api.ErrorBody
		err = json.NewDecoder(resp.Body).Decode(&e)
		resp.Body.Close()
		if err != nil || resp.StatusCode != status || e.Remedy == "" {
			t.Errorf("%s: status %d, %+v, %v", path, resp.StatusCode, e, err)
		}
	}
}
