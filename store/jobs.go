package store

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
)

// Job is work for a collector: a take, or a question about its machine.
type Job struct {
	ID        string `gorm:"primaryKey"`
	Kind      string // "take", "processes" or "count"
	Collector string // who shall do it; "" is any
	Doer      string // who does
	State     string
	Settings  profile.Settings `gorm:"serializer:json"`
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
	Task      json.RawMessage `gorm:"type:jsonb"` // what a question is about
	Result    json.RawMessage `gorm:"type:jsonb"` // the answer to a question
	Fresh     bool            `gorm:"-"`          // of what EndJob returns: it had not ended before
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

// Collector is a process that collects for this server, on some machine.
type Collector struct {
	Name   string `gorm:"primaryKey"`
	SeenAt time.Time
	Report json.RawMessage `gorm:"type:jsonb"` // what its machine allows
}

// Errors about jobs.
var (
	ErrOffset  = errors.New("the pieces of a growing take must follow each other")
	ErrJobOver = errors.New("this job has ended")
)

// AddJob asks the collectors for something.
func (s *Store) AddJob(ctx context.Context, j *Job) error {
	j.ID, j.State, j.CreatedAt, j.Result = newKey(), JobWaiting, time.Now().UTC(), json.RawMessage("null")
	if len(j.Task) == 0 {
		j.Task = json.RawMessage("null")
	}
	j.Task = withoutZeros(j.Task)
	return s.wrap("asking the collectors in", s.db.WithContext(ctx).Create(j).Error)
}

// Job returns a job.
func (s *Store) Job(ctx context.Context, id string) (*Job, error) {
	var j Job
	return &j, s.wrap("looking for a job in", s.db.WithContext(ctx).First(&j, "id = ?", id).Error)
}

// Jobs returns takes that are being made, or the latest ones.
func (s *Store) Jobs(ctx context.Context, running bool, limit int) (out []Job, err error) {
	q := s.db.WithContext(ctx).Where("kind = 'take'").Order("created_at DESC").Limit(limit)
	if running {
		q = q.Where("state IN ?", []string{JobWaiting, JobRunning, JobStopping})
	}
	return out, s.wrap("listing jobs in", q.Find(&out).Error)
}

// NextJob gives a collector a job that waits for it, nil where there is none.
func (s *Store) NextJob(ctx context.Context, collector string) (*Job, error) {
	var jobs []Job
	now := time.Now().UTC()
	err := s.db.WithContext(ctx).Raw(`
UPDATE jobs SET state = ?, doer = ?, started_at = ?, heard_at = ? WHERE id = (
	SELECT id FROM jobs WHERE state = ? AND (collector = '' OR collector = ?)
	ORDER BY created_at LIMIT 1 FOR UPDATE SKIP LOCKED)
RETURNING *`, JobRunning, collector, now, now, JobWaiting, collector).Scan(&jobs).Error
	if err != nil || len(jobs) == 0 {
		return nil, s.wrap("looking for a job in", err)
	}
	// Scan does not read what is kept as JSON; the row is there now.
	return s.Job(ctx, jobs[0].ID)
}

// Progress is what a collector says of a take that it makes.
type Progress struct {
	ElapsedNS, Samples, Lost int64
}

// Grow adds what a take's file has gained. at is where that begins; where it is
// not where the file ends, ErrOffset is returned with the job, whose Size tells.
func (s *Store) Grow(ctx context.Context, id string, at int64, data []byte, p Progress) (j *Job, err error) {
	j = &Job{}
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).First(j, "id = ?", id).Error; err != nil {
			return err
		}
		if j.State == JobDone || j.State == JobFailed {
			return ErrJobOver
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
	return j, s.wrap("keeping a growing take in", err)
}

// GrownFile reads the file of a take as far as it has come.
func (s *Store) GrownFile(ctx context.Context, id string) io.Reader {
	r, w := io.Pipe()
	go func() {
		at := int64(0)
		for {
			var b []jobBlob
			err := s.db.WithContext(ctx).Where("job_id = ? AND at >= ?", id, at).Order("at").Limit(1).Find(&b).Error
			if err != nil || len(b) == 0 {
				w.CloseWithError(s.wrap("reading a growing take in", err)) // nil is the end
				return
			}
			at = b[0].At + 1
			if _, err := w.Write(b[0].Data); err != nil {
				return // nobody reads any more
			}
		}
	}()
	return r
}

// StopJob asks for the end of a job; one that nobody has begun ends at once.
func (s *Store) StopJob(ctx context.Context, id string) (*Job, error) {
	err := s.db.WithContext(ctx).Exec(`
UPDATE jobs SET state = CASE state WHEN 'waiting' THEN 'failed' ELSE 'stopping' END,
	error = CASE state WHEN 'waiting' THEN 'it was stopped before it began' ELSE error END,
	ended_at = CASE state WHEN 'waiting' THEN now() ELSE ended_at END
WHERE id = ? AND state IN ('waiting', 'running')`, id).Error
	if err != nil {
		return nil, s.wrap("stopping a job in", err)
	}
	return s.Job(ctx, id)
}

// EndJob ends a job, with the take that it made, an answer, or an error. A job
// with a take has not failed; the error then says why the take is not whole. A job
// that has ended stays as it is, so that a take is delivered once.
func (s *Store) EndJob(ctx context.Context, id, takeKey string, result json.RawMessage, failed, remedy string) (*Job, error) {
	state := JobDone
	if failed != "" && takeKey == "" {
		state = JobFailed
	}
	if len(result) == 0 {
		result = json.RawMessage("null")
	}
	fresh := false
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		done := tx.Exec("UPDATE jobs SET state = ?, take_key = ?, result = ?, error = ?, remedy = ?, ended_at = now() WHERE id = ? AND state NOT IN ('done', 'failed')",
			state, takeKey, string(withoutZeros(result)), plain(failed), plain(remedy), id)
		if done.Error != nil {
			return done.Error
		}
		fresh = done.RowsAffected > 0
		return tx.Where("job_id = ?", id).Delete(&jobBlob{}).Error
	})
	if err != nil {
		return nil, s.wrap("ending a job in", err)
	}
	j, err := s.Job(ctx, id)
	j.Fresh = fresh
	return j, err
}

