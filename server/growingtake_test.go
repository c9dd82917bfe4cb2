package server_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/core/profile"
	"entelon/server/api"
	"entelon/store/jobs"
)

// TestAGrowingTakeIsReadOn: what has come of a take before is not read again at the next
// look: it need not even be there any more.
func TestAGrowingTakeIsReadOn(t *testing.T) {
	ctx := t.Context()
	x := enrolled(t, "press growing")
	j := &jobs.Job{Kind: "take", Collector: x.name, Settings: profile.Settings{Command: []string{"engraved"}, RateHz: 99}, Who: "mara"}
	if err := st.AddJob(ctx, j); err != nil {
		t.Fatal(err)
	}
	if got, err := st.NextJob(ctx, x.name, nil); err != nil || got == nil || got.ID != j.ID {
		t.Fatalf("%v %v", got, err)
	}
	var file bytes.Buffer
	w, err := take.NewWriter(&file, profile.Settings{Program: "engraved", Measures: []string{"cpu"}}, profile.Machine{})
	if err != nil {
		t.Fatal(err)
	}
	p := invent.Take(7, invent.Small).Profile
	parts := []int{p.Samples.Len() / 2, p.Samples.Len()}
	db, err := pgx.Connect(ctx, database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(ctx)
	var sent int64
	for i, n := range parts {
		part := *p
		s := &part.Samples
		s.Time, s.Thread, s.Stack = s.Time[:n], s.Thread[:n], s.Stack[:n]
		s.Values = nil
		for _, v := range p.Samples.Values {
			s.Values = append(s.Values, v[:n])
		}
		if s.Labels != nil {
			s.Labels = s.Labels[:n]
		}
		if err := w.Append(&part); err != nil {
			t.Fatal(err)
		}
		b := file.Bytes()[sent:]
		if _, err := st.Grow(ctx, j.ID, x.name, sent, b, jobs.Progress{Samples: int64(n), ElapsedNS: 1e9}); err != nil {
			t.Fatal(err)
		}
		sent += int64(len(b))
		got := decode[api.HotOut](t, ask(t, "GET", "/takes/job-"+j.ID+"/hot", strings.NewReader(""), 200))
		if got.Samples != int64(n) {
			t.Errorf("at look %d there are %d samples, want %d", i+1, got.Samples, n)
		}
		if i == 0 {
			if _, err := db.Exec(ctx, "DELETE FROM job_blobs WHERE job_id = $1", j.ID); err != nil {
				t.Fatal(err)
			}
		}
	}
	if _, err := st.EndJob(ctx, j.ID, jobs.Ended{Failed: "enough"}); err != nil {
		t.Fatal(err)
	}
}
