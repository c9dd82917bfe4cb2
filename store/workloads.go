package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"entelon/core/profile"
	"entelon/core/workload"
	"entelon/store/database"
)

// workloadRecords are the records of what programs were made to do.
type workloadRecords struct{ *records }

// Workload is what a program was made to do in some of its takes.
type Workload struct {
	ID        int64 `gorm:"primaryKey"`
	ProgramID int64
	Key       string // by which takes find it
	Name      string
	Words     string // what it was called before anybody named it
	Named     bool   // by hand, or with the take
	IntoID    *int64 // with which it was merged
	CreatedAt time.Time
}

// WorkloadSummary is a workload with its takes counted.
type WorkloadSummary struct {
	ID     int64
	Name   string
	Words  string
	Named  bool
	Takes  int64
	Builds int64
	LastAt time.Time // of its newest take
	Merged []string  `gorm:"-"` // names of those that were merged into it
}

// WorkloadChange is what somebody did to a program's workloads.
type WorkloadChange struct {
	ID        int64 `gorm:"primaryKey"`
	ProgramID int64
	Who       string
	What      string          // in words
	Before    workloadsBefore `gorm:"serializer:document"`
	CreatedAt time.Time
	UndoneAt  *time.Time
}

// workloadsBefore is how it was before a change, as far as it was changed.
type workloadsBefore struct {
	Workloads []Workload `json:"workloads,omitempty"`
	Takes     []takeIn   `json:"takes,omitempty"`
	Made      []int64    `json:"made,omitempty"` // workloads that were not there
}

type takeIn struct {
	ID       int64 `json:"id"`
	Workload int64 `json:"workload"`
	Moved    bool  `json:"moved,omitempty"`
}

const (
	// maxWorkloads bounds the workloads that are listed, those with the most takes first.
	maxWorkloads = 200
	// maxMoved bounds the takes that are moved at once, and maxMerged the workloads that
	// are merged.
	maxMoved  = 10_000
	maxMerged = 200
	// maxKeptChanges bounds the changes of a program that can be undone.
	maxKeptChanges = 50
)

// BadChange says what of a change of workloads cannot be done.
type BadChange struct{ What string }

func (e BadChange) Error() string { return e.What }

// ErrNoUndo means that there is no change to be undone.
var ErrNoUndo = errors.New("there is no change of workloads to undo")

// fileWorkload finds or makes the workload of a take, whose program is known.
func fileWorkload(tx *gorm.DB, row *Take, s *profile.Settings, f *profile.Facts) error {
	w := workload.Of(s, f)
	var x Workload
	for tries := 1; ; tries++ {
		x = Workload{ProgramID: row.ProgramID, Key: w.Key, Name: database.Plain(w.Words), Words: database.Plain(w.Words), Named: w.Given}
		if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&x).Error; err != nil {
			return err
		}
		// It stays until the take is there.
		err := tx.Clauses(clause.Locking{Strength: "KEY SHARE"}).Where("program_id = ? AND key = ?", row.ProgramID, w.Key).First(&x).Error
		if err == nil {
			break
		} else if !errors.Is(err, gorm.ErrRecordNotFound) || tries == 3 { // else it was tidied up just then
			return err
		}
	}
	row.FoundID, row.WorkloadID = &x.ID, &x.ID
	if x.IntoID != nil {
		row.WorkloadID = x.IntoID
	}
	return nil
}

