// Package jobs keeps takes that are being made, with what arrived of them so far, and the collectors
// that make them. Its methods may be called by many goroutines; what guards the records is the
// database.
package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"entelon/core/profile"
	"entelon/core/workload"
	"entelon/store/database"
)

// JobRecords are the records of what collectors are asked for, and takes that grow.
type JobRecords struct{ *database.DB }

// Job is work for a collector: a take, or a question about its machine.
type Job struct {
	ID        string `gorm:"primaryKey"`
	Kind      string // "take", "processes" or "count"
	Collector string // who shall do it
	Doer      string // who does; the same one, once it has begun
	State     string
	Settings  profile.Settings `gorm:"serializer:document"`
	Who       string           // the person who asked
	CreatedAt time.Time
	StartedAt *time.Time
	HeardAt   *time.Time // when its collector last said something of it
	EndedAt   *time.Time
	ElapsedNS int64 `gorm:"column:elapsed_ns"`
	Samples   int64
	Lost      int64
	Size      int64 // of the file as far as it has come
	TakeKey   string
	Error     string
	Remedy    string
	Task      json.RawMessage `gorm:"type:jsonb"` // what a question is about; of a take, how far its row is
	Result    json.RawMessage `gorm:"type:jsonb"` // the answer to a question
	AgainOf   string          // the take whose settings these are, "" for none
	// ClosedEarly: it was ended because nothing was heard of its collector. Its
	// pieces are kept, and it goes on if that comes back.
	ClosedEarly bool
	Digest      string // SHA-256 of the file that was kept, hexadecimal, "" for none
	Broken      string `gorm:"-"` // what of this row cannot be read, "" for nothing
	Fresh       bool   `gorm:"-"` // of what EndJob returns: it had not ended before
}

// The states of a job.
const (
	JobWaiting  = "waiting"
	JobRunning  = "running"
	JobStopping = "stopping" // its collector shall end it
	JobDone     = "done"
	JobFailed   = "failed"
)

// jobBlob is a piece of a growing take's file, by where it begins.
type jobBlob struct {
	JobID string `gorm:"primaryKey"`
	At    int64  `gorm:"primaryKey"`
	Data  []byte
}

// Errors about jobs.
var (
	ErrOffset  = errors.New("the pieces of a growing take must follow each other")
	ErrJobOver = errors.New("this job has ended")
)

// AddJob asks the collectors for something.
func (s JobRecords) AddJob(ctx context.Context, j *Job) error {
	j.ID, j.State, j.CreatedAt, j.Result = database.NewKey(), JobWaiting, time.Now().UTC(), json.RawMessage("null")
	if len(j.Task) == 0 {
		j.Task = json.RawMessage("null")
	}
	j.Task = database.WithoutZeros(j.Task)
	return s.Wrap("asking the collectors in", s.Quick.WithContext(ctx).Create(j).Error)
}

// Job returns a job.
func (s JobRecords) Job(ctx context.Context, id string) (*Job, error) {
	var j Job
	return &j, s.Wrap("looking for a job in", database.Missing("job", s.Quick.WithContext(ctx).First(&j, "id = ?", id).Error))
}

// Jobs returns takes that are being made, or the latest ones.
func (s JobRecords) Jobs(ctx context.Context, running bool, limit int) (out []Job, err error) {
	q := s.Quick.WithContext(ctx).Where("kind = 'take'").Order("created_at DESC").Limit(limit)
	if running {
		q = q.Where("state IN ?", []string{JobWaiting, JobRunning, JobStopping})
	}
	return out, s.Wrap("listing jobs in", q.Find(&out).Error)
}

// NextJob gives a collector a job that waits for it, nil where there is none. doing
// are the jobs that it knows of: one that it was given and of which nothing was
// heard was lost on the way, and is given again.
func (s JobRecords) NextJob(ctx context.Context, collector string, doing []string) (*Job, error) {
	var jobs []Job
	doing = append([]string{""}, doing...) // an empty list is no list in SQL
	now := time.Now().UTC()
	err := s.Quick.WithContext(ctx).Raw(`
UPDATE jobs SET state = ?, doer = ?, started_at = ?, heard_at = ? WHERE id = (
	SELECT id FROM jobs WHERE collector = ? AND (state = ? OR
		state = ? AND size = 0 AND heard_at <= started_at AND started_at NOT BETWEEN ? AND ? AND id NOT IN ?)
	ORDER BY created_at LIMIT 1 FOR UPDATE SKIP LOCKED)
RETURNING *`, JobRunning, collector, now, now, collector, JobWaiting, JobRunning, now.Add(-lostAfter), now.Add(lostAfter), doing).Scan(&jobs).Error
	if err != nil || len(jobs) == 0 {
		return nil, s.Wrap("looking for a job in", database.Missing("job", err))
	}
	// Scan does not read what is kept as JSON; the row is there now.
	return s.Job(ctx, jobs[0].ID)
}