// Silent returns running takes whose collector has said nothing for a time.
func (s *Store) Silent(ctx context.Context, since time.Duration) (out []Job, err error) {
	return out, s.wrap("looking for jobs in", s.db.WithContext(ctx).
		Where("state IN ? AND heard_at < ?", []string{JobRunning, JobStopping}, time.Now().UTC().Add(-since)).Find(&out).Error)
}

// Used is how many bytes the files of all takes have, those that are being made
// included. What PostgreSQL needs beyond that does not shrink at once when a
// take is removed, and is not counted.
func (s *Store) Used(ctx context.Context) (n int64, err error) {
	return n, s.wrap("asking for the size of", s.db.WithContext(ctx).Raw(`
SELECT coalesce((SELECT sum(size) FROM takes), 0) + coalesce((SELECT sum(size) FROM jobs WHERE state IN ('running', 'stopping')), 0)`).Scan(&n).Error)
}

// SeeCollector notes that a collector is there.
func (s *Store) SeeCollector(ctx context.Context, name string, report json.RawMessage) error {
	if len(report) == 0 {
		report = json.RawMessage("null")
	}
	c := &Collector{Name: name, SeenAt: time.Now().UTC(), Report: withoutZeros(report)}
	return s.wrap("noting a collector in", s.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(c).Error)
}

// Collectors lists all collectors that were ever there, by name.
func (s *Store) Collectors(ctx context.Context) (out []Collector, err error) {
	return out, s.wrap("listing collectors in", s.db.WithContext(ctx).Order("name").Find(&out).Error)
}

// RunningJobs counts takes that are being made.
func (s *Store) RunningJobs(ctx context.Context) (n int64, err error) {
	return n, s.wrap("counting jobs in", s.db.WithContext(ctx).Model(&Job{}).Where("kind = 'take' AND state IN ?", []string{JobWaiting, JobRunning, JobStopping}).Count(&n).Error)
}

// String names a job in a log.
func (j *Job) String() string { return fmt.Sprintf("job %s (%s)", j.ID, j.Kind) }
