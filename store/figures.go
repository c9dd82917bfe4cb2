package store

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"entelon/core/profile"
	"entelon/core/tree"
)

// mostFigures bounds the functions of which a take's figures are kept, the
// costliest first. What all others cost together is kept with the take.
const mostFigures = 20_000

// longestFunction bounds a function's name as it is kept for questions over many
// takes, in bytes. The file has it whole.
const longestFunction = 4 << 10

// named is a function as it is known over many takes.
type named struct{ name, module string }

// figures are what the functions of a take cost.
type figures struct {
	of   []named
	cost []FunctionFigure
	rest int64 // self cost of the functions that are not among them
}

// figuresOf adds up what each function cost.
func figuresOf(p *profile.Profile, functions []tree.FunctionCost) (out figures) {
	at := map[named]int{}
	for _, c := range functions {
		k := named{shortened(plain(p.FunctionName(c.Function)), longestFunction), shortened(plain(p.Home(c.Function)), longestFunction)}
		i, known := at[k]
		if !known {
			i = len(out.of)
			at[k] = i
			out.of, out.cost = append(out.of, k), append(out.cost, FunctionFigure{})
		}
		f := &out.cost[i]
		f.Self += c.Self
		f.Total += c.Total
		f.SelfSamples += c.SelfSamples
		f.TotalSamples += c.TotalSamples
	}
	order := make([]int, len(out.of))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Or(cmp.Compare(out.cost[b].Total, out.cost[a].Total), cmp.Compare(out.cost[b].Self, out.cost[a].Self))
	})
	for _, i := range order[min(mostFigures, len(order)):] {
		out.rest += out.cost[i].Self
	}
	order = order[:min(mostFigures, len(order))]
	// By name, so that two takes of one program that come at the same time do not
	// wait for each other in a circle.
	slices.SortFunc(order, func(a, b int) int {
		return cmp.Or(strings.Compare(out.of[a].name, out.of[b].name), strings.Compare(out.of[a].module, out.of[b].module))
	})
	kept := figures{rest: out.rest}
	for _, i := range order {
		kept.of, kept.cost = append(kept.of, out.of[i]), append(kept.cost, out.cost[i])
	}
	return kept
}

// shortened cuts a text at the beginning of a character.
func shortened(s string, most int) string {
	if len(s) <= most {
		return s
	}
	return strings.ToValidUTF8(s[:most], "") + "…"
}

// keep writes the figures of a take.
func (f *figures) keep(ctx context.Context, tx *gorm.DB, row *Take) error {
	if len(f.of) == 0 {
		return nil
	}
	db, ok := tx.Statement.ConnPool.(interface {
		ExecContext(context.Context, string, ...any) (sql.Result, error)
		QueryContext(context.Context, string, ...any) (*sql.Rows, error)
	})
	if !ok {
		return fmt.Errorf("the figures cannot be written with %T", tx.Statement.ConnPool)
	}
	names, modules := make([]string, len(f.of)), make([]string, len(f.of))
	at := make(map[named]int, len(f.of))
	for i, k := range f.of {
		names[i], modules[i], at[k] = k.name, k.module, i
	}
	// PostgreSQL may think of a table as it was when it was small, and then looks for
	// each name, and for each key that a figure refers to, through all functions.
	_, err := db.ExecContext(ctx, "SET LOCAL enable_nestloop = off; SET LOCAL enable_seqscan = off")
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, `
INSERT INTO functions (program_id, name, module) SELECT $1, x.name, x.module FROM unnest($2::text[], $3::text[]) AS x (name, module)
ON CONFLICT DO NOTHING`, row.ProgramID, names, modules)
	if err != nil {
		return err
	}
	rows, err := db.QueryContext(ctx, `
SELECT f.id, f.name, f.module FROM unnest($2::text[], $3::text[]) AS x (name, module)
JOIN functions f ON f.program_id = $1 AND md5(f.name) = md5(x.name) AND f.module = x.module AND f.name = x.name
FOR KEY SHARE OF f`, row.ProgramID, names, modules)
	if err != nil {
		return err
	}
	defer rows.Close()
	found := 0
	for rows.Next() {
		var id int64
		var k named
		if err := rows.Scan(&id, &k.name, &k.module); err != nil {
			return err
		}
		if i, ok := at[k]; ok {
			f.cost[i].FunctionID = id
			found++
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if found != len(f.of) {
		return fmt.Errorf("%d of %d functions were not kept", len(f.of)-found, len(f.of))
	}
	columns := make([][]int64, 5)
	for _, c := range f.cost {
		for i, v := range []int64{c.FunctionID, c.Self, c.Total, c.SelfSamples, c.TotalSamples} {
			columns[i] = append(columns[i], v)
		}
	}
	_, err = db.ExecContext(ctx, `
INSERT INTO function_figures (take_id, function_id, self, total, self_samples, total_samples)
SELECT $1, * FROM unnest($2::bigint[], $3::bigint[], $4::bigint[], $5::bigint[], $6::bigint[])`,
		row.ID, columns[0], columns[1], columns[2], columns[3], columns[4])
	return err
}
