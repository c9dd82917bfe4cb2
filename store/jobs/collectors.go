package jobs

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"entelon/people"
	"entelon/store/database"
)

// CollectorRecords are the records of collectors, their keys and sessions.
type CollectorRecords struct{ *database.DB }

// Collector is a process that collects for this server, on some machine. It is
// known by a name and the public half of a key pair that was made there.
type Collector struct {
	Name       string `gorm:"primaryKey"`
	PublicKey  string // "" for one that was here before collectors had keys
	EnrolledAt *time.Time
	EnrolledBy string
	RenewedAt  *time.Time // when its key was last replaced
	SeenAt     time.Time
	Report     json.RawMessage `gorm:"type:jsonb"` // what its machine allows
}

// collectorLink enrols a collector once. Only the secret's digest is kept.
type collectorLink struct {
	Digest    string `gorm:"primaryKey"`
	Collector string
	MadeBy    string
	ExpiresAt time.Time
}

// collectorSession is a collector that has proved its key. Only the secret's
// digest is kept.
type collectorSession struct {
	Digest    string `gorm:"primaryKey"`
	Collector string
	ExpiresAt time.Time
}

// collectorSessionLasts is how long a collector's session is good; it begins
// another one by itself.
const collectorSessionLasts = time.Hour

// ErrCollectorKnown means that a collector of this name has a key already.
var ErrCollectorKnown = errors.New("a collector of this name is already enrolled")

// AddCollectorLink makes a link by which one collector can enrol, once, under
// a name.
func (s CollectorRecords) AddCollectorLink(ctx context.Context, name, by string, valid time.Duration) (secret string, err error) {
	var known int64
	if err := s.Quick.WithContext(ctx).Model(&Collector{}).Where("name = ? AND public_key <> ''", name).Count(&known).Error; err != nil {
		return "", s.Wrap("looking for a collector in", database.Missing("collector", err))
	}
	if known > 0 {
		return "", ErrCollectorKnown
	}
	if secret, err = people.Secret(); err != nil {
		return "", err
	}
	err = s.Quick.WithContext(ctx).Create(&collectorLink{people.Digest(secret), name, by, time.Now().UTC().Add(valid)}).Error
	return secret, s.Wrap("keeping a link in", err)
}

// EnrolByLink enrols a collector with a public key by a link, and makes the link
// useless. It returns the collector's name.
func (s CollectorRecords) EnrolByLink(ctx context.Context, secret, key string) (name string, err error) {
	err = s.Quick.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var links []collectorLink
		found := tx.Clauses(clause.Returning{}).Where("digest = ? AND expires_at > ?", people.Digest(secret), time.Now().UTC()).Delete(&links)
		if found.Error != nil {
			return found.Error
		}
		if len(links) == 0 {
			return gorm.ErrRecordNotFound
		}
		name = links[0].Collector
		return enrol(tx, name, key, links[0].MadeBy)
	})
	if errors.Is(err, ErrCollectorKnown) {
		return "", err
	}
	return name, s.Wrap("enrolling a collector in", database.Missing("link", err))
}

// EnrolCollector enrols a collector without a link, for a server that starts
// one beside it. A name that has this very key already changes nothing.
func (s CollectorRecords) EnrolCollector(ctx context.Context, name, key, by string) error {
	err := s.Quick.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return enrol(tx, name, key, by) })
	if errors.Is(err, ErrCollectorKnown) {
		return err
	}
	return s.Wrap("enrolling a collector in", database.Missing("link", err))
}

func enrol(tx *gorm.DB, name, key, by string) error {
	now := time.Now().UTC()
	done := tx.Exec(`
INSERT INTO collectors (name, public_key, enrolled_at, enrolled_by, seen_at, report) VALUES (@name, @key, @now, @by, 'epoch', 'null')
ON CONFLICT (name) DO UPDATE SET public_key = @key, enrolled_at = @now, enrolled_by = @by
WHERE collectors.public_key IN ('', @key)`, map[string]any{"name": name, "key": key, "now": now, "by": by})
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrCollectorKnown
	}
	return done.Error
}

// CollectorNamed returns a collector.
func (s CollectorRecords) CollectorNamed(ctx context.Context, name string) (*Collector, error) {
	var c Collector
	return &c, s.Wrap("looking for a collector in", database.Missing("collector", s.Quick.WithContext(ctx).Where("name = ?", name).First(&c).Error))
}

