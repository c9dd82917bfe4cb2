package store

import (
	"bufio"
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"entelon/codec/take"
	"entelon/core/calltree"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/store/database"
)

// figureRecords are the records of what functions cost in each take.
type figureRecords struct{ *records }

// maxFigures bounds the functions of which a take's figures are kept, by its first
// measure, the costliest first. What all come to is kept with the measure.
const maxFigures = 20_000

// maxFurther bounds the figures of all further measures of a take together, and
// longestMeasure the name of one as it is kept for questions over many takes, in bytes.
const (
	maxFurther     = 40_000
	longestMeasure = 1000
)

// measureName is a measure's name as it is kept.
func measureName(name string) string { return shortened(database.Plain(name), longestMeasure) }

// longestFunction bounds a function's name as it is kept for questions over many
// takes, in bytes. The file has it whole.
const longestFunction = 4 << 10

// named is a function as it is known over many takes.
type named struct{ name, module string }

// figures are what the functions of a take cost, by one measure.
type figures struct {
	measure TakeMeasure
	of      []named
	cost    []FunctionFigure
}

// allFigures adds up what each function cost, by each measure that can be shown
// first.
func allFigures(t *calltree.Tree) (out []figures) {
	for m := range t.Profile.Measures {
		if t.Profile.Words(m).Beside {
			continue
		}
		c := t.Cost(m, scope.Scope{})
		most := maxFigures
		if further := len(t.Profile.Measures) - 1; m > 0 {
			most = min(maxFigures, maxFurther/further)
		}
		f := figuresOf(t.Profile, calltree.Functions(t, c), most)
		w := t.Profile.Words(m)
		f.measure = TakeMeasure{Position: m, Name: measureName(w.Name), Unit: database.Plain(w.Unit), Level: w.Combine == measure.Level, Counted: w.Counted, Total: c.Total(0), Samples: c.TotalSamples(0)}
		for i := range f.cost {
			f.cost[i].Measure = m
		}
		out = append(out, f)
	}
	return out
}

// figuresOf adds up what each function cost, and keeps the costliest.
func figuresOf(p *profile.Profile, functions []calltree.FunctionCost, most int) (out figures) {
	at := map[named]int{}
	for _, c := range functions {
		k := named{shortened(database.Plain(p.FunctionName(c.Function)), longestFunction), shortened(database.Plain(p.Home(c.Function)), longestFunction)}
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
	order = order[:min(most, len(order))]
	// By name, so that two takes of one program that come at the same time do not
	// wait for each other in a circle.
	slices.SortFunc(order, func(a, b int) int {
		return cmp.Or(strings.Compare(out.of[a].name, out.of[b].name), strings.Compare(out.of[a].module, out.of[b].module))
	})
	var kept figures
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
	f.measure.TakeID = row.ID
	if err := tx.Create(&f.measure).Error; err != nil {
		return err
	}
	if len(f.of) == 0 {
		return nil
	}
	db, ok := tx.Statement.ConnPool.(interface {
		ExecContext(context.Context, string, ...any) (sql.Result, error)
		QueryContext(context.Context, string, ...any) (*sql.Rows, error)
	})
	if !ok {
		return fmt.Errorf("the figures cannot be encoded with %T", tx.Statement.ConnPool)
	}
	names, modules := make([]string, len(f.of)), make([]string, len(f.of))
	at := make(map[named]int, len(f.of))
	for i, k := range f.of {
		names[i], modules[i], at[k] = k.name, k.module, i
	}
	_, err := db.ExecContext(ctx, `
INSERT INTO functions (program_id, name, module) SELECT $1, x.name, x.module FROM unnest($2::text[], $3::text[]) AS x (name, module)
ON CONFLICT DO NOTHING`, row.ProgramID, names, modules)
	if err != nil {
		return err
	}
	rows, err := db.QueryContext(ctx, `
SELECT f.id, f.name, f.module FROM unnest($2::text[], $3::text[]) AS x (name, module) CROSS JOIN LATERAL (
	SELECT id, name, module FROM functions WHERE program_id = $1 AND md5(name) = md5(x.name) AND module = x.module AND name = x.name
	LIMIT 1 FOR KEY SHARE -- each by itself in the index, however many there are
) f`, row.ProgramID, names, modules)
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
INSERT INTO function_figures (take_id, measure, function_id, self, total, self_samples, total_samples)
SELECT $1, $2, * FROM unnest($3::bigint[], $4::bigint[], $5::bigint[], $6::bigint[], $7::bigint[])`,
		row.ID, f.measure.Position, columns[0], columns[1], columns[2], columns[3], columns[4])
	return err
}

// memoryOf is how many bytes a take needs when it is opened.
func memoryOf(p *profile.Profile, t *calltree.Tree) int64 {
	return p.Bytes() + t.Bytes() + 8*t.CostBytes()
}

// Refigure makes the figures of takes that were kept before all measures had some.
// It returns how many it made, and of how many the file could not be read.
func (s figureRecords) Refigure(ctx context.Context) (made, unreadable int, err error) {
	for last := int64(0); ; {
		var rows []Take
		if err := s.Quick.WithContext(ctx).Where("NOT figured AND id > ?", last).Order("id").Limit(20).Find(&rows).Error; err != nil {
			return made, unreadable, s.Wrap("reading from", err)
		}
		if len(rows) == 0 {
			return made, unreadable, nil
		}
		for i := range rows {
			last = rows[i].ID
			err := s.refigure(ctx, &rows[i])
			var broken *take.Error
			switch {
			case errors.As(err, &broken):
				unreadable++
			case err != nil:
				return made, unreadable, err
			default:
				made++
			}
		}
	}
}

func (s figureRecords) refigure(ctx context.Context, row *Take) error {
	select {
	case s.reading <- struct{}{}:
		defer func() { <-s.reading }()
	case <-ctx.Done():
		return ctx.Err()
	}
	if s.Room != nil {
		back, err := s.Room(ctx, min(max(row.Memory, row.Size*40), s.Limits.Memory))
		if err != nil {
			return err
		}
		defer back()
	}
	t, err := take.Read(bufio.NewReaderSize(whileWanted{ctx, takeRecords(s).File(ctx, row)}, 1<<20), "take "+row.Key, take.Options{Limits: s.Limits})
	if err != nil {
		return err
	}
	tr := calltree.New(t.Profile)
	all := allFigures(tr)
	known := &Take{Figured: true, Memory: memoryOf(t.Profile, tr), Outline: &profile.Outline{}}
	if err := scrub(t.Profile.Outline(), known.Outline); err != nil {
		return err
	}
	return s.Wrap("keeping figures in", s.inBulk(ctx, func(tx *gorm.DB) error {
		var there []Take // gone, or done by another server meanwhile
		if err := tx.Raw("SELECT id FROM takes WHERE id = ? AND NOT figured FOR UPDATE", row.ID).Scan(&there).Error; err != nil || len(there) == 0 {
			return err
		}
		for _, old := range []any{&FunctionFigure{}, &TakeMeasure{}} {
			if err := tx.Where("take_id = ?", row.ID).Delete(old).Error; err != nil {
				return err
			}
		}
		for i := range all {
			if err := all[i].keep(ctx, tx, row); err != nil {
				return err
			}
		}
		return tx.Model(&Take{ID: row.ID}).Select("Figured", "Memory", "Outline").Updates(known).Error
	}))
}