// fileAllWorkloads files the takes that were kept before there were workloads.
func (s workloadRecords) fileAllWorkloads(ctx context.Context) error {
	const batch = 200
	for {
		var rows []Take
		if err := s.Bulk.WithContext(ctx).Select("id", "program_id", "settings", "facts").Where("workload_id IS NULL").Order("id").Limit(batch).Find(&rows).Error; err != nil {
			return s.Wrap("reading from", err)
		}
		if len(rows) == 0 {
			return nil
		}
		err := s.inBulk(ctx, func(tx *gorm.DB) error {
			for i := range rows {
				r := &rows[i]
				if err := fileWorkload(tx, r, &r.Settings, &r.Facts); err != nil {
					return err
				}
				if err := tx.Model(&Take{ID: r.ID}).Where("workload_id IS NULL").Updates(map[string]any{"workload_id": r.WorkloadID, "found_id": r.FoundID}).Error; err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return s.Wrap("finding the workloads of takes in", err)
		}
	}
}

// byComparable orders workloads, with the takes t of each: first those whose takes can be
// held against each other, of two builds or more, then those with the most takes.
const byComparable = "count(DISTINCT t.build_id) > 1 DESC, count(*) DESC, max(t.started_at) DESC, w.id"

// chiefWorkloads are the first of each program's workloads.
const chiefWorkloads = `
SELECT DISTINCT ON (x.program_id) x.* FROM (
	SELECT w.program_id, w.id, w.name, w.words, w.named, count(*) AS takes, count(DISTINCT t.build_id) AS builds, max(t.started_at) AS last_at,
		row_number() OVER (PARTITION BY w.program_id ORDER BY ` + byComparable + `) AS place
	FROM workloads w JOIN takes t ON t.workload_id = w.id GROUP BY w.id
) x ORDER BY x.program_id, x.place`

// Workloads lists a program's workloads that have takes, those first whose takes can be
// held against each other. all is how many there are.
func (s workloadRecords) Workloads(ctx context.Context, program string) (out []WorkloadSummary, all int64, err error) {
	id, err := noteRecords(s).program(ctx, program)
	if err != nil {
		return nil, 0, err
	}
	db := s.Quick.WithContext(ctx)
	err = db.Raw(`
SELECT w.id, w.name, w.words, w.named, count(*) AS takes, count(DISTINCT t.build_id) AS builds, max(t.started_at) AS last_at
FROM workloads w JOIN takes t ON t.workload_id = w.id WHERE w.program_id = ?
GROUP BY w.id ORDER BY `+byComparable+` LIMIT ?`, id, maxWorkloads).Scan(&out).Error
	if err != nil {
		return nil, 0, s.Wrap("reading workloads from", err)
	}
	if err := db.Raw("SELECT count(DISTINCT workload_id) FROM takes WHERE program_id = ?", id).Scan(&all).Error; err != nil {
		return nil, 0, s.Wrap("reading workloads from", err)
	}
	var merged []Workload
	ids := make([]int64, 0, len(out))
	for _, w := range out {
		ids = append(ids, w.ID)
	}
	if err := db.Where("into_id IN ?", ids).Order("name, id").Limit(maxMerged).Find(&merged).Error; err != nil {
		return nil, 0, s.Wrap("reading workloads from", err)
	}
	for _, m := range merged {
		if i := slices.Index(ids, *m.IntoID); i >= 0 {
			out[i].Merged = append(out[i].Merged, m.Name)
		}
	}
	return out, all, nil
}

// workloadIn returns a workload of a program that is merged with no other.
func workloadIn(tx *gorm.DB, program, id int64) (*Workload, error) {
	var w Workload
	err := tx.Where("id = ? AND program_id = ? AND into_id IS NULL", id, program).First(&w).Error
	return &w, database.Missing("workload", err)
}

// change does something to a program's workloads, and keeps how it was before.
func (s workloadRecords) change(ctx context.Context, program, who string, do func(tx *gorm.DB, program int64, c *WorkloadChange) error) error {
	id, err := noteRecords(s).program(ctx, program)
	if err != nil {
		return err
	}
	return s.Wrap("changing workloads in", s.inBulk(ctx, func(tx *gorm.DB) error {
		c := &WorkloadChange{ProgramID: id, Who: database.Plain(who), CreatedAt: time.Now().UTC()}
		// One change of a program's workloads at a time: each knows how it was before.
		if err := tx.Exec("SELECT 1 FROM programs WHERE id = ? FOR UPDATE", id).Error; err != nil {
			return err
		}
		if err := do(tx, id, c); err != nil {
			return err
		}
		if err := tx.Create(c).Error; err != nil {
			return err
		}
		return tx.Exec("DELETE FROM workload_changes WHERE program_id = ? AND id NOT IN (SELECT id FROM workload_changes WHERE program_id = ? ORDER BY id DESC LIMIT ?)", id, id, maxKeptChanges).Error
	}))
}

// NameWorkload gives a workload a name.
func (s workloadRecords) NameWorkload(ctx context.Context, program string, id int64, name, who string) error {
	if name = workload.Name(database.Plain(name)); name == "" {
		return BadChange{"give the workload a name"}
	}
	return s.change(ctx, program, who, func(tx *gorm.DB, p int64, c *WorkloadChange) error {
		w, err := workloadIn(tx, p, id)
		if err != nil {
			return err
		}
		c.What, c.Before.Workloads = fmt.Sprintf("%s named %s", w.Name, name), []Workload{*w}
		return tx.Model(w).Updates(map[string]any{"name": name, "named": true}).Error
	})
}

// MergeWorkloads puts the takes of some workloads into another one, and all later takes
// that would be theirs.
func (s workloadRecords) MergeWorkloads(ctx context.Context, program string, from []int64, into int64, who string) error {
	if len(from) == 0 || len(from) > maxMerged || slices.Contains(from, into) {
		return BadChange{fmt.Sprintf("choose 1 to %d workloads, and another one to merge them with", maxMerged)}
	}
	return s.change(ctx, program, who, func(tx *gorm.DB, p int64, c *WorkloadChange) error {
		to, err := workloadIn(tx, p, into)
		if err != nil {
			return err
		}
		var names []string
		for _, id := range from {
			w, err := workloadIn(tx, p, id)
			if err != nil {
				return err
			}
			names = append(names, w.Name)
		}
		// Those that were merged with one of them go along.
		if err := tx.Where("program_id = ? AND (id IN ? OR into_id IN ?)", p, from, from).Order("id").Find(&c.Before.Workloads).Error; err != nil {
			return err
		}
		var takes []Take
		if err := tx.Select("id", "workload_id", "moved").Where("workload_id IN ?", from).Find(&takes).Error; err != nil {
			return err
		}
		c.What = fmt.Sprintf("%s merged with %s", strings.Join(names, ", "), to.Name)
		c.Before.remember(takes)
		if err := tx.Model(&Workload{}).Where("program_id = ? AND (id IN ? OR into_id IN ?)", p, from, from).Update("into_id", into).Error; err != nil {
			return err
		}
		return tx.Model(&Take{}).Where("workload_id IN ?", from).Update("workload_id", into).Error
	})
}

func (b *workloadsBefore) remember(takes []Take) {
	for _, t := range takes {
		if t.WorkloadID != nil {
			b.Takes = append(b.Takes, takeIn{t.ID, *t.WorkloadID, t.Moved})
		}
	}
}

// MoveTakes puts takes of a program, by their keys, into another of its workloads, or into
// a new one of a name where into is 0. It returns which.
func (s workloadRecords) MoveTakes(ctx context.Context, program string, keys []string, into int64, name, who string) (id int64, err error) {
	if len(keys) == 0 || len(keys) > maxMoved {
		return 0, BadChange{fmt.Sprintf("choose 1 to %d takes", maxMoved)}
	}
	if name = workload.Name(database.Plain(name)); into == 0 && name == "" {
		return 0, BadChange{"choose a workload, or give a new one a name"}
	}
	err = s.change(ctx, program, who, func(tx *gorm.DB, p int64, c *WorkloadChange) error {
		id = into
		if into == 0 {
			w := workload.Of(&profile.Settings{Workload: name}, &profile.Facts{})
			x := Workload{ProgramID: p, Key: w.Key, Name: name, Words: name, Named: true}
			made := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&x)
			if made.Error != nil {
				return made.Error
			}
			if made.RowsAffected > 0 {
				c.Before.Made = []int64{x.ID}
			} else if err := tx.Where("program_id = ? AND key = ?", p, w.Key).First(&x).Error; err != nil {
				return err
			}
			if id = x.ID; x.IntoID != nil {
				id = *x.IntoID
			}
		}
		to, err := workloadIn(tx, p, id)
		if err != nil {
			return err
		}
		var takes []Take
		if err := tx.Select("id", "workload_id", "moved").Where("program_id = ? AND key IN ?", p, keys).Find(&takes).Error; err != nil {
			return err
		}
		if len(takes) != len(keys) {
			return database.NotFound{What: "take"}
		}
		c.What = fmt.Sprintf("%d takes moved to %s", len(takes), to.Name)
		if len(takes) == 1 {
			c.What = "a take moved to " + to.Name
		}
		c.Before.remember(takes)
		return tx.Model(&Take{}).Where("program_id = ? AND key IN ?", p, keys).Updates(map[string]any{"workload_id": id, "moved": true}).Error
	})
	return id, err
}

// WorkloadChanges lists what was done to a program's workloads and not undone, the newest
// first.
func (s workloadRecords) WorkloadChanges(ctx context.Context, program string) (out []WorkloadChange, err error) {
	id, err := noteRecords(s).program(ctx, program)
	if err != nil {
		return nil, err
	}
	return out, s.Wrap("reading workloads from", s.Quick.WithContext(ctx).Select("id", "who", "what", "created_at").
		Where("program_id = ? AND undone_at IS NULL", id).Order("id DESC").Limit(maxKeptChanges).Find(&out).Error)
}

// UndoWorkloads undoes the newest change of a program's workloads that is not undone, and
// says which it was.
func (s workloadRecords) UndoWorkloads(ctx context.Context, program string) (what string, err error) {
	id, err := noteRecords(s).program(ctx, program)
	if err != nil {
		return "", err
	}
	err = s.inBulk(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT 1 FROM programs WHERE id = ? FOR UPDATE", id).Error; err != nil {
			return err
		}
		var c WorkloadChange
		found := tx.Where("program_id = ? AND undone_at IS NULL", id).Order("id DESC").Limit(1).Find(&c)
		if found.Error != nil {
			return found.Error
		}
		if found.RowsAffected == 0 {
			return ErrNoUndo
		}
		what = c.What
		for _, w := range c.Before.Workloads {
			if err := tx.Model(&Workload{ID: w.ID}).Updates(map[string]any{"name": w.Name, "named": w.Named, "into_id": w.IntoID}).Error; err != nil {
				return err
			}
		}
		for _, t := range c.Before.Takes {
			if err := tx.Model(&Take{ID: t.ID}).Updates(map[string]any{"workload_id": t.Workload, "moved": t.Moved}).Error; err != nil {
				return err
			}
		}
		// What came since goes where it would have gone.
		for _, w := range c.Before.Workloads {
			if err := tx.Exec("UPDATE takes SET workload_id = coalesce(w.into_id, w.id) FROM workloads w WHERE w.id = ? AND takes.found_id = w.id AND NOT takes.moved", w.ID).Error; err != nil {
				return err
			}
		}
		for _, m := range c.Before.Made {
			if err := tx.Exec("DELETE FROM workloads w WHERE w.id = ? AND NOT EXISTS (SELECT 1 FROM takes t WHERE t.workload_id = w.id OR t.found_id = w.id)", m).Error; err != nil {
				return err
			}
		}
		now := time.Now().UTC()
		return tx.Model(&WorkloadChange{ID: c.ID}).Update("undone_at", &now).Error
	})
	if errors.Is(err, ErrNoUndo) {
		return "", err
	}
	return what, s.Wrap("undoing a change of workloads in", err)
}
