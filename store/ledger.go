package store

import (
	"context"
	"fmt"
	"strings"

	"entelon/core/profile"
	"entelon/store/database"
)

// ledgerRecords are the records of a program over its builds.
type ledgerRecords struct{ *records }

// LedgerTake is a take of a ledger with what it comes to by the ledger's measure.
type LedgerTake struct {
	Take
	Measure  int   // the measure's position in the take
	Total    int64 // in the measure's unit
	Measured int64 // samples that are of the measure
	Counted  bool  // every event is in it
	Lost     int64 // but for these: its total is then partial
}

// LedgerMeasure is a measure that takes of a program have.
type LedgerMeasure struct {
	Name  string
	Unit  string
	Level bool
	Takes int64 // that have it
	First int64 // that show it first
}

// maxLedgerTakes bounds the takes of a ledger; of more the oldest are left out.
const maxLedgerTakes = 600

// maxLedgerMeasures bounds the measures that are listed.
const maxLedgerMeasures = 200

// LedgerMeasures returns the measures that a program's takes of a workload have, those
// first that most takes show first. A workload of 0 is all of them.
func (s ledgerRecords) LedgerMeasures(ctx context.Context, program string, workload int64) (out []LedgerMeasure, err error) {
	id, err := noteRecords(s).program(ctx, program)
	if err != nil {
		return nil, err
	}
	return out, s.Wrap("reading a ledger from", s.Quick.WithContext(ctx).Raw(`
SELECT m.name, m.unit, m.level, count(*) AS takes, count(*) FILTER (WHERE m.position = 0) AS first
FROM take_measures m JOIN takes t ON t.id = m.take_id WHERE t.program_id = ? AND (? = 0 OR t.workload_id = ?)
GROUP BY m.name, m.unit, m.level ORDER BY first DESC, takes DESC, m.name LIMIT ?`, id, workload, workload, maxLedgerMeasures).Scan(&out).Error)
}

// LedgerTakes returns a program's takes of a workload that have a measure in a unit, the
// oldest first.
func (s ledgerRecords) LedgerTakes(ctx context.Context, program string, workload int64, m LedgerMeasure) ([]LedgerTake, error) {
	id, err := noteRecords(s).program(ctx, program)
	if err != nil {
		return nil, err
	}
	db := s.Quick.WithContext(ctx)
	var of []TakeMeasure
	err = db.Raw(`
SELECT m.* FROM take_measures m JOIN takes t ON t.id = m.take_id
WHERE t.program_id = ? AND (? = 0 OR t.workload_id = ?) AND m.name = ? AND m.unit = ? ORDER BY t.started_at DESC, t.id DESC LIMIT ?`, id, workload, workload, m.Name, m.Unit, maxLedgerTakes).Scan(&of).Error
	if err != nil {
		return nil, s.Wrap("reading a ledger from", err)
	}
	at, ids := map[int64]TakeMeasure{}, make([]int64, 0, len(of))
	for _, x := range of {
		if _, twice := at[x.TakeID]; !twice {
			ids = append(ids, x.TakeID)
		}
		at[x.TakeID] = x
	}
	var takes []Take
	if err := db.Preload("Build").Preload("Program").Where("id IN ?", ids).Order("started_at, id").Find(&takes).Error; err != nil {
		return nil, s.Wrap("reading a ledger from", err)
	}
	out := make([]LedgerTake, 0, len(takes))
	for _, t := range takes {
		x := at[t.ID]
		lost := (&profile.Take{Settings: t.Settings, Facts: t.Facts}).Missing(x.Position)
		out = append(out, LedgerTake{t, x.Position, x.Total, x.Samples, x.Counted, lost})
	}
	return out, nil
}

// LedgerFigure is what a function costs in a build, on average over its takes.
type LedgerFigure struct {
	FunctionID   int64
	Name, Module string
	BuildID      int64
	Self, Total  float64 // divided as was asked for
}

// worthARow are the shares of a take's self and total cost from which on a
// function is in a ledger.
const (
	selfWorthARow  = 0.002
	totalWorthARow = 0.01
)

