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
)

// kept keeps a take of a program, as it is changed, and returns it.
func keptAs(t *testing.T, program string, n int64, change func(*profile.Take)) *store.Take {
	t.Helper()
	x := invent.Take(uint64(900+n), invent.Small)
	x.Settings.Program, x.Settings.Build, x.Settings.Command = program, "1.0", []string{"./" + program, "--slurs", "80"}
	x.Facts.EndedBy, x.Facts.BuildID = "exit", ""
	x.Machine.StartedAt = x.Machine.StartedAt.Add(time.Duration(n) * time.Minute)
	change(x)
	var b bytes.Buffer
	if err := take.Write(&b, x); err != nil {
		t.Fatal(err)
	}
	row, fresh, err := st.Add(context.Background(), &b, "x.take", 1<<30)
	if err != nil || !fresh {
		t.Fatal(fresh, err)
	}
	return row
}

// in lists a program's workloads as "name: takes", in their order.
func in(t *testing.T, program string) (out []string, list []store.WorkloadSummary) {
	t.Helper()
	list, _, err := st.Workloads(context.Background(), program)
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range list {
		out = append(out, fmt.Sprintf("%s: %d", w.Name, w.Takes))
	}
	return out, list
}

// TestWorkloads: takes find their workload; names, merges and moves hold for what comes
// later; each is undone to the last take.
func TestWorkloads(t *testing.T) {
	ctx := context.Background()
	const program = "beamer"
	is := func(want ...string) []store.WorkloadSummary {
		t.Helper()
		got, list := in(t, program)
		if !slices.Equal(got, want) {
			t.Fatalf("%q, want %q", got, want)
		}
		return list
	}
	n := int64(0)
	add := func(change func(*profile.Take)) *store.Take {
		t.Helper()
		n++
		return keptAs(t, program, n, change)
	}
	slurs := func(k string) func(*profile.Take) {
		return func(x *profile.Take) { x.Settings.Command[2] = k }
	}
	attached := func(x *profile.Take) { x.Settings.PIDs, x.Facts.EndedBy = []int{7}, "user" }
	stray := add(attached)
	add(slurs("80"))
	add(func(x *profile.Take) { x.Settings.Build, x.Settings.Command[0] = "1.1", "/opt/beamer-1.1" })
	add(slurs("160"))
	add(slurs("160"))
	add(slurs("160"))
	// Two builds come before more takes of one.
	list := is("--slurs 80: 2", "--slurs 160: 3", "attached, --slurs 80: 1")
	short, long, other := list[0].ID, list[1].ID, list[2].ID
	measures, err := st.LedgerMeasures(ctx, program, short)
	if err != nil || measures[0].Takes != 2 {
		t.Errorf("%+v, %v", measures, err)
	}
	if takes, err := st.LedgerTakes(ctx, program, long, measures[0]); err != nil || len(takes) != 3 {
		t.Errorf("%d takes, %v", len(takes), err)
	}

	if err := st.NameWorkload(ctx, program, short, " short\nscores ", "ada"); err != nil {
		t.Fatal(err)
	}
	is("short scores: 2", "--slurs 160: 3", "attached, --slurs 80: 1")
	if err := st.MergeWorkloads(ctx, program, []int64{long}, short, "ada"); err != nil {
		t.Fatal(err)
	}
	later := add(slurs("160"))
	if *later.WorkloadID != short || *later.FoundID != long || later.Workload.Name != "short scores" {
		t.Errorf("a later take counts in %d of %d and %d", *later.WorkloadID, short, long)
	}
	list = is("short scores: 6", "attached, --slurs 80: 1")
	if !slices.Equal(list[0].Merged, []string{"--slurs 160"}) {
		t.Errorf("%q", list[0].Merged)
	}
	moved, err := st.MoveTakes(ctx, program, []string{stray.Key}, 0, "at the desk", "ada")
	if err != nil {
		t.Fatal(err)
	}
	is("short scores: 6", "at the desk: 1")
	if again, err := st.MoveTakes(ctx, program, []string{later.Key}, moved, "", "ada"); err != nil || again != moved {
		t.Fatal(again, err)
	}
	is("short scores: 5", "at the desk: 2")
	// A take that is told its workload finds the one of that name.
	if x := add(func(x *profile.Take) { x.Settings.Workload = "at the desk" }); *x.WorkloadID != moved {
		t.Errorf("a take that was told is in %d, not %d", *x.WorkloadID, moved)
	}

	changes, err := st.WorkloadChanges(ctx, program)
	if err != nil || len(changes) != 4 || changes[0].What != "a take moved to at the desk" || changes[3].Who != "ada" {
		t.Fatalf("%+v, %v", changes, err)
	}
	for _, want := range [][]string{
		{"short scores: 6", "at the desk: 2"},
		{"short scores: 6", "at the desk: 1", "attached, --slurs 80: 1"}, // it has a take of its own meanwhile
		{"short scores: 2", "--slurs 160: 4", "at the desk: 1", "attached, --slurs 80: 1"},
		{"--slurs 80: 2", "--slurs 160: 4", "at the desk: 1", "attached, --slurs 80: 1"},
	} {
		if what, err := st.UndoWorkloads(ctx, program); err != nil || what == "" {
			t.Fatal(what, err)
		}
		is(want...)
	}
	if _, err := st.UndoWorkloads(ctx, program); !errors.Is(err, store.ErrNoUndo) {
		t.Errorf("%v", err)
	}

	var bad store.BadChange
	for name, err := range map[string]error{
		"no name":        st.NameWorkload(ctx, program, short, " \n", "ada"),
		"with itself":    st.MergeWorkloads(ctx, program, []int64{short}, short, "ada"),
		"nothing merged": st.MergeWorkloads(ctx, program, nil, short, "ada"),
		"nothing moved":  second(st.MoveTakes(ctx, program, nil, short, "", "ada")),
		"nowhere":        second(st.MoveTakes(ctx, program, []string{stray.Key}, 0, "", "ada")),
	} {
		if !errors.As(err, &bad) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, err := range map[string]error{
		"another program's": st.NameWorkload(ctx, program, other+1_000_000, "x", "ada"),
		"a foreign take":    second(st.MoveTakes(ctx, program, []string{"nothing"}, short, "", "ada")),
		"no program":        st.NameWorkload(ctx, "nothing", short, "x", "ada"),
	} {
		if !errors.Is(err, database.ErrNotFound) {
			t.Errorf("%s: %v", name, err)
		}
	}
	is("--slurs 80: 2", "--slurs 160: 4", "at the desk: 1", "attached, --slurs 80: 1")

	// In the list of programs, builds stand beside each other by one workload.
	programs, err := st.Programs(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range programs {
		if p.Name != program {
			continue
		}
		if b := p.Builds[0]; p.Chief.Name != "--slurs 80" || b.Takes != 1 || b.Others != 6 || b.Keys == stray.Key {
			t.Errorf("%+v of %q", b, p.Chief.Name)
		}
		// A median of nothing is 0, as that of instructions is where nothing was an exact run.
		for _, b := range p.Builds {
			if b.Instructions != 0 || b.CPUNS > 1e12 || b.Takes == 0 && b.CPUNS != 0 {
				t.Errorf("%+v", b)
			}
		}
	}
}

func second[T any](_ T, err error) error { return err }

// TestWorkloadsOfTakesThatAreGone: what no take has any more goes when it is tidied up,
// unless somebody named it.
func TestWorkloadsOfTakesThatAreGone(t *testing.T) {
	ctx := context.Background()
	const program = "passer"
	keptAs(t, program, 30_000, func(x *profile.Take) { x.Settings.Command[2] = "1" })
	for n := range int64(3) {
		row := keptAs(t, program, 30_001+n, func(x *profile.Take) {
			x.Settings.Command[2] = "2"
			if n == 2 {
				x.Settings.Workload = "for good"
			}
		})
		if err := st.Remove(ctx, row.Key); err != nil {
			t.Fatal(err)
		}
	}
	count := func() (names []string) {
		db, err := pgx.Connect(ctx, address)
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close(ctx)
		rows, err := db.Query(ctx, "SELECT w.name FROM workloads w JOIN programs p ON p.id = w.program_id WHERE p.name = $1 ORDER BY 1", program)
		if err != nil {
			t.Fatal(err)
		}
		if names, err = pgx.CollectRows(rows, pgx.RowTo[string]); err != nil {
			t.Fatal(err)
		}
		return names
	}
	if got := count(); len(got) != 3 {
		t.Fatalf("%q", got)
	}
	if err := st.Reclaim(ctx); err != nil {
		t.Fatal(err)
	}
	if got := count(); !slices.Equal(got, []string{"--slurs 1", "for good"}) {
		t.Errorf("%q", got)
	}
}

// TestManyWorkloads: of a thousand workloads those with the most takes are listed, and it is
// said how many there are.
func TestManyWorkloads(t *testing.T) {
	const program = "manifold"
	for n := range int64(230) {
		keptAs(t, program, 10_000+n, func(x *profile.Take) { x.Settings.Command[2] = fmt.Sprint(n) })
	}
	keptAs(t, program, 20_000, func(x *profile.Take) { x.Settings.Command[2] = "7" })
	list, all, err := st.Workloads(context.Background(), program)
	if err != nil || all != 230 || len(list) != 200 || list[0].Name != "--slurs 7" {
		t.Errorf("%d of %d, first %+v, %v", len(list), all, list[0], err)
	}
}