// lostAfter is how long a collector has to say something of a job that it was
// given. One that was given later than now was given before the clock jumped.
const lostAfter = 5 * time.Second

// Progress is what a collector says of a take that it makes.
type Progress struct {
	ElapsedNS, Samples, Lost int64
}

// Grow adds what a take's file has gained, for the collector that makes it; to
// others there is no such job. at is where that begins; where it is not where the
// file ends, ErrOffset is returned with the job, whose Size tells. A take that was
// closed early goes on.
func (s JobRecords) Grow(ctx context.Context, id, collector string, at int64, data []byte, p Progress) (j *Job, err error) {
	j = &Job{}
	err = s.Quick.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).First(j, "id = ? AND doer = ?", id, collector).Error; err != nil {
			return err
		}
		over := j.State == JobDone || j.State == JobFailed
		if over && !j.ClosedEarly {
			return ErrJobOver
		}
		if over {
			j.State, j.EndedAt = JobRunning, nil
			if err := tx.Model(j).Select("state", "ended_at").Updates(j).Error; err != nil {
				return err
			}
		}
		if at != j.Size {
			return ErrOffset
		}
		now := time.Now().UTC()
		j.Size += int64(len(data))
		j.ElapsedNS, j.Samples, j.Lost, j.HeardAt = p.ElapsedNS, p.Samples, p.Lost, &now
		if len(data) > 0 {
			if err := tx.Create(&jobBlob{id, at, data}).Error; err != nil {
				return err
			}
		}
		return tx.Model(j).Select("size", "elapsed_ns", "samples", "lost", "heard_at").Updates(j).Error
	})
	if errors.Is(err, ErrOffset) || errors.Is(err, ErrJobOver) {
		return j, err
	}
	return j, s.Wrap("keeping a growing take in", database.Missing("job", err))
}

// GrownFile reads the file of a take as far as it has come, from a place on. Who does
// not read it to its end closes it.
func (s JobRecords) GrownFile(ctx context.Context, id string, from int64) io.ReadCloser {
	r, w := io.Pipe()
	go func() {
		// The piece that holds the place begins at it or before.
		var at int64
		err := s.Quick.WithContext(ctx).Model(&jobBlob{}).Where("job_id = ? AND at <= ?", id, from).Select("COALESCE(MAX(at), 0)").Scan(&at).Error
		if err != nil {
			w.CloseWithError(s.Wrap("reading a growing take in", err))
			return
		}
		for {
			var b []jobBlob
			err := s.Quick.WithContext(ctx).Where("job_id = ? AND at >= ?", id, at).Order("at").Limit(1).Find(&b).Error
			if err != nil || len(b) == 0 {
				w.CloseWithError(s.Wrap("reading a growing take in", err)) // nil is the end
				return
			}
			at = b[0].At + 1
			skip := min(max(0, from-b[0].At), int64(len(b[0].Data)))
			if _, err := w.Write(b[0].Data[skip:]); err != nil {
				return // nobody reads any more
			}
		}
	}()
	return r
}

// JobOfTake returns the job that made a take, which only this server's own
// record can tell: what a take says of itself anybody can write.
func (s JobRecords) JobOfTake(ctx context.Context, key string) (*Job, error) {
	var j Job
	err := s.Quick.WithContext(ctx).Where("take_key = ? AND kind = 'take'", key).Order("created_at").First(&j).Error
	return &j, s.Wrap("looking for a job in", database.Missing("job", err))
}