// LedgerFigures returns the functions that matter in any of the takes, and those
// that are named, by build. Each take's figures are divided by a number of its own.
func (s ledgerRecords) LedgerFigures(ctx context.Context, takes []LedgerTake, by []float64, named []string) (out []LedgerFigure, err error) {
	if len(takes) == 0 {
		return nil, nil
	}
	count := map[int64]int{}
	for _, t := range takes {
		count[t.BuildID]++
	}
	var values []string // numbers only
	for i, t := range takes {
		values = append(values, fmt.Sprintf("(%d::bigint, %d::smallint, %d::bigint, %d::float8, %g::float8, %d::float8)", t.ID, t.Measure, t.BuildID, t.Total, by[i], count[t.BuildID]))
	}
	names := make([]string, 0, len(named)+1)
	for _, n := range append(named, "") {
		names = append(names, database.Plain(n))
	}
	return out, s.Wrap("reading a ledger from", s.Quick.WithContext(ctx).Raw(`
WITH t (id, measure, build_id, total, divisor, takes) AS (VALUES `+strings.Join(values, ", ")+`),
chosen AS (
	SELECT f.function_id FROM function_figures f JOIN t ON t.id = f.take_id AND t.measure = f.measure GROUP BY f.function_id
	HAVING max(f.self / nullif(t.total, 0)) >= ? OR max(f.total / nullif(t.total, 0)) >= ?
	UNION SELECT n.id FROM functions n WHERE n.program_id = ? AND n.name IN ?
)
SELECT n.id AS function_id, n.name, n.module, t.build_id, sum(f.self / t.divisor / t.takes) AS self, sum(f.total / t.divisor / t.takes) AS total
FROM t JOIN function_figures f ON f.take_id = t.id AND f.measure = t.measure JOIN chosen c ON c.function_id = f.function_id JOIN functions n ON n.id = f.function_id
GROUP BY n.id, n.name, n.module, t.build_id`, selfWorthARow, totalWorthARow, takes[0].ProgramID, names).Scan(&out).Error)
}

// TakeFigure is what a function costs in itself in a take of a ledger.
type TakeFigure struct {
	Take, Function int   // positions: among the takes, and of those functions that are told
	Self, Samples  int64 // in the measure's unit
}

// maxChained bounds the functions whose figures are told take by take.
const maxChained = 500

// SelfFigures returns what the functions with the most samples cost in themselves in each
// of some takes, and how many functions these are.
func (s ledgerRecords) SelfFigures(ctx context.Context, takes []LedgerTake) (out []TakeFigure, functions int, err error) {
	if len(takes) == 0 {
		return nil, 0, nil
	}
	var values []string // numbers only
	for i, t := range takes {
		values = append(values, fmt.Sprintf("(%d::int, %d::bigint, %d::smallint)", i, t.ID, t.Measure))
	}
	err = s.Wrap("reading a ledger from", s.Quick.WithContext(ctx).Raw(`
WITH t (at, id, measure) AS (VALUES `+strings.Join(values, ", ")+`),
chosen AS (
	SELECT f.function_id, row_number() OVER (ORDER BY sum(f.self_samples) DESC, f.function_id) - 1 AS place
	FROM function_figures f JOIN t ON t.id = f.take_id AND t.measure = f.measure WHERE f.self_samples > 0 GROUP BY f.function_id
	ORDER BY sum(f.self_samples) DESC, f.function_id LIMIT ?
)
SELECT t.at AS take, c.place AS function, f.self, f.self_samples AS samples
FROM t JOIN function_figures f ON f.take_id = t.id AND f.measure = t.measure JOIN chosen c ON c.function_id = f.function_id
WHERE f.self_samples > 0`, maxChained).Scan(&out).Error)
	for _, f := range out {
		functions = max(functions, f.Function+1)
	}
	return out, functions, err
}

// FunctionFigures returns what the functions of a name cost together in each of
// some takes of a program, by the take's number; takes without them are left out.
func (s ledgerRecords) FunctionFigures(ctx context.Context, takes []LedgerTake, name string) (map[int64]FunctionFigure, error) {
	if len(takes) == 0 {
		return nil, nil
	}
	pairs := make([][]any, len(takes))
	for i := range takes {
		pairs[i] = []any{takes[i].ID, takes[i].Measure}
	}
	var list []FunctionFigure
	err := s.Quick.WithContext(ctx).Table("function_figures AS f").
		Select("f.take_id, least(sum(f.self), 9e18)::bigint AS self, least(sum(f.total), 9e18)::bigint AS total, least(sum(f.self_samples), 9e18)::bigint AS self_samples, least(sum(f.total_samples), 9e18)::bigint AS total_samples").
		Joins("JOIN functions n ON n.id = f.function_id").
		Where("(f.take_id, f.measure) IN ? AND n.program_id = ? AND n.name = ?", pairs, takes[0].ProgramID, database.Plain(name)).Group("f.take_id").Scan(&list).Error
	if err != nil {
		return nil, s.Wrap("reading a ledger from", err)
	}
	out := make(map[int64]FunctionFigure, len(list))
	for _, f := range list {
		out[f.TakeID] = f
	}
	return out, nil
}
