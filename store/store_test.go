package store_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"strings"
	"sync"
	"testing"
	"testing/iotest"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/core/profile"
	"entelon/store"
	"entelon/store/database"
)

var ctx = context.Background()

const limit = 64 << 20

func file(t *testing.T, seed uint64, change func(*profile.Take)) []byte {
	t.Helper()
	tk := invent.Take(seed, invent.Small)
	if change != nil {
		change(tk)
	}
	return encoded(t, tk)
}

func encoded(t *testing.T, tk *profile.Take) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := take.Write(&b, tk); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func add(t *testing.T, b []byte) *store.Take {
	t.Helper()
	got, fresh, err := st.Add(ctx, bytes.NewReader(b), "x.take", limit)
	if err != nil || !fresh {
		t.Fatalf("fresh %v, %v", fresh, err)
	}
	t.Cleanup(func() {
		if err := st.Remove(ctx, got.Key); err != nil && !errors.Is(err, database.ErrNotFound) {
			t.Error(err)
		}
	})
	return got
}

func count(t *testing.T) int64 {
	t.Helper()
	_, n, err := st.Takes(ctx, store.TakeQuery{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func TestAddKeepsEverything(t *testing.T) {
	b := file(t, 1, func(tk *profile.Take) {
		tk.Settings.Note = "with a zero \x00 and a literal \\u0000"
		tk.Settings.Program, tk.Settings.Build = "engraved", "3.4.0"
		tk.Facts.Warn("few-samples", "Few.", "Collect longer.")
	})
	got := add(t, b)
	if got.Program.Name != "engraved" || got.Build.Name != "3.4.0" || got.Samples != int64(invent.Small.Samples) || got.Warnings != 1 {
		t.Errorf("%+v", got)
	}
	if got.Note != "with a zero  and a literal \\u0000" || len(got.Settings.Command) != 3 {
		t.Errorf("note %q, settings %+v", got.Note, got.Settings)
	}
	back, err := io.ReadAll(st.File(ctx, got))
	if err != nil || !bytes.Equal(back, b) {
		t.Errorf("the file came back with %d of %d bytes, %v", len(back), len(b), err)
	}
	again, fresh, err := st.Add(ctx, bytes.NewReader(b), "y.take", limit)
	if err != nil || fresh || again.Key != got.Key {
		t.Errorf("added again: fresh %v, key %s, %v", fresh, again.Key, err)
	}
}

func TestWholeOrNotAtAll(t *testing.T) {
	before := count(t)
	b := file(t, 2, nil)
	for name, r := range map[string]io.Reader{
		"breaks off":  io.MultiReader(bytes.NewReader(b[:len(b)/2]), iotest.ErrReader(io.ErrUnexpectedEOF)),
		"cut off":     bytes.NewReader(b[:len(b)/2]),
		"damaged":     bytes.NewReader(append(append([]byte{}, b[:200]...), append([]byte{b[200] ^ 1}, b[201:]...)...)),
		"empty":       strings.NewReader(""),
		"no take":     strings.NewReader("dear reader"),
		"slow, wrong": iotest.OneByteReader(bytes.NewReader(b[:300])),
	} {
		if _, _, err := st.Add(ctx, r, "x.take", limit); err == nil || !strings.Contains(err.Error(), "x.take") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, _, err := st.Add(ctx, bytes.NewReader(b), "x.take", 100); !errors.Is(err, database.ErrTooLarge) {
		t.Errorf("beyond the limit: %v", err)
	}
	ended, end := context.WithCancel(ctx)
	end()
	if _, _, err := st.Add(ended, bytes.NewReader(b), "x.take", limit); err == nil {
		t.Error("a request that has ended left a take")
	}
	if n := count(t); n != before {
		t.Errorf("%d takes were left behind", n-before)
	}
}

// TestTheSameFileManyTimesAtOnce must become one take.
func TestTheSameFileManyTimesAtOnce(t *testing.T) {
	before := count(t)
	b := file(t, 3, nil)
	var wg sync.WaitGroup
	var mu sync.Mutex
	keys, freshes := map[string]bool{}, 0
	for range 8 {
		wg.Go(func() {
			got, fresh, err := st.Add(ctx, bytes.NewReader(b), "x.take", limit)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				t.Error(err)
				return
			}
			keys[got.Key] = true
			if fresh {
				freshes++
			}
		})
	}
	wg.Wait()
	if len(keys) != 1 || freshes != 1 || count(t) != before+1 {
		t.Errorf("%d keys, %d fresh, %d takes more", len(keys), freshes, count(t)-before)
	}
	for k := range keys {
		if err := st.Remove(ctx, k); err != nil {
			t.Error(err)
		}
	}
}

func TestSearchAndSort(t *testing.T) {
	for i, x := range []struct{ program, build, note string }{
		{"inkraster", "1.0", "first 100% run"}, {"inkraster", "1.1", "under_score"}, {"partbook", "1.0", ""},
	} {
		add(t, file(t, uint64(10+i), func(tk *profile.Take) {
			tk.Settings.Program, tk.Settings.Build, tk.Settings.Note = x.program, x.build, x.note
			tk.Facts.DurationNS = int64(1000 - i)
		}))
	}
	for search, want := range map[string]int{"inkraster": 2, "INKRASTER 1.1": 1, "100%": 1, "r_s": 1, "partbook nothing": 0, "'; drop table takes; --": 0, "scores": 3} {
		rows, n, err := st.Takes(ctx, store.TakeQuery{Search: search, Limit: 10})
		if err != nil || int(n) != want || len(rows) != want {
			t.Errorf("%q finds %d (%d), want %d; %v", search, len(rows), n, want, err)
		}
	}
	rows, _, err := st.Takes(ctx, store.TakeQuery{Program: "inkraster", Sort: "duration", Limit: 10})
	if err != nil || len(rows) != 2 || rows[0].DurationNS > rows[1].DurationNS {
		t.Errorf("sorted by duration: %d rows, %v", len(rows), err)
	}
	page, n, err := st.Takes(ctx, store.TakeQuery{Sort: "program", Descending: true, Limit: 1, Offset: 1})
	if err != nil || len(page) != 1 || n < 3 {
		t.Errorf("a page of one: %d of %d, %v", len(page), n, err)
	}
	programs, err := st.Programs(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range programs {
		if p.Name == "inkraster" && (len(p.Builds) != 2 || p.Builds[0].Takes != 1 || p.Builds[0].LastKey == "") {
			t.Errorf("%+v", p)
		}
	}
}

func TestFiguresOverBuilds(t *testing.T) {
	var share float64
	for i, build := range []string{"1.0", "1.0", "1.1"} {
		got := add(t, file(t, uint64(30+i), func(tk *profile.Take) { tk.Settings.Program, tk.Settings.Build = "pageturn", build }))
		rows, err := st.Figures(ctx, got.ProgramID, 0, "cpu", "fn0", "")
		if err != nil {
			t.Fatal(err)
		}
		if i == 2 {
			if len(rows) != 2 || rows[0].Build != "1.0" || rows[0].Takes != 2 || rows[1].Takes != 1 {
				t.Fatalf("%+v", rows)
			}
			share = rows[0].SelfShare
		}
	}
	if share <= 0 || share >= 1 {
		t.Errorf("its median share is %v", share)
	}
}

func TestRemoveTakesEverythingAlong(t *testing.T) {
	got := add(t, file(t, 40, func(tk *profile.Take) { tk.Settings.Program = "shortlived" }))
	if err := st.SetNote(ctx, got.Key, "seen"); err != nil {
		t.Fatal(err)
	}
	if now, err := st.Take(ctx, got.Key); err != nil || now.Note != "seen" {
		t.Errorf("%+v, %v", now, err)
	}
	if err := st.Remove(ctx, got.Key); err != nil {
		t.Fatal(err)
	}
	if _, err := st.Take(ctx, got.Key); !errors.Is(err, database.ErrNotFound) {
		t.Errorf("it is still there: %v", err)
	}
	if err := errors.Join(st.Remove(ctx, got.Key)); !errors.Is(err, database.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
	if err := st.SetNote(ctx, got.Key, "x"); !errors.Is(err, database.ErrNotFound) {
		t.Errorf("a note on nothing: %v", err)
	}
	programs, err := st.Programs(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range programs {
		if p.Name == "shortlived" {
			t.Error("a program without takes is left")
		}
	}
	if b, err := io.ReadAll(st.File(ctx, got)); err != nil || len(b) != 0 {
		t.Errorf("%d bytes of its file are left, %v", len(b), err)
	}
}

// TestLargeFile spans several pieces.
func TestLargeFile(t *testing.T) {
	if testing.Short() {
		t.Skip("writes a take of several MB")
	}
	tk := invent.Take(50, invent.Shape{Functions: 500, Threads: 9, Stacks: 40_000, Samples: 800_000, Depth: 60})
	var b bytes.Buffer
	if err := take.Write(&b, tk); err != nil {
		t.Fatal(err)
	}
	got := add(t, b.Bytes())
	if b.Len() < 2<<20 {
		t.Fatalf("the file has only %d bytes", b.Len())
	}
	back, err := take.Read(st.File(ctx, got), "back", take.Options{})
	if err != nil || back.Profile.Total(0) != tk.Profile.Total(0) {
		t.Errorf("it came back otherwise: %v", err)
	}
}
