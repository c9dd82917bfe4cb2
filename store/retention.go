package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"

	"entelon/store/database"
)

// Retention says what is removed by itself; a zero keeps everything. Takes that
// are pinned, or have a note, are kept whatever it says.
type Retention struct {
	Takes    time.Duration // takes that are older
	PerBuild int           // of each build so many, the newest
	Size     int64         // the oldest, until all takes' files have so many bytes together
	Jobs     time.Duration // jobs that ended longer ago
	Audit    time.Duration // lines of the audit list that are older
}

// Tidied is what was removed.
type Tidied struct {
	Takes, Jobs, Lines int64
	Keys               []string // of the takes
}

// tidyLock keeps two servers from tidying one database at once.
const tidyLock = 7420_0002

// loose are the takes that nobody said to keep.
const loose = `NOT t.pinned AND t.note = '' AND NOT EXISTS (SELECT 1 FROM notes n WHERE n.take_id = t.id)`

// Tidy removes what is not to be kept any longer. ok is false where another
// server is at it.
func (s takeRecords) Tidy(ctx context.Context, r Retention) (out Tidied, ok bool, err error) {
	now := time.Now().UTC()
	err = s.Bulk.WithContext(ctx).Connection(func(one *gorm.DB) (err error) {
		if err := one.Raw("SELECT pg_try_advisory_lock(?)", tidyLock).Scan(&ok).Error; err != nil || !ok {
			return err
		}
		defer func() { err = errors.Join(err, one.Exec("SELECT pg_advisory_unlock(?)", tidyLock).Error) }()
		var keys []string
		choose := func(sql string, args ...any) error {
			var some []string
			err := one.Raw(sql, args...).Scan(&some).Error
			keys = append(keys, some...)
			return err
		}
		if r.Takes > 0 {
			err = errors.Join(err, choose("SELECT t.key FROM takes t WHERE t.started_at < ? AND t.added_at < ? AND "+loose, now.Add(-r.Takes), now.Add(-r.Takes)))
		}
		if r.PerBuild > 0 {
			err = errors.Join(err, choose(`
SELECT key FROM (SELECT t.key, row_number() OVER (PARTITION BY t.build_id ORDER BY t.started_at DESC, t.id DESC) AS nth FROM takes t WHERE `+loose+`) x WHERE nth > ?`, r.PerBuild))
		}
		if r.Size > 0 {
			err = errors.Join(err, choose(`
SELECT key FROM (
	SELECT t.key, sum(t.size) OVER (ORDER BY t.started_at DESC, t.id DESC) + (SELECT coalesce(sum(k.size), 0) FROM takes k WHERE NOT EXISTS (SELECT 1 FROM takes t WHERE t.id = k.id AND `+loose+`)) AS whole
	FROM takes t WHERE `+loose+`) x WHERE whole > ?`, r.Size))
		}
		if err != nil {
			return err
		}
		for _, key := range keys {
			switch err := s.Remove(ctx, key); {
			case errors.Is(err, database.ErrNotFound): // chosen for two reasons
			case err != nil:
				return err
			default:
				out.Takes++
				out.Keys = append(out.Keys, key)
			}
		}
		if r.Jobs > 0 {
			gone := one.Exec("DELETE FROM jobs WHERE state IN ('done', 'failed') AND ended_at < ?", now.Add(-r.Jobs))
			if out.Jobs = gone.RowsAffected; gone.Error != nil {
				return gone.Error
			}
		}
		if r.Audit > 0 {
			gone := one.Exec("DELETE FROM audit WHERE at < ?", now.Add(-r.Audit))
			if out.Lines = gone.RowsAffected; gone.Error != nil {
				return gone.Error
			}
		}
		// A question's answer is of no use once it was asked for; nor are pieces of a
		// take that was closed and whose collector has not come back for long.
		return one.Exec(`
DELETE FROM jobs WHERE kind <> 'take' AND created_at < now() - interval '1 day';
DELETE FROM job_blobs WHERE job_id IN (SELECT id FROM jobs WHERE closed_early AND state IN ('done', 'failed') AND ended_at < now() - interval '30 days')`).Error
	})
	if err != nil {
		return out, ok, s.Wrap("tidying up", err)
	}
	if ok && out.Takes > 0 {
		err = sizeRecords(s).Reclaim(ctx)
	}
	return out, ok, err
}

// SetPinned says whether a take stays when old ones are removed.
func (s takeRecords) SetPinned(ctx context.Context, key string, pinned bool) error {
	r := s.Quick.WithContext(ctx).Model(&Take{}).Where("key = ?", key).Update("pinned", pinned)
	if r.Error == nil && r.RowsAffected == 0 {
		return database.NotFound{What: "take"}
	}
	return s.Wrap("writing to", r.Error)
}
