package store

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"entelon/codec/take"
	"entelon/core/calltree"
	"entelon/core/profile"
	"entelon/store/database"
	"entelon/store/nameless"
)

// arrivals are the records of how takes come in.
type arrivals struct{ *records }

// piece is the length of one row of a take's file.
const piece = 1 << 20

// Add reads a take from r, checks it and keeps it. name stands in errors, which
// are of type *take.Error where the file is at fault. A take that is there
// already is returned with fresh unset. limit is the most bytes that are taken.
func (s arrivals) Add(ctx context.Context, r io.Reader, name string, limit int64) (t *Take, fresh bool, err error) {
	return s.AddInstead(ctx, r, name, limit, "")
}

// AddInstead adds a take in the place of one with a key, of which only a part
// was there before: it gets its key and its notes. "" adds it beside the others.
func (s arrivals) AddInstead(ctx context.Context, r io.Reader, name string, limit int64, instead string) (*Take, bool, error) {
	a, err := s.add(ctx, r, name, limit, instead)
	if err != nil {
		return nil, false, err
	}
	if a.fresh && s.Opened != nil {
		s.Opened(a.row, a.take, a.tree)
	}
	return a.row, a.fresh, nil
}

// added is a take that was added, with what was made of it on the way.
type added struct {
	row   *Take
	fresh bool
	take  *profile.Take
	tree  *calltree.Tree
}

func (s arrivals) add(ctx context.Context, r io.Reader, name string, limit int64, instead string) (a added, err error) {
	f, err := nameless.File()
	if err != nil {
		return a, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(f, h), io.LimitReader(r, limit+1))
	if err != nil {
		return a, fmt.Errorf("receiving %s after %d bytes: %w", name, n, err)
	}
	if n > limit {
		return a, fmt.Errorf("%s: %w (%d MB)", name, database.ErrTooLarge, limit>>20)
	}
	unpacked, err := take.Unpacked(f)
	if err != nil {
		return a, fmt.Errorf("keeping the upload: %w", err)
	}
	// Few are read at a time, so that who looks at takes finds a processor.
	select {
	case s.reading <- struct{}{}:
		defer func() { <-s.reading }()
	case <-ctx.Done():
		return a, ctx.Err()
	}
	if s.Room != nil {
		// What cannot fit is told so by the reader.
		back, err := s.Room(ctx, min(take.Memory(unpacked), s.Limits.Memory))
		if err != nil {
			return a, err
		}
		defer back()
	}
	read, err := take.Read(bufio.NewReaderSize(whileWanted{ctx, f}, 1<<20), name, take.Options{Limits: s.Limits})
	if err != nil {
		return a, err
	}
	if err := read.CheckBounds(); err != nil {
		return a, &take.Error{Reason: take.Damaged, Name: name, What: "the take says what cannot be", Cause: err}
	}
	a.take, a.tree = read, calltree.New(read.Profile)
	a.row, a.fresh, err = s.keep(ctx, a, f, hex.EncodeToString(h.Sum(nil)), n, instead)
	return a, err
}

// whileWanted reads until nobody waits any more.
type whileWanted struct {
	ctx context.Context
	r   io.Reader
}

func (w whileWanted) Read(b []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	return w.r.Read(b)
}

// inBulk does something in one transaction on a connection of those for large
// work, so that questions find one of their own. Where it meets another one's
// changes, it is done again.
func (s *records) inBulk(ctx context.Context, do func(tx *gorm.DB) error) error {
	for tries := 1; ; tries++ {
		err := s.Bulk.WithContext(ctx).Transaction(do)
		var e *pgconn.PgError
		if errors.As(err, &e) && (e.Code == "40P01" || e.Code == "40001") && tries < 5 { // deadlock, serialization
			continue
		}
		return err
	}
}

// keep writes everything about a take in one transaction.
func (s arrivals) keep(ctx context.Context, a added, f io.ReadSeeker, digest string, size int64, instead string) (*Take, bool, error) {
	t, tr := a.take, a.tree
	row, err := rowOf(t, digest, size)
	if err != nil {
		return nil, false, err
	}
	cost := allFigures(tr)
	row.Memory, row.Figured = memoryOf(t.Profile, tr), true
	fresh := true
	err = s.inBulk(ctx, func(tx *gorm.DB) error {
		fresh = true
		var there Take
		found := tx.Where("digest = ?", digest).Limit(1).Find(&there)
		if found.Error != nil {
			return found.Error
		}
		if found.RowsAffected > 0 {
			fresh, row.ID = false, there.ID
			return nil
		}
		if err := fileUnder(tx, row, t); err != nil {
			return err
		}
		if err := fileWorkload(tx, row, &row.Settings, &row.Facts); err != nil {
			return err
		}
		part, err := stepAside(tx, row, instead)
		if err != nil {
			return err
		}
		if err := tx.Omit(clause.Associations).Create(row).Error; err != nil {
			return err
		}
		if part != 0 {
			if err := tx.Exec("UPDATE notes SET take_id = ? WHERE take_id = ?", row.ID, part).Error; err != nil {
				return err
			}
			if err := tx.Delete(&Take{ID: part}).Error; err != nil {
				return err
			}
		}
		if err := keepFile(tx, row.ID, f); err != nil {
			return err
		}
		for i := range cost {
			if err := cost[i].keep(ctx, tx, row); err != nil {
				return err
			}
		}
		return nil
	})
	if errors.Is(err, gorm.ErrDuplicatedKey) { // the same file came twice at once
		var there Take
		if err := s.Quick.WithContext(ctx).Where("digest = ?", digest).First(&there).Error; err != nil {
			return nil, false, s.Wrap("reading from", err)
		}
		fresh, row.ID = false, there.ID
	} else if err != nil {
		return nil, false, s.Wrap("keeping the take in", err)
	}
	kept, err := takeRecords(s).takeByID(ctx, row.ID)
	return kept, fresh, err
}

