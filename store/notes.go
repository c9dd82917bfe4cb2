package store

import (
	"context"
	"time"

	"gorm.io/gorm/clause"

	"entelon/store/database"
)

// noteRecords are the records of what people write, and what they pin.
type noteRecords struct{ *records }

// Remark is what somebody wrote on a take, or on a function of a program, which
// then stands with it in all takes.
type Remark struct {
	ID        int64 `gorm:"primaryKey"`
	ProgramID int64
	TakeID    *int64 // nil: of the function in all takes
	Function  string // full name, "" for the take itself
	Text      string // Markdown
	Who       string
	CreatedAt time.Time
	UpdatedAt time.Time
	SettledAt *time.Time // nil: there is something to do about it still
}

// TableName is that of the notes.
func (Remark) TableName() string { return "notes" }

// Notes returns the notes on a take and on the functions of its program, the
// oldest first.
func (s noteRecords) Notes(ctx context.Context, t *Take) (out []Remark, err error) {
	return out, s.Wrap("reading notes from", s.Quick.WithContext(ctx).
		Where("take_id = ? OR take_id IS NULL AND program_id = ?", t.ID, t.ProgramID).Order("id").Find(&out).Error)
}

// AddNote keeps a note on a take, or where a function is named on that.
func (s noteRecords) AddNote(ctx context.Context, t *Take, function, text, who string) (*Remark, error) {
	now := time.Now().UTC()
	n := &Remark{ProgramID: t.ProgramID, Function: database.Plain(function), Text: database.Plain(text), Who: who, CreatedAt: now, UpdatedAt: now}
	if function == "" {
		n.TakeID = &t.ID
	}
	return n, s.Wrap("keeping a note in", s.Quick.WithContext(ctx).Create(n).Error)
}

// ChangeNote replaces the text of a note.
func (s noteRecords) ChangeNote(ctx context.Context, id int64, text string) (*Remark, error) {
	var n Remark
	db := s.Quick.WithContext(ctx)
	if err := db.First(&n, id).Error; err != nil {
		return nil, s.Wrap("looking for a note in", database.Missing("note", err))
	}
	n.Text, n.UpdatedAt = database.Plain(text), time.Now().UTC()
	return &n, s.Wrap("keeping a note in", db.Model(&n).Select("text", "updated_at").Updates(&n).Error)
}

// SettleNote says that a note asks for nothing any more, or that it does again.
func (s noteRecords) SettleNote(ctx context.Context, id int64, settled bool) (*Remark, error) {
	var n Remark
	db := s.Quick.WithContext(ctx)
	if err := db.First(&n, id).Error; err != nil {
		return nil, s.Wrap("looking for a note in", database.Missing("note", err))
	}
	n.SettledAt = nil
	if settled {
		now := time.Now().UTC()
		n.SettledAt = &now
	}
	return &n, s.Wrap("keeping a note in", db.Model(&n).Select("settled_at").UpdateColumns(&n).Error)
}

// OpenNote is a note that asks for something, with the take that it is on.
type OpenNote struct {
	Remark
	Key, Build string // of the take; "" for a note on a function
}

// maxOpenNotes bounds how many a ledger shows.
const maxOpenNotes = 50

// OpenNotes returns the notes of a program that are not settled, the newest first.
func (s noteRecords) OpenNotes(ctx context.Context, program string) (out []OpenNote, err error) {
	id, err := s.program(ctx, program)
	if err != nil {
		return nil, err
	}
	return out, s.Wrap("reading notes from", s.Quick.WithContext(ctx).Table("notes").
		Select("notes.*, coalesce(takes.key, '') AS key, coalesce(builds.name, '') AS build").
		Joins("LEFT JOIN takes ON takes.id = notes.take_id LEFT JOIN builds ON builds.id = takes.build_id").
		Where("notes.program_id = ? AND notes.settled_at IS NULL", id).Order("notes.id DESC").Limit(maxOpenNotes).Scan(&out).Error)
}

// RemoveNote removes a note.
func (s noteRecords) RemoveNote(ctx context.Context, id int64) error {
	r := s.Quick.WithContext(ctx).Delete(&Remark{}, id)
	if r.Error == nil && r.RowsAffected == 0 {
		return database.NotFound{What: "note"}
	}
	return s.Wrap("removing a note from", r.Error)
}

// Pin is a function that stands on top of a program's lists.
type Pin struct {
	ProgramID int64  `gorm:"primaryKey"`
	Function  string `gorm:"primaryKey"`
	Who       string
	CreatedAt time.Time
}

// program returns a program's number by its name.
func (s noteRecords) program(ctx context.Context, name string) (int64, error) {
	var p Program
	err := s.Quick.WithContext(ctx).Where("name = ?", name).First(&p).Error
	return p.ID, s.Wrap("looking for a program in", database.Missing("program", err))
}

// Pins returns the functions that are pinned for a program, the oldest pin
// first; none for a program that there is not yet.
func (s noteRecords) Pins(ctx context.Context, program string) (out []Pin, err error) {
	return out, s.Wrap("reading pins from", s.Quick.WithContext(ctx).
		Joins("JOIN programs ON programs.id = pins.program_id").Where("programs.name = ?", program).Order("pins.created_at, pins.function").Find(&out).Error)
}

// SetPin pins a function for a program, or lets it go.
func (s noteRecords) SetPin(ctx context.Context, program, function, who string, on bool) error {
	id, err := s.program(ctx, program)
	if err != nil {
		return err
	}
	db := s.Quick.WithContext(ctx)
	if !on {
		return s.Wrap("letting a pin go in", db.Where("program_id = ? AND function = ?", id, database.Plain(function)).Delete(&Pin{}).Error)
	}
	p := &Pin{id, database.Plain(function), who, time.Now().UTC()}
	return s.Wrap("pinning in", db.Clauses(clause.OnConflict{DoNothing: true}).Create(p).Error)
}