// StopJob asks for the end of a job; one that nobody has begun ends at once.
func (s JobRecords) StopJob(ctx context.Context, id string) (*Job, error) {
	err := s.Quick.WithContext(ctx).Exec(`
UPDATE jobs SET state = CASE state WHEN 'waiting' THEN 'failed' ELSE 'stopping' END,
	error = CASE state WHEN 'waiting' THEN 'it was stopped before it began' ELSE error END,
	ended_at = CASE state WHEN 'waiting' THEN now() ELSE ended_at END
WHERE id = ? AND state IN ('waiting', 'running')`, id).Error
	if err != nil {
		return nil, s.Wrap("stopping a job in", err)
	}
	return s.Job(ctx, id)
}

// Ended is how a job ended.
type Ended struct {
	TakeKey string // of the take that came of it, "" for none
	Digest  string // of that take's file
	Result  json.RawMessage
	Failed  string // why it failed, or why its take is not whole
	Remedy  string
	Row     json.RawMessage // how far the row of takes is that it belongs to; nil for none
	// Early: nothing was heard of its collector. Its pieces are kept.
	Early bool
}

// EndJob ends a job, and masks what looks like a secret in its settings. A job with a take has
// not failed. One that has ended stays
// as it is, so that a take is delivered once.
func (s JobRecords) EndJob(ctx context.Context, id string, e Ended) (*Job, error) {
	state := JobDone
	if e.Failed != "" && e.TakeKey == "" {
		state = JobFailed
	}
	if len(e.Result) == 0 {
		e.Result = json.RawMessage("null")
	}
	var row *string
	if e.Row != nil {
		text := string(database.WithoutZeros(e.Row))
		row = &text
	}
	fresh := false
	err := s.Quick.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		done := tx.Exec("UPDATE jobs SET state = ?, take_key = ?, digest = ?, result = ?, task = COALESCE(?::jsonb, task), error = ?, remedy = ?, closed_early = ?, ended_at = now() WHERE id = ? AND state NOT IN ('done', 'failed')",
			state, e.TakeKey, e.Digest, string(database.WithoutZeros(e.Result)), row, database.Plain(e.Failed), database.Plain(e.Remedy), e.Early, id)
		if done.Error != nil {
			return done.Error
		}
		fresh = done.RowsAffected > 0
		if err := withoutSecrets(tx, id); err != nil || e.Early {
			return err
		}
		return tx.Where("job_id = ?", id).Delete(&jobBlob{}).Error
	})
	if err != nil {
		return nil, s.Wrap("ending a job in", database.Missing("job", err))
	}
	j, err := s.Job(ctx, id)
	if err != nil {
		return nil, err
	}
	j.Fresh = fresh
	return j, nil
}

// withoutSecrets masks what looks like a secret in a job's settings: its collector has them.
func withoutSecrets(tx *gorm.DB, id string) error {
	var j Job
	if err := tx.First(&j, "id = ?", id).Error; err != nil {
		return err
	}
	before := j.Settings.Masked
	if workload.MaskSettings(&j.Settings); j.Settings.Masked == before {
		return nil
	}
	return tx.Model(&j).Select("settings").Updates(&j).Error
}

// Silent returns running jobs of which nothing was heard for a time: takes for
// one, questions for another.
func (s JobRecords) Silent(ctx context.Context, takes, questions time.Duration) (out []Job, err error) {
	now := time.Now().UTC()
	return out, s.Wrap("looking for jobs in", s.Quick.WithContext(ctx).
		Where("state IN ? AND (heard_at < CASE kind WHEN 'take' THEN ?::timestamptz ELSE ?::timestamptz END OR heard_at > ?)", []string{JobRunning, JobStopping}, now.Add(-takes), now.Add(-questions), now.Add(takes)).Find(&out).Error)
}

// RunningJobs counts takes that are being made, but for those whose collector
// has said nothing for a time.
func (s JobRecords) RunningJobs(ctx context.Context, silent time.Duration) (n int64, err error) {
	return n, s.Wrap("counting jobs in", s.Quick.WithContext(ctx).Model(&Job{}).
		Where("kind = 'take' AND state IN ? AND coalesce(heard_at, created_at) > ?", []string{JobWaiting, JobRunning, JobStopping}, time.Now().UTC().Add(-silent)).Count(&n).Error)
}

// String names a job in a log.
func (j *Job) String() string { return fmt.Sprintf("job %s (%s)", j.ID, j.Kind) }
