package store_test

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/store"
	"entelon/store/private"
)

// kept are the tables that hold what somebody made, each behind what it refers to.
var kept = []string{"programs", "builds", "takes", "take_blobs", "functions", "function_figures", "take_measures", "people", "tokens", "audit", "jobs", "job_blobs", "collectors", "notes", "pins", "source_rules", "matches"}

// rows are those of a table as JSON with some columns, in the order of their text.
func rows(t *testing.T, db *pgx.Conn, table string, columns []string) (out []string) {
	t.Helper()
	list, err := db.Query(ctx, fmt.Sprintf("SELECT to_jsonb(x)::text FROM (SELECT %s FROM %s) x", strings.Join(columns, ", "), table))
	if err != nil {
		t.Fatal(table, err)
	}
	if out, err = pgx.CollectRows(list, pgx.RowTo[string]); err != nil {
		t.Fatal(table, err)
	}
	slices.Sort(out)
	return out
}

// columnsOf are the names of a table's columns; none where there is no such table.
func columnsOf(t *testing.T, db *pgx.Conn, table string) []string {
	t.Helper()
	list, err := db.Query(ctx, "SELECT column_name FROM information_schema.columns WHERE table_schema = 'public' AND table_name = $1 ORDER BY 1", table)
	if err != nil {
		t.Fatal(err)
	}
	out, err := pgx.CollectRows(list, pgx.RowTo[string])
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// another makes an empty database beside the test's own.
func another(t *testing.T, pg *private.Server, name string) (address string, db *pgx.Conn) {
	t.Helper()
	first, err := pgx.Connect(ctx, pg.Address)
	if err != nil {
		t.Fatal(err)
	}
	defer first.Close(ctx)
	if _, err := first.Exec(ctx, "CREATE DATABASE "+name); err != nil {
		t.Fatal(err)
	}
	c := first.Config()
	address = fmt.Sprintf("host=%s port=%d user=%s password=%s dbname=%s sslmode=disable", c.Host, c.Port, c.User, c.Password, name)
	if db, err = pgx.Connect(ctx, address); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close(context.Background()) })
	return address, db
}

