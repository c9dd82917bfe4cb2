package store_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/core/profile"
	"entelon/store"
	"entelon/store/database"
	"entelon/store/jobs"
	"entelon/store/private"
)

// TestRetention: what is too old, too many or too much goes, the oldest first;
// what is pinned or has a note stays, whatever else is said.
func TestRetention(t *testing.T) {
	now := time.Now().UTC()
	old := func(n uint64, days int, note string) *store.Take {
		t.Helper()
		x := add(t, file(t, 900+n, func(tk *profile.Take) {
			tk.Settings.Program, tk.Settings.Build, tk.Settings.Note = "retained", fmt.Sprint("build ", n%2), note
			tk.Machine.StartedAt = now.Add(-time.Duration(days) * 24 * time.Hour)
		}))
		execute(t, fmt.Sprintf("UPDATE takes SET added_at = started_at WHERE id = %d", x.ID))
		return x
	}
	fresh, aged, noted, pinned, remarked := old(0, 1, ""), old(2, 40, ""), old(4, 40, "keep me"), old(6, 40, ""), old(8, 40, "")
	if err := st.SetPinned(ctx, pinned.Key, true); err != nil {
		t.Fatal(err)
	}
	if _, err := st.AddNote(ctx, remarked, "", "why?", "mara"); err != nil {
		t.Fatal(err)
	}
	left := func() (out []string) {
		t.Helper()
		rows, _, err := st.Takes(ctx, store.TakeQuery{Program: "retained", Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range rows {
			out = append(out, x.Key)
		}
		slices.Sort(out)
		return out
	}
	want := func(what string, takes ...*store.Take) {
		t.Helper()
		var keys []string
		for _, x := range takes {
			keys = append(keys, x.Key)
		}
		slices.Sort(keys)
		if got := left(); !slices.Equal(got, keys) {
			t.Errorf("%s: %v are left, want %v", what, got, keys)
		}
	}
	tidy := func(r store.Retention) store.Tidied {
		t.Helper()
		out, ok, err := st.Tidy(ctx, r)
		if err != nil || !ok {
			t.Fatal(ok, err)
		}
		return out
	}
	tidy(store.Retention{})
	want("nothing said", fresh, aged, noted, pinned, remarked)
	if out := tidy(store.Retention{Takes: 30 * 24 * time.Hour}); out.Takes != 1 {
		t.Errorf("%+v", out)
	}
	want("by age", fresh, noted, pinned, remarked)
	second, third := old(10, 2, ""), old(12, 3, "")
	tidy(store.Retention{PerBuild: 2})
	want("by number", fresh, second, noted, pinned, remarked)
	_ = third
	var held int64
	for _, x := range []*store.Take{noted, pinned, remarked, fresh} {
		held += x.Size
	}
	tidy(store.Retention{Size: held + 10})
	want("by size", fresh, noted, pinned, remarked)
	job := &jobs.Job{Kind: "take", Collector: "c", Settings: profile.Settings{Command: []string{"x"}}}
	if err := st.AddJob(ctx, job); err != nil {
		t.Fatal(err)
	}
	if _, err := st.EndJob(ctx, job.ID, jobs.Ended{Failed: "x"}); err != nil {
		t.Fatal(err)
	}
	execute(t, "UPDATE jobs SET ended_at = now() - interval '100 days' WHERE id = '"+job.ID+"'")
	if err := st.Note(ctx, "mara", "here", "old thing", nil); err != nil {
		t.Fatal(err)
	}
	execute(t, "UPDATE audit SET at = now() - interval '1000 days' WHERE what = 'old thing'")
	if out := tidy(store.Retention{Jobs: 90 * 24 * time.Hour, Audit: 900 * 24 * time.Hour}); out.Jobs != 1 || out.Lines != 1 {
		t.Errorf("%+v", out)
	}
}

// TestRoomIsCounted: what tables really have, a take of many functions included;
// and what was removed is room again.
func TestRoomIsCounted(t *testing.T) {
	used := func() int64 {
		t.Helper()
		n, err := st.Used(ctx)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	before := used()
	x := invent.Take(5, invent.Shape{Functions: 100_000, Threads: 2, Stacks: 150_000, Samples: 200_000, Depth: 8})
	x.Settings.Program = "many functions"
	var b bytes.Buffer
	if err := take.Write(&b, x); err != nil {
		t.Fatal(err)
	}
	got, _, err := st.Add(ctx, bytes.NewReader(b.Bytes()), "x.take", limit)
	if err != nil {
		t.Fatal(err)
	}
	grown := used() - before
	if grown < got.Size || grown > got.Size+20_000*1000 {
		t.Errorf("a take of %d bytes and very many functions took %d", got.Size, grown)
	}
	if err := st.Remove(ctx, got.Key); err != nil {
		t.Fatal(err)
	}
	if err := st.Reclaim(ctx); err != nil {
		t.Fatal(err)
	}
	if left := used() - before; left > grown/2 { // pages of indexes are free only once nobody can look at them any more
		t.Errorf("after it was removed %d of %d bytes are not room again", left, grown)
	}
}

// TestTakeThatWasClosedGoesOn: one that was closed since nothing was heard of its
// collector is whole when that comes back, under the same key and with its notes.
func TestTakeThatWasClosedGoesOn(t *testing.T) {
	b := file(t, 31, func(tk *profile.Take) { tk.Settings.Program = "closed early" })
	whole, err := take.WholeBlocks(bytes.NewReader(b[:len(b)-100]))
	if err != nil || whole < 100 {
		t.Fatal(whole, err)
	}
	if err := st.EnrolCollector(ctx, "closing", "k", "a test"); err != nil {
		t.Fatal(err)
	}
	j := &jobs.Job{Kind: "take", Collector: "closing", Settings: profile.Settings{Program: "closed early", Command: []string{"x"}}}
	if err := st.AddJob(ctx, j); err != nil {
		t.Fatal(err)
	}
	if got, err := st.NextJob(ctx, "closing", nil); err != nil || got == nil || got.ID != j.ID {
		t.Fatal(got, err)
	}
	grow := func(from, to int64) *jobs.Job {
		t.Helper()
		got, err := st.Grow(ctx, j.ID, "closing", from, b[from:to], jobs.Progress{})
		if err != nil {
			t.Fatal(err)
		}
		return got
	}
	end := func(early bool, instead string) *store.Take {
		t.Helper()
		pieces := st.GrownFile(ctx, j.ID, 0)
		defer pieces.Close()
		x, _, err := st.AddInstead(ctx, pieces, "the take", limit, instead)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := st.EndJob(ctx, j.ID, jobs.Ended{TakeKey: x.Key, Digest: x.Digest, Early: early}); err != nil {
			t.Fatal(err)
		}
		return x
	}
	grow(0, whole)
	part := end(true, "")
	t.Cleanup(func() { _ = st.Remove(ctx, part.Key) })
	if _, err := st.AddNote(ctx, part, "", "half of it", "mara"); err != nil {
		t.Fatal(err)
	}
	if got := grow(whole, int64(len(b))); got.State != jobs.JobRunning {
		t.Errorf("it is %s", got.State)
	}
	full := end(false, part.Key)
	if full.Key != part.Key || full.Size != int64(len(b)) || full.ID == part.ID {
		t.Errorf("%+v", full)
	}
	if _, n, err := st.Takes(ctx, store.TakeQuery{Program: "closed early", Limit: 10}); err != nil || n != 1 {
		t.Errorf("%d takes, %v", n, err)
	}
	if notes, err := st.Notes(ctx, full); err != nil || len(notes) != 1 || notes[0].Text != "half of it" {
		t.Errorf("%+v, %v", notes, err)
	}
	if _, err := st.Grow(ctx, j.ID, "closing", int64(len(b)), []byte("more"), jobs.Progress{}); !errors.Is(err, jobs.ErrJobOver) {
		t.Errorf("after its end it grows: %v", err)
	}
	if _, err := st.Grow(ctx, j.ID, "another", 0, nil, jobs.Progress{}); !errors.Is(err, database.ErrNotFound) {
		t.Errorf("another collector's: %v", err)
	}
}

// TestJobsLostOnTheWay are given again to who does not know of them.
func TestJobsLostOnTheWay(t *testing.T) {
	if err := st.EnrolCollector(ctx, "losing", "k", "a test"); err != nil {
		t.Fatal(err)
	}
	j := &jobs.Job{Kind: "groups", Collector: "losing"}
	if err := st.AddJob(ctx, j); err != nil {
		t.Fatal(err)
	}
	next := func(doing ...string) bool {
		t.Helper()
		got, err := st.NextJob(ctx, "losing", doing)
		if err != nil {
			t.Fatal(err)
		}
		return got != nil && got.ID == j.ID
	}
	if !next() || next() {
		t.Fatal("it is given never, or twice at once")
	}
	execute(t, "UPDATE jobs SET started_at = now() - interval '10 s', heard_at = now() - interval '10 s' WHERE id = '"+j.ID+"'")
	if next(j.ID) {
		t.Error("it is given again to who works on it")
	}
	if !next() {
		t.Error("it was lost, and is not given again")
	}
	execute(t, "UPDATE jobs SET started_at = now() + interval '7 hours', heard_at = now() + interval '7 hours' WHERE id = '"+j.ID+"'")
	if !next() {
		t.Error("it was lost before the clock jumped back, and is not given again")
	}
}

// TestNewerDatabase: one that a later Entelon has changed is left alone.
func TestNewerDatabase(t *testing.T) {
	pg, err := private.Temporary(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer pg.Stop()
	first, err := store.Open(ctx, pg.Address)
	if err != nil {
		t.Fatal(err)
	}
	if err := first.Close(); err != nil {
		t.Fatal(err)
	}
	db, err := pgx.Connect(ctx, pg.Address)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(ctx)
	if _, err := db.Exec(ctx, "INSERT INTO migrations (id) VALUES ('9999 from the future')"); err != nil {
		t.Fatal(err)
	}
	if again, err := store.Open(ctx, pg.Address); !errors.Is(err, store.ErrNewer) {
		t.Errorf("%v, %v", again, err)
	}
}

// execute changes the database behind the store's back.
func execute(t *testing.T, sql string) {
	t.Helper()
	db, err := pgx.Connect(context.Background(), address)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	if _, err := db.Exec(context.Background(), sql); err != nil {
		t.Fatal(err)
	}
}
