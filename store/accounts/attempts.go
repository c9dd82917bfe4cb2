package accounts

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"entelon/people"
	"entelon/store/database"
)

// AttemptRecords are the records of who tried to sign in, and from where.
type AttemptRecords struct{ *database.DB }

// Attempts of signing in are limited by key: of the name, of the address, of a
// browser that signed in before. After some that failed, each one more costs a
// wait that doubles, up to a bound, so that guessing is slow and nobody is locked
// out for long. An attempt is counted before it is checked: however many come at
// once, no more are checked than may be.

// Limit is how one key is slowed down.
type Limit struct {
	Key  string
	Free int // attempts that cost no wait
}

const (
	firstWait   = 2 * time.Second
	longestWait = time.Minute
)

// errWait rolls back what was counted under other keys.
var errWait = errors.New("too many attempts")

// Try counts an attempt under all limits, or under none of them where one says
// to wait; wait is then for how long.
func (s AttemptRecords) Try(ctx context.Context, limits ...Limit) (wait time.Duration, err error) {
	// In one order, so that attempts at the same time do not wait for each other.
	limits = slices.Clone(limits)
	slices.SortFunc(limits, func(a, b Limit) int { return strings.Compare(a.Key, b.Key) })
	err = s.Quick.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, l := range limits {
			var left []float64
			counted := tx.Raw(`
INSERT INTO attempts (key, failures, until, at) VALUES (@key, 1, now(), now())
ON CONFLICT (key) DO UPDATE SET
	failures = CASE WHEN attempts.at < now() - interval '1 day' THEN 1 ELSE attempts.failures + 1 END,
	until = now() + CASE WHEN attempts.failures + 1 < @free OR attempts.at < now() - interval '1 day' THEN interval '0'
		ELSE least(@longest, @first * power(2, least(30, attempts.failures + 1 - @free))) * interval '1 second' END,
	at = now()
WHERE attempts.until <= now() RETURNING 0::float8`,
				map[string]any{"key": l.Key, "free": l.Free, "first": firstWait.Seconds(), "longest": longestWait.Seconds()}).Scan(&left)
			if counted.Error != nil {
				return counted.Error
			}
			if counted.RowsAffected > 0 {
				continue
			}
			var seconds float64
			if err := tx.Raw("SELECT coalesce(extract(epoch FROM max(until) - now()), 0)::float8 FROM attempts WHERE key = ?", l.Key).Scan(&seconds).Error; err != nil {
				return err
			}
			wait = max(time.Second, time.Duration(seconds*float64(time.Second)))
			return errWait
		}
		return nil
	})
	if errors.Is(err, errWait) {
		return wait, nil
	}
	return 0, s.Wrap("counting an attempt in", err)
}

// Succeeded forgets the attempts of some keys, and those of long ago.
func (s AttemptRecords) Succeeded(ctx context.Context, keys ...string) error {
	return s.Wrap("forgetting attempts in", s.Quick.WithContext(ctx).Exec("DELETE FROM attempts WHERE key IN ? OR at < now() - interval '7 days'", keys).Error)
}

// TakeBack uncounts an attempt that went well, under a key that others share.
func (s AttemptRecords) TakeBack(ctx context.Context, key string) error {
	return s.Wrap("uncounting an attempt in", s.Quick.WithContext(ctx).Exec("UPDATE attempts SET failures = greatest(0, failures - 1), until = now() WHERE key = ?", key).Error)
}

// device is a browser in which somebody has signed in before. Only the secret's
// digest is kept.
type device struct {
	Digest   string `gorm:"primaryKey"`
	PersonID int64
	SeenAt   time.Time
}

// deviceLasts is for how long a browser is known after its last sign-in.
const deviceLasts = 180 * 24 * time.Hour

// KnownDevice reports whether somebody signed in from a browser with this secret
// before.
func (s AttemptRecords) KnownDevice(ctx context.Context, person int64, secret string) (bool, error) {
	var n int64
	err := s.Quick.WithContext(ctx).Model(&device{}).Where("digest = ? AND person_id = ? AND seen_at > ?", people.Digest(secret), person, time.Now().UTC().Add(-deviceLasts)).Count(&n).Error
	return n > 0, s.Wrap("looking for a browser in", err)
}

// RememberDevice makes a browser known for somebody, and returns its secret.
func (s AttemptRecords) RememberDevice(ctx context.Context, person int64, known string) (secret string, lasts time.Duration, err error) {
	now := time.Now().UTC()
	db := s.Quick.WithContext(ctx)
	if known != "" {
		seen := db.Model(&device{}).Where("digest = ? AND person_id = ?", people.Digest(known), person).Update("seen_at", now)
		if seen.Error != nil || seen.RowsAffected > 0 {
			return known, deviceLasts, s.Wrap("keeping a browser in", seen.Error)
		}
	}
	if secret, err = people.Secret(); err != nil {
		return "", 0, err
	}
	if err := db.Where("seen_at < ?", now.Add(-deviceLasts)).Delete(&device{}).Error; err != nil {
		return "", 0, s.Wrap("forgetting browsers in", err)
	}
	return secret, deviceLasts, s.Wrap("keeping a browser in", db.Create(&device{people.Digest(secret), person, now}).Error)
}

// RemoveTokens makes all of a person's tokens useless.
func (s AttemptRecords) RemoveTokens(ctx context.Context, person int64) error {
	return s.Wrap("removing tokens from", s.Quick.WithContext(ctx).Where("person_id = ?", person).Delete(&Token{}).Error)
}
