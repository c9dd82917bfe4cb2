package store

import (
	"context"
	"fmt"
	"io"
	"strings"

	"gorm.io/gorm"

	"entelon/store/database"
)

// takeRecords are the records of takes, their programs and builds.
type takeRecords struct{ *records }

// ProgramSummary is a program with what a list shows of it.
type ProgramSummary struct {
	Program
	Chief  WorkloadSummary `gorm:"-"` // the workload of which takes stand beside each other
	Builds []BuildSummary  `gorm:"-"`
	Hot    []HotFigure     `gorm:"-"` // of the program's newest take
}

// HotFigure is one of the hottest functions of a program's newest take of its chief workload.
type HotFigure struct {
	ProgramID  int64
	Key        string // of the take
	Build      string
	Measure    string // that the take shows first
	Name       string
	SelfShare  float64
	TotalShare float64
}

// BuildSummary is a build with its takes counted.
type BuildSummary struct {
	Build
	Takes   int64  // of the program's chief workload
	Others  int64  // of other workloads
	LastAt  string // time of its newest take, RFC 3339
	LastKey string // key of its newest take
	Keys    string // of its newest takes of the chief workload, 40 at most, with commas
	CPUNS   int64  `gorm:"column:cpu_ns"` // median over those; 0 where there is none
	// Instructions is the median of exact runs, which have no CPU time.
	Instructions int64
}

// hottest is how many functions a list of programs shows of each.
const hottest = 5

// Programs lists all programs by name, each with its builds in the order in
// which they were first measured and the hottest functions of the newest take of its
// chief workload.
func (s takeRecords) Programs(ctx context.Context) ([]ProgramSummary, error) {
	var programs []Program
	db := s.Quick.WithContext(ctx)
	if err := db.Order("name").Find(&programs).Error; err != nil {
		return nil, s.Wrap("reading from", err)
	}
	var builds []BuildSummary
	err := db.Raw(`WITH chief AS (` + chiefWorkloads + `)
SELECT b.*, count(*) FILTER (WHERE c.id IS NOT NULL) AS takes, count(*) FILTER (WHERE c.id IS NULL) AS others,
	to_char(max(t.started_at) AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS"Z"') AS last_at,
	(array_agg(t.key ORDER BY t.started_at DESC))[1] AS last_key,
	coalesce(array_to_string((array_agg(t.key ORDER BY t.started_at DESC) FILTER (WHERE c.id IS NOT NULL))[1:40], ','), '') AS keys,
	least(coalesce(percentile_cont(0.5) WITHIN GROUP (ORDER BY t.cpu_ns) FILTER (WHERE c.id IS NOT NULL), 0), 9e18)::bigint AS cpu_ns,
	least(coalesce(percentile_cont(0.5) WITHIN GROUP (ORDER BY m.total) FILTER (WHERE c.id IS NOT NULL), 0), 9e18)::bigint AS instructions
FROM builds b JOIN takes t ON t.build_id = b.id LEFT JOIN chief c ON c.id = t.workload_id
	LEFT JOIN take_measures m ON m.take_id = t.id AND m.position = 0 AND m.name = 'instructions' AND jsonb_typeof(t.facts->'exact') = 'object'
GROUP BY b.id ORDER BY min(t.started_at), b.id`).Scan(&builds).Error
	if err != nil {
		return nil, s.Wrap("reading from", err)
	}
	var chief []struct {
		ProgramID int64
		WorkloadSummary
	}
	err = db.Raw(chiefWorkloads).Scan(&chief).Error
	if err != nil {
		return nil, s.Wrap("reading from", err)
	}
	var hot []HotFigure
	err = db.Raw(`
WITH chief AS (`+chiefWorkloads+`), newest AS (
	SELECT DISTINCT ON (t.program_id) t.id, t.program_id, t.key, t.build_id FROM takes t JOIN chief c ON c.id = t.workload_id
	ORDER BY t.program_id, t.started_at DESC, t.id DESC
), ranked AS (
	SELECT l.program_id, l.key, l.build_id, m.name AS measure, n.name, f.self, f.total, m.total AS whole,
		row_number() OVER (PARTITION BY l.id ORDER BY f.self DESC, n.id) AS rank
	FROM newest l JOIN take_measures m ON m.take_id = l.id AND m.position = 0
		JOIN function_figures f ON f.take_id = l.id AND f.measure = 0 JOIN functions n ON n.id = f.function_id
)
SELECT r.program_id, r.key, b.name AS build, r.measure, r.name, r.self / nullif(r.whole, 0)::float8 AS self_share, r.total / nullif(r.whole, 0)::float8 AS total_share
FROM ranked r JOIN builds b ON b.id = r.build_id WHERE rank <= ? ORDER BY r.program_id, rank`, hottest).Scan(&hot).Error
	if err != nil {
		return nil, s.Wrap("reading from", err)
	}
	out := make([]ProgramSummary, 0, len(programs))
	for _, p := range programs {
		x := ProgramSummary{Program: p}
		for _, b := range builds {
			if b.ProgramID == p.ID {
				x.Builds = append(x.Builds, b)
			}
		}
		for _, w := range chief {
			if w.ProgramID == p.ID {
				x.Chief = w.WorkloadSummary
			}
		}
		for _, h := range hot {
			if h.ProgramID == p.ID {
				x.Hot = append(x.Hot, h)
			}
		}
		if len(x.Builds) > 0 {
			out = append(out, x)
		}
	}
	return out, nil
}