// stepAside gives the key of an earlier part of a take to the row of the whole.
// It returns that part's number, 0 where there is none.
func stepAside(tx *gorm.DB, row *Take, instead string) (part int64, err error) {
	if instead == "" {
		return 0, nil
	}
	var there Take
	found := tx.Where("key = ?", instead).Limit(1).Find(&there)
	if found.Error != nil || found.RowsAffected == 0 {
		return 0, found.Error
	}
	row.Key = instead
	return there.ID, tx.Model(&Take{ID: there.ID}).Update("key", database.NewKey()).Error
}

func rowOf(t *profile.Take, digest string, size int64) (*Take, error) {
	f := t.Facts
	row := &Take{
		Key: database.NewKey(), Digest: digest, Size: size, StartedAt: t.Machine.StartedAt, AddedAt: time.Now().UTC(),
		DurationNS: f.DurationNS, CPUNS: f.CPUNS, Samples: int64(t.Profile.Samples.Len()), Lost: f.Lost,
		RateHz: t.Settings.RateHz, CompleteShare: f.CompleteShare(), Warnings: len(f.Warnings), Note: database.Plain(t.Settings.Note),
	}
	row.Outline = &profile.Outline{}
	err := errors.Join(scrub(t.Settings, &row.Settings), scrub(t.Machine, &row.Machine), scrub(f, &row.Facts), scrub(t.Profile.Outline(), row.Outline))
	if err != nil {
		return nil, fmt.Errorf("keeping the take: %w", err)
	}
	return row, nil
}

// KeepOutline keeps the outline of a take that has none yet.
func (s arrivals) KeepOutline(ctx context.Context, t *Take, o profile.Outline) error {
	t.Outline = &profile.Outline{}
	if err := scrub(o, t.Outline); err != nil {
		return fmt.Errorf("keeping the outline of take %s: %w", t.Key, err)
	}
	err := s.Quick.WithContext(ctx).Model(&Take{ID: t.ID}).Select("Outline").Updates(&Take{Outline: t.Outline}).Error
	return s.Wrap("keeping an outline in", err)
}

// scrub copies a record without the zero characters, which PostgreSQL keeps
// in no text and in no JSON.
func scrub[T any](from T, to *T) error {
	b, err := json.Marshal(from)
	if err != nil {
		return err
	}
	return json.Unmarshal(database.WithoutZeros(b), to)
}

// fileUnder finds or makes the take's program and build.
func fileUnder(tx *gorm.DB, row *Take, t *profile.Take) error {
	name := func(s, otherwise string) string {
		if s = strings.TrimSpace(database.Plain(s)); s == "" {
			return otherwise
		}
		return s
	}
	p := Program{Name: name(t.Settings.Program, "unnamed")}
	once := clause.OnConflict{DoNothing: true}
	if err := tx.Clauses(once).Create(&p).Error; err != nil {
		return err
	}
	if err := tx.Where("name = ?", p.Name).First(&p).Error; err != nil {
		return err
	}
	b := Build{ProgramID: p.ID, Name: name(t.Settings.Build, "unnamed"), Identity: database.Plain(t.Facts.BuildID), Revision: database.Plain(t.Facts.Revision)}
	if b.Identity != "" && strings.HasPrefix(b.Identity, b.Name) {
		// Nobody gave the build a name; it may have got one with another take.
		var named Build
		found := tx.Where("program_id = ? AND identity = ?", p.ID, b.Identity).Order("id").Limit(1).Find(&named)
		if found.Error != nil {
			return found.Error
		}
		if found.RowsAffected > 0 {
			row.ProgramID, row.BuildID = p.ID, named.ID
			return nil
		}
	}
	if err := tx.Clauses(once).Create(&b).Error; err != nil {
		return err
	}
	if err := tx.Where("program_id = ? AND name = ?", p.ID, b.Name).First(&b).Error; err != nil {
		return err
	}
	row.ProgramID, row.BuildID = p.ID, b.ID
	return nil
}

func keepFile(tx *gorm.DB, id int64, f io.ReadSeeker) error {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	buf := make([]byte, piece)
	for seq := 0; ; seq++ {
		n, err := io.ReadFull(f, buf)
		if n > 0 {
			if err := tx.Create(&TakeBlob{TakeID: id, Seq: seq, Data: buf[:n]}).Error; err != nil {
				return err
			}
		}
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			return nil
		} else if err != nil {
			return err
		}
	}
}