// TestEveryEarlierForm: a database that any earlier release left, with real takes in
// it and what people made of them, is brought up to date, and then is as if all that
// had been made with this one.
func TestEveryEarlierForm(t *testing.T) {
	pg, err := private.Temporary(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer pg.Stop()
	address, now := another(t, pg, "now")
	newest, err := store.Open(ctx, address)
	if err != nil {
		t.Fatal(err)
	}
	defer newest.Close()
	for _, name := range []string{"engraved-3.4.0-1", "partbook-1.4.0-1"} {
		f, err := os.Open("../demo/takes/" + name + ".take")
		if err != nil {
			t.Fatal(err)
		}
		if _, _, err := newest.Add(ctx, f, name, 1<<30); err != nil {
			t.Fatal(err)
		}
		f.Close()
	}
	tk := invent.Take(3, invent.Shape{Functions: 20, Threads: 2, Stacks: 40, Samples: 300, Depth: 8})
	if _, _, err := newest.Add(ctx, strings.NewReader(string(encoded(t, tk))), "two measures", 1<<30); err != nil {
		t.Fatal(err)
	}
	for _, sql := range []string{
		"INSERT INTO people (name, hash, role, owner, disabled, created_at) VALUES ('ada of the bindery', 'x', 'work', false, false, now())",
		"INSERT INTO tokens (person_id, name, digest, role, created_at) SELECT id, 'press', 'd1', 'look', now() FROM people",
		"INSERT INTO audit (at, who, source, what, detail) VALUES (now(), 'ada of the bindery', '127.0.0.1', 'take removed', '{}')",
		"INSERT INTO notes (program_id, take_id, function, text, who, created_at, updated_at) SELECT program_id, id, 'slur.Route', 'why?', 'ada of the bindery', now(), now() FROM takes",
		"INSERT INTO pins (program_id, function, who, created_at) SELECT id, 'slur.Route', 'ada of the bindery', now() FROM programs",
		"INSERT INTO source_rules (program_id, begins, becomes) SELECT id, '/build/', '/src/' FROM programs",
		"INSERT INTO matches (program_id, baseline, candidate, together, who, created_at) SELECT id, 'a', 'b', true, 'ada of the bindery', now() FROM programs",
		`INSERT INTO jobs (id, kind, collector, doer, state, settings, who, created_at, elapsed_ns, samples, lost, size, take_key, error, remedy, task, result)
			SELECT 'job1', 'take', 'desk', 'desk', 'done', '{}', 'ada of the bindery', now(), 1, 2, 3, 4, key, '', '', '{}', '{}' FROM takes LIMIT 1`,
		"INSERT INTO collectors (name, seen_at, report) VALUES ('desk', now(), '{}')",
	} {
		if _, err := now.Exec(ctx, sql); err != nil {
			t.Fatal(sql, err)
		}
	}
	for release := 1; release < store.Releases; release++ {
		address, db := another(t, pg, fmt.Sprint("form", release))
		old, err := store.Unready(address)
		if err == nil {
			err = store.BringTo(old, release)
		}
		if err != nil {
			t.Fatal(release, err)
		}
		old.Close()
		held := map[string]bool{}
		for _, table := range kept {
			has := columnsOf(t, db, table)
			both := slices.DeleteFunc(columnsOf(t, now, table), func(c string) bool { return !slices.Contains(has, c) })
			if held[table] = len(both) > 0; !held[table] {
				continue
			}
			from := table
			if table == "function_figures" && !slices.Contains(has, "measure") {
				from += " WHERE measure = 0" // all that such a release kept
			}
			list := strings.Join(both, ", ")
			for _, r := range rows(t, now, from, both) {
				if _, err := db.Exec(ctx, fmt.Sprintf("INSERT INTO %[1]s (%[2]s) OVERRIDING SYSTEM VALUE SELECT %[2]s FROM jsonb_populate_record(NULL::%[1]s, $1)", table, list), r); err != nil {
					t.Fatal(release, table, err)
				}
			}
		}
		st, err := store.Open(ctx, address)
		if err != nil {
			t.Fatal(release, err)
		}
		// What a take shows first is in the ledger before any file is read.
		var first int64
		list, err := st.LedgerMeasures(ctx, "engraved", 0)
		for _, m := range list {
			first += m.First
		}
		if err != nil || first != 1 || list[0].Name != "cpu" || list[0].Unit != "ns" {
			t.Errorf("form %d: before its file is read: %+v, %v", release, list, err)
		}
		unread, shown := 3, " WHERE position = 0"
		if release >= figuredSince {
			unread, shown = 0, "" // that release made all of them
		}
		want := rows(t, now, "take_measures"+shown, []string{"take_id", "name", "unit", "counted", "total", "samples"})
		if got := rows(t, db, "take_measures", []string{"take_id", "name", "unit", "counted", "total", "samples"}); !slices.Equal(got, want) {
			t.Errorf("form %d: before files are read, %s", release, difference(got, want))
		}
		if made, unreadable, err := st.Refigure(ctx); err != nil || unreadable != 0 || made != unread {
			t.Errorf("form %d: figures of %d takes were made, %d unreadable, %v", release, made, unreadable, err)
		}
		if made, _, err := st.Refigure(ctx); err != nil || made != 0 {
			t.Errorf("form %d: again, figures of %d takes were made, %v", release, made, err)
		}
		for _, table := range kept {
			if table != "take_measures" && !held[table] {
				continue
			}
			columns := columnsOf(t, now, table)
			if got, want := rows(t, db, table, columns), rows(t, now, table, columns); !slices.Equal(got, want) {
				t.Errorf("form %d: %s has %d rows that are not the %d of today; %s", release, table, len(got), len(want), difference(got, want))
			}
		}
		if ms, err := st.LedgerMeasures(ctx, tk.Settings.Program, 0); err != nil || len(ms) != len(tk.Profile.Measures) {
			t.Errorf("form %d: %+v, %v", release, ms, err)
		}
		st.Close()
	}
}

// figuredSince is the first release that kept the figures of all measures.
const figuredSince = 9

func difference(a, b []string) string {
	for i := range min(len(a), len(b)) {
		if a[i] != b[i] {
			return fmt.Sprintf("such as %.300s instead of %.300s", a[i], b[i])
		}
	}
	return "some are missing"
}

// TestFiguresByMeasure: bytes are not seconds. Each measure of a take has figures of
// its own, and a ledger has those of one measure.
func TestFiguresByMeasure(t *testing.T) {
	b := func(name, unit string, combine measure.Combine, values ...int64) []byte {
		tk := invent.Take(4, invent.Shape{Functions: 5, Threads: 1, Stacks: 5, Samples: 10, Depth: 3})
		p := profile.NewBuilder()
		p.Measure(name, unit, combine)
		mod := p.Module(profile.Module{Path: p.Intern("/bin/stockroom"), Kind: profile.KindOwn})
		f := p.Function(profile.Function{Name: p.Intern("shelve"), Module: mod, Kind: profile.KindOwn})
		for i, v := range values {
			p.Sample(int64(i)*1e6, p.Thread(p.Process(1), 1), p.Push(0, p.Frame(profile.Frame{Function: f})), v)
		}
		tk.Settings.Program, tk.Settings.Build, tk.Profile = "stockroom", "1.0", p.Profile()
		return encoded(t, tk)
	}
	add(t, b("allocated", "bytes", measure.Sum, 100, 20, 3))
	add(t, b("cpu", "ns", measure.Sum, 7, 7))
	add(t, b("cpu", "ns", measure.Sum, 7, 7, 7))
	add(t, b("bytes in use", "bytes", measure.Level, 50, 40, 60))
	ms, err := st.LedgerMeasures(ctx, "stockroom", 0)
	if err != nil || len(ms) != 3 || ms[0].Name != "cpu" || ms[0].Takes != 2 {
		t.Fatalf("%+v, %v", ms, err)
	}
	for _, m := range ms {
		takes, err := st.LedgerTakes(ctx, "stockroom", 0, m)
		if err != nil {
			t.Fatal(err)
		}
		var totals []int64
		by := make([]float64, len(takes))
		for i, x := range takes {
			totals, by[i] = append(totals, x.Total), 1
		}
		want := map[string][]int64{"cpu": {14, 21}, "allocated": {123}, "bytes in use": {60}}[m.Name]
		if slices.Sort(totals); !slices.Equal(totals, want) {
			t.Errorf("%s: %v, not %v", m.Name, totals, want)
		}
		figures, err := st.LedgerFigures(ctx, takes, by, nil)
		if err != nil || len(figures) != 1 {
			t.Fatalf("%s: %+v, %v", m.Name, figures, err)
		}
		var mean float64
		for _, v := range want {
			mean += float64(v) / float64(len(want))
		}
		if figures[0].Self != mean {
			t.Errorf("%s: a function has %v, not %v", m.Name, figures[0].Self, mean)
		}
		of, err := st.FunctionFigures(ctx, takes, "shelve")
		if err != nil || len(of) != len(takes) || of[takes[0].ID].Self != takes[0].Total {
			t.Errorf("%s: %+v, %v", m.Name, of, err)
		}
		builds, err := st.Figures(ctx, takes[0].ProgramID, 0, m.Name, "shelve", "")
		if err != nil || len(builds) != 1 || builds[0].Takes != int64(len(takes)) || builds[0].SelfShare != 1 {
			t.Errorf("%s: %+v, %v", m.Name, builds, err)
		}
	}
}