// TakeQuery chooses and orders takes.
type TakeQuery struct {
	Search     string // words that all occur in program, build, note, command or host
	Program    string // exact name, "" for all
	Workload   int64  // 0 for all
	Series     string // of takes in a row, "" for all
	Sort       string // a key of sortColumns; "" is "started"
	Descending bool
	Limit      int
	Offset     int
}

var sortColumns = map[string]string{
	"started":  "takes.started_at",
	"program":  `"Program".name`,
	"build":    `"Build".name`,
	"duration": "takes.duration_ns",
	"cpu":      "takes.cpu_ns",
	"samples":  "takes.samples",
	"warnings": "takes.warnings",
}

// Sortable reports whether takes can be sorted by a column.
func Sortable(column string) bool { return sortColumns[column] != "" }

// Takes lists takes and says how many there are in all.
func (s takeRecords) Takes(ctx context.Context, q TakeQuery) ([]Take, int64, error) {
	db := s.Quick.WithContext(ctx).Model(&Take{}).Joins("Program").Joins("Build").Joins("Workload")
	for _, word := range strings.Fields(q.Search) {
		like := "%" + likeEscape.Replace(word) + "%"
		db = db.Where(`concat_ws(' ', "Program".name, "Build".name, takes.note, takes.settings->>'command', takes.machine->>'host', takes.key) ILIKE ?`, like)
	}
	if q.Program != "" {
		db = db.Where(`"Program".name = ?`, q.Program)
	}
	if q.Workload != 0 {
		db = db.Where("takes.workload_id = ?", q.Workload)
	}
	if q.Series != "" {
		db = db.Where("takes.settings->>'series' = ?", q.Series)
	}
	column := sortColumns[q.Sort]
	if column == "" {
		column = sortColumns["started"]
	}
	if q.Descending {
		column += " DESC"
	}
	var n int64
	if err := db.Session(&gorm.Session{}).Count(&n).Error; err != nil {
		return nil, 0, s.Wrap("reading from", err)
	}
	var out []Take
	if err := db.Order(column + ", takes.id DESC").Limit(q.Limit).Offset(q.Offset).Find(&out).Error; err != nil {
		return nil, 0, s.Wrap("reading from", err)
	}
	return out, n, nil
}

var likeEscape = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)

// Take returns a take by its key.
func (s takeRecords) Take(ctx context.Context, key string) (*Take, error) {
	return s.one(ctx, "takes.key = ?", key)
}

func (s takeRecords) takeByID(ctx context.Context, id int64) (*Take, error) {
	return s.one(ctx, "takes.id = ?", id)
}

func (s takeRecords) one(ctx context.Context, where string, arg any) (*Take, error) {
	var t Take
	err := s.Quick.WithContext(ctx).Joins("Program").Joins("Build").Joins("Workload").Where(where, arg).First(&t).Error
	if err != nil {
		return nil, s.Wrap("reading from", database.Missing("take", err))
	}
	return &t, nil
}

// SetNote replaces a take's note.
func (s takeRecords) SetNote(ctx context.Context, key, note string) error {
	r := s.Quick.WithContext(ctx).Model(&Take{}).Where("key = ?", key).Update("note", database.Plain(note))
	if r.Error == nil && r.RowsAffected == 0 {
		return database.NotFound{What: "take"}
	}
	return s.Wrap("writing to", r.Error)
}

