package store

import (
	"context"

	"gorm.io/gorm"

	"entelon/store/database"
)

// sourceRecords are the records of where the text of programs is.
type sourceRecords struct{ *records }

// SourceRule says where a program's source is: paths that begin with Begins
// begin with Becomes there.
type SourceRule struct {
	ProgramID int64  `gorm:"primaryKey"`
	Begins    string `gorm:"primaryKey"`
	Becomes   string
}

// SourceRules returns a program's rules, those that say most of a path first.
func (s sourceRecords) SourceRules(ctx context.Context, program string) (out []SourceRule, err error) {
	return out, s.Wrap("reading rules for source from", s.Quick.WithContext(ctx).
		Joins("JOIN programs ON programs.id = source_rules.program_id").Where("programs.name = ?", program).Order("length(source_rules.begins) DESC, source_rules.begins").Find(&out).Error)
}

// SetSourceRules replaces a program's rules.
func (s sourceRecords) SetSourceRules(ctx context.Context, program string, rules []SourceRule) error {
	id, err := noteRecords(s).program(ctx, program)
	if err != nil {
		return err
	}
	return s.Wrap("keeping rules for source in", s.Quick.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Where("program_id = ?", id).Delete(&SourceRule{}).Error; err != nil || len(rules) == 0 {
			return err
		}
		for i := range rules {
			rules[i].ProgramID, rules[i].Begins, rules[i].Becomes = id, database.Plain(rules[i].Begins), database.Plain(rules[i].Becomes)
		}
		return tx.Create(&rules).Error
	}))
}
