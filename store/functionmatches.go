package store

import (
	"context"
	"time"

	"gorm.io/gorm/clause"

	"entelon/store/database"
)

// matchRecords are the records of which functions are one, by hand.
type matchRecords struct{ *records }

// Match is what somebody said of a function's names in two builds of a program:
// that they are one function, or that they are not.
type Match struct {
	ProgramID int64  `gorm:"primaryKey"`
	Baseline  string `gorm:"primaryKey"` // full names
	Candidate string `gorm:"primaryKey"`
	Together  bool
	Who       string
	CreatedAt time.Time
}

// Matches returns what was said of a program's functions, the oldest first; none
// for a program that there is not yet.
func (s matchRecords) Matches(ctx context.Context, program string) (out []Match, err error) {
	return out, s.Wrap("reading matches from", s.Quick.WithContext(ctx).
		Joins("JOIN programs ON programs.id = matches.program_id").Where("programs.name = ?", program).Order("matches.created_at, baseline, candidate").Find(&out).Error)
}

// SetMatch keeps that two names are one function, or not.
func (s matchRecords) SetMatch(ctx context.Context, program, baseline, candidate, who string, together bool) error {
	id, err := noteRecords(s).program(ctx, program)
	if err != nil {
		return err
	}
	m := &Match{id, database.Plain(baseline), database.Plain(candidate), together, who, time.Now().UTC()}
	return s.Wrap("keeping a match in", s.Quick.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(m).Error)
}

// ForgetMatch lets the comparison decide about two names again.
func (s matchRecords) ForgetMatch(ctx context.Context, program, baseline, candidate string) error {
	id, err := noteRecords(s).program(ctx, program)
	if err != nil {
		return err
	}
	return s.Wrap("forgetting a match in", s.Quick.WithContext(ctx).Where("program_id = ? AND baseline = ? AND candidate = ?", id, database.Plain(baseline), database.Plain(candidate)).Delete(&Match{}).Error)
}