// Remove deletes a take with everything that belongs to it.
func (s takeRecords) Remove(ctx context.Context, key string) error {
	return s.Wrap("writing to", s.inBulk(ctx, func(tx *gorm.DB) error {
		var t Take
		if err := tx.Where("key = ?", key).First(&t).Error; err != nil {
			return database.Missing("take", err)
		}
		if err := tx.Delete(&t).Error; err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM builds b WHERE b.id = ? AND NOT EXISTS (SELECT 1 FROM takes WHERE build_id = b.id)", t.BuildID).Error; err != nil {
			return err
		}
		return tx.Exec("DELETE FROM programs p WHERE p.id = ? AND NOT EXISTS (SELECT 1 FROM takes WHERE program_id = p.id)", t.ProgramID).Error
	}))
}

// File returns a reader of a take's file, which reads piece by piece.
func (s takeRecords) File(ctx context.Context, t *Take) io.Reader {
	return &fileReader{s: s.records, ctx: ctx, id: t.ID}
}

type fileReader struct {
	s    *records
	ctx  context.Context
	id   int64
	seq  int
	rest []byte
}

func (r *fileReader) Read(b []byte) (int, error) {
	for len(r.rest) == 0 {
		var p []TakeBlob
		err := r.s.Quick.WithContext(r.ctx).Where("take_id = ? AND seq = ?", r.id, r.seq).Find(&p).Error
		if err != nil {
			return 0, fmt.Errorf("reading a take's file: %w", r.s.Wrap("reading from", err))
		}
		if len(p) == 0 {
			return 0, io.EOF
		}
		r.rest = p[0].Data
		r.seq++
	}
	n := copy(b, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

// BuildFigure is what one function cost in the takes of one build.
type BuildFigure struct {
	Build      string
	Takes      int64
	SelfShare  float64 // median over the takes
	TotalShare float64
}

// NewestOfBuilds returns the newest take of each of a program's builds, in the
// order in which the builds were first measured; of the take's own build that
// take. Only takes of its workload are among them. Of more builds than most the first
// are left out.
func (s takeRecords) NewestOfBuilds(ctx context.Context, of *Take, most int) ([]Take, error) {
	var ids []int64
	err := s.Quick.WithContext(ctx).Raw(`
SELECT id FROM (
	SELECT DISTINCT ON (t.build_id) t.id, min(t.started_at) OVER (PARTITION BY t.build_id) AS began
	FROM takes t WHERE t.program_id = @program AND t.workload_id = (SELECT workload_id FROM takes WHERE id = @id) ORDER BY t.build_id, (t.id = @id) DESC, t.started_at DESC, t.id DESC
) newest ORDER BY began DESC, id DESC LIMIT @most`, map[string]any{"program": of.ProgramID, "id": of.ID, "most": most}).Scan(&ids).Error
	if err != nil {
		return nil, s.Wrap("reading builds from", err)
	}
	out := make([]Take, 0, len(ids))
	for i := len(ids) - 1; i >= 0; i-- {
		t, err := s.takeByID(ctx, ids[i])
		if err != nil {
			return nil, err
		}
		out = append(out, *t)
	}
	return out, nil
}

// Figures returns a function's shares in all builds of a program, in the order
// in which the builds were first measured, by one measure in takes of a workload that
// have it; a workload of 0 is all. A take without the function counts with a share of 0.
func (s takeRecords) Figures(ctx context.Context, program, workload int64, measure, name, module string) ([]BuildFigure, error) {
	var out []BuildFigure
	err := s.Quick.WithContext(ctx).Raw(`
WITH sums AS (
	SELECT t.id, t.build_id, t.started_at, m.position, m.total
	FROM takes t JOIN take_measures m ON m.take_id = t.id AND m.name = @measure WHERE t.program_id = @program AND (@workload = 0 OR t.workload_id = @workload) AND m.samples > 0
), mine AS (
	SELECT f.take_id, f.measure, f.self, f.total FROM function_figures f JOIN functions n ON n.id = f.function_id
	WHERE n.program_id = @program AND n.name = @name AND n.module = @module
)
SELECT b.name AS build, count(*) AS takes,
	percentile_cont(0.5) WITHIN GROUP (ORDER BY coalesce(mine.self, 0)::float8 / nullif(sums.total, 0)) AS self_share,
	percentile_cont(0.5) WITHIN GROUP (ORDER BY coalesce(mine.total, 0)::float8 / nullif(sums.total, 0)) AS total_share
FROM sums JOIN builds b ON b.id = sums.build_id LEFT JOIN mine ON mine.take_id = sums.id AND mine.measure = sums.position
GROUP BY b.id, b.name ORDER BY min(sums.started_at), b.id`,
		map[string]any{"program": program, "workload": workload, "measure": measureName(measure), "name": database.Plain(name), "module": database.Plain(module)}).Scan(&out).Error
	if err != nil {
		return nil, s.Wrap("reading from", err)
	}
	return out, nil
}