// BeginCollectorSession begins a session for a collector that has proved its key.
func (s CollectorRecords) BeginCollectorSession(ctx context.Context, name string) (secret string, ends time.Time, err error) {
	if secret, err = people.Secret(); err != nil {
		return "", ends, err
	}
	now := time.Now().UTC()
	ends = now.Add(collectorSessionLasts)
	db := s.Quick.WithContext(ctx)
	if err := db.Where("expires_at < ?", now).Delete(&collectorSession{}).Error; err != nil {
		return "", ends, s.Wrap("ending old sessions in", err)
	}
	return secret, ends, s.Wrap("beginning a session in", db.Create(&collectorSession{people.Digest(secret), name, ends}).Error)
}

// CollectorOf returns the name of the collector whose session it is.
func (s CollectorRecords) CollectorOf(ctx context.Context, secret string) (string, error) {
	var x collectorSession
	err := s.Quick.WithContext(ctx).Where("digest = ? AND expires_at > ?", people.Digest(secret), time.Now().UTC()).First(&x).Error
	return x.Collector, s.Wrap("finding a session in", database.Missing("session", err))
}

// RenewCollector replaces a collector's key, if the old one is still the one
// that signed.
func (s CollectorRecords) RenewCollector(ctx context.Context, name, old, key string) error {
	done := s.Quick.WithContext(ctx).Model(&Collector{}).Where("name = ? AND public_key = ?", name, old).
		Updates(map[string]any{"public_key": key, "renewed_at": time.Now().UTC()})
	if done.Error == nil && done.RowsAffected == 0 {
		return database.NotFound{What: "collector"}
	}
	return s.Wrap("keeping a key in", done.Error)
}

// RemoveCollector makes a collector's key and sessions useless and fails the
// jobs that wait for it. It returns its takes that are being made, to be ended
// with what has come of them.
func (s CollectorRecords) RemoveCollector(ctx context.Context, name string) (open []Job, err error) {
	err = s.Quick.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		gone := tx.Where("name = ?", name).Delete(&Collector{})
		if gone.Error != nil {
			return gone.Error
		}
		if gone.RowsAffected == 0 {
			return gorm.ErrRecordNotFound
		}
		if err := tx.Where("collector = ?", name).Delete(&collectorLink{}).Error; err != nil {
			return err
		}
		if err := tx.Exec("UPDATE jobs SET state = ?, error = 'its collector was removed', ended_at = now() WHERE collector = ? AND state = ?", JobFailed, name, JobWaiting).Error; err != nil {
			return err
		}
		return tx.Where("doer = ? AND state IN ?", name, []string{JobRunning, JobStopping}).Find(&open).Error
	})
	return open, s.Wrap("removing a collector from", database.Missing("collector", err))
}

// SeeCollector notes that a collector is there, with what its machine allows.
func (s CollectorRecords) SeeCollector(ctx context.Context, name string, report json.RawMessage) error {
	if len(report) == 0 {
		report = json.RawMessage("null")
	}
	done := s.Quick.WithContext(ctx).Model(&Collector{}).Where("name = ?", name).
		Updates(map[string]any{"seen_at": time.Now().UTC(), "report": database.WithoutZeros(report)})
	if done.Error == nil && done.RowsAffected == 0 {
		return database.NotFound{What: "collector"}
	}
	return s.Wrap("noting a collector in", done.Error)
}

// Collectors lists all collectors, by name.
func (s CollectorRecords) Collectors(ctx context.Context) (out []Collector, err error) {
	return out, s.Wrap("listing collectors in", s.Quick.WithContext(ctx).Order("name").Find(&out).Error)
}

// Secret returns a secret of the servers of this database by its name, made
// when it is first asked for.
func (s CollectorRecords) Secret(ctx context.Context, name string) ([]byte, error) {
	b := make([]byte, 32)
	if _, err := rand.Read(b); err != nil {
		return nil, fmt.Errorf("making a secret: %w", err)
	}
	db := s.Quick.WithContext(ctx)
	if err := db.Exec("INSERT INTO secrets (name, value) VALUES (?, ?) ON CONFLICT DO NOTHING", name, base64.StdEncoding.EncodeToString(b)).Error; err != nil {
		return nil, s.Wrap("keeping a secret in", err)
	}
	var text string
	if err := db.Raw("SELECT value FROM secrets WHERE name = ?", name).Scan(&text).Error; err != nil {
		return nil, s.Wrap("reading a secret from", err)
	}
	return base64.StdEncoding.DecodeString(text)
}
