// Package accounts keeps who may do what: people, their links, sessions and tokens, what was
// attempted with wrong passwords, and the list of what was done. Its methods may be called by many
// goroutines; what guards the records is the database.
package accounts

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"entelon/people"
	"entelon/store/database"
)

// PeopleRecords are the records of people, their sessions and tokens.
type PeopleRecords struct{ *database.DB }

// Person is somebody who may sign in.
type Person struct {
	ID        int64 `gorm:"primaryKey"`
	Name      string
	Hash      string // of the password, "" while there is none
	Role      people.Role
	Owner     bool // may manage people
	Disabled  bool
	CreatedAt time.Time
	SeenAt    *time.Time
}

// Session is somebody signed in with a browser. Only the secret's digest is kept.
type Session struct {
	Digest    string `gorm:"primaryKey"`
	PersonID  int64
	CreatedAt time.Time
	SeenAt    time.Time
	ExpiresAt time.Time

	Person Person `gorm:"foreignKey:PersonID"`
}

// Token lets a program in, for a person. Only the secret's digest is kept.
type Token struct {
	ID        int64 `gorm:"primaryKey"`
	PersonID  int64
	Name      string
	Digest    string
	Role      people.Role // at most the person's own counts
	CreatedAt time.Time
	UsedAt    *time.Time

	Person Person `gorm:"foreignKey:PersonID"`
}

// Link signs a person in once.
type Link struct {
	Digest    string `gorm:"primaryKey"`
	PersonID  int64
	ExpiresAt time.Time
}

// Event is a line of the audit list.
type Event struct {
	ID     int64 `gorm:"primaryKey"`
	At     time.Time
	Who    string            // the person's name, "" for nobody
	Source string            // the address that it came from
	What   string            // such as "sign-in", "launch", "attach"
	Detail map[string]string `gorm:"serializer:document"`
}

// Errors about people.
var (
	ErrNameTaken = errors.New("this name is taken")
	ErrLastOwner = errors.New("nobody would be left who may manage people")
)

// Sessions end after a time without use, and in any case after a longer one.
const (
	sessionIdle = 14 * 24 * time.Hour
	sessionMost = 90 * 24 * time.Hour
	// seenEvery is how exactly the last use is kept.
	seenEvery = time.Minute
)

// People lists everybody by name.
func (s PeopleRecords) People(ctx context.Context) (out []Person, err error) {
	return out, s.Wrap("listing people in", s.Quick.WithContext(ctx).Order("name").Find(&out).Error)
}

// AddPerson adds somebody without a password.
func (s PeopleRecords) AddPerson(ctx context.Context, name string, role people.Role, owner bool) (*Person, error) {
	p := &Person{Name: name, Role: role, Owner: owner}
	err := s.Quick.WithContext(ctx).Create(p).Error
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		return nil, ErrNameTaken
	}
	return p, s.Wrap("adding a person to", err)
}

// FirstPerson returns an owner, who is made if there is nobody at all.
func (s PeopleRecords) FirstPerson(ctx context.Context) (p *Person, err error) {
	err = s.Quick.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		// Two servers that start on one empty database make one person.
		if err := tx.Exec("LOCK TABLE people IN SHARE ROW EXCLUSIVE MODE").Error; err != nil {
			return err
		}
		p = &Person{}
		err := tx.Where("owner AND NOT disabled").Order("id").First(p).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			p = &Person{Name: "owner", Role: people.Collect, Owner: true}
			return tx.Create(p).Error
		}
		return err
	})
	return p, s.Wrap("finding the owner in", database.Missing("person", err))
}

// PersonNamed returns somebody by name.
func (s PeopleRecords) PersonNamed(ctx context.Context, name string) (*Person, error) {
	var p Person
	return &p, s.Wrap("looking for a person in", database.Missing("person", s.Quick.WithContext(ctx).Where("name = ?", name).First(&p).Error))
}

// ChangePerson changes somebody. Who is disabled is signed out everywhere.
func (s PeopleRecords) ChangePerson(ctx context.Context, id int64, change func(*Person)) (*Person, error) {
	var p Person
	err := s.Quick.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("LOCK TABLE people IN SHARE ROW EXCLUSIVE MODE").Error; err != nil {
			return err
		}
		if err := tx.First(&p, id).Error; err != nil {
			return err
		}
		before := p
		change(&p)
		if before.Owner && !before.Disabled && (!p.Owner || p.Disabled) {
			var n int64
			if err := tx.Model(&Person{}).Where("owner AND NOT disabled AND id <> ?", id).Count(&n).Error; err != nil {
				return err
			}
			if n == 0 {
				return ErrLastOwner
			}
		}
		if p.Disabled || p.Hash != before.Hash {
			for _, table := range []any{&Session{}, &Link{}, &device{}} {
				if err := tx.Where("person_id = ?", id).Delete(table).Error; err != nil {
					return err
				}
			}
		}
		return tx.Save(&p).Error
	})
	switch {
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return nil, ErrNameTaken
	case errors.Is(err, ErrLastOwner):
		return nil, err
	}
	return &p, s.Wrap("changing a person in", database.Missing("person", err))
}

// AddLink makes a link by which a person can sign in once.
func (s PeopleRecords) AddLink(ctx context.Context, person int64, valid time.Duration) (secret string, err error) {
	if secret, err = people.Secret(); err != nil {
		return "", err
	}
	err = s.Quick.WithContext(ctx).Create(&Link{Digest: people.Digest(secret), PersonID: person, ExpiresAt: time.Now().UTC().Add(valid)}).Error
	return secret, s.Wrap("keeping a link in", err)
}

// UseLink returns whose link it is, and makes it useless.
func (s PeopleRecords) UseLink(ctx context.Context, secret string) (*Person, error) {
	var used []Link
	err := s.Quick.WithContext(ctx).Clauses(clause.Returning{}).Where("digest = ?", people.Digest(secret)).Delete(&used).Error
	if err != nil {
		return nil, s.Wrap("using a link in", database.Missing("link", err))
	}
	if len(used) == 0 || used[0].ExpiresAt.Before(time.Now()) {
		return nil, database.NotFound{What: "link"}
	}
	var p Person
	if err := s.Quick.WithContext(ctx).Where("NOT disabled").First(&p, used[0].PersonID).Error; err != nil {
		return nil, s.Wrap("using a link in", database.Missing("link", err))
	}
	return &p, nil
}

// SignIn begins a session.
func (s PeopleRecords) SignIn(ctx context.Context, person int64) (secret string, ends time.Time, err error) {
	if secret, err = people.Secret(); err != nil {
		return "", ends, err
	}
	now := time.Now().UTC()
	x := Session{Digest: people.Digest(secret), PersonID: person, CreatedAt: now, SeenAt: now, ExpiresAt: now.Add(sessionMost)}
	if err := s.Quick.WithContext(ctx).Omit("Person").Create(&x).Error; err != nil {
		return "", ends, s.Wrap("beginning a session in", err)
	}
	if err := s.Quick.WithContext(ctx).Model(&Person{}).Where("id = ?", person).Update("seen_at", now).Error; err != nil {
		return "", ends, s.Wrap("keeping the time in", err)
	}
	// Sessions that are over go when a new one begins.
	err = s.Quick.WithContext(ctx).Where("expires_at < ? OR seen_at < ?", now, now.Add(-sessionIdle)).Delete(&Session{}).Error
	return secret, x.ExpiresAt, s.Wrap("ending old sessions in", err)
}

// SignedIn returns whose session it is.
func (s PeopleRecords) SignedIn(ctx context.Context, secret string) (*Person, error) {
	var x Session
	now := time.Now().UTC()
	db := s.Quick.WithContext(ctx)
	if err := db.Joins("Person").Where("digest = ? AND expires_at > ? AND sessions.seen_at > ?", people.Digest(secret), now, now.Add(-sessionIdle)).First(&x).Error; err != nil {
		return nil, s.Wrap("finding a session in", database.Missing("session", err))
	}
	if x.Person.Disabled {
		return nil, database.NotFound{What: "person"}
	}
	if now.Sub(x.SeenAt) > seenEvery {
		err := errors.Join(db.Model(&Session{}).Where("digest = ?", x.Digest).Update("seen_at", now).Error,
			db.Model(&Person{}).Where("id = ?", x.PersonID).Update("seen_at", now).Error)
		if err != nil {
			return nil, s.Wrap("keeping the time in", err)
		}
	}
	return &x.Person, nil
}

// SignOut ends a session.
func (s PeopleRecords) SignOut(ctx context.Context, secret string) error {
	return s.Wrap("ending a session in", s.Quick.WithContext(ctx).Where("digest = ?", people.Digest(secret)).Delete(&Session{}).Error)
}

// AddToken makes a token; its secret is returned this once.
func (s PeopleRecords) AddToken(ctx context.Context, person int64, name string, role people.Role) (t *Token, secret string, err error) {
	if secret, err = people.Secret(); err != nil {
		return nil, "", err
	}
	t = &Token{PersonID: person, Name: name, Digest: people.Digest(secret), Role: role}
	err = s.Quick.WithContext(ctx).Omit("Person").Create(t).Error
	return t, secret, s.Wrap("keeping a token in", err)
}

// Tokens lists a person's tokens, the newest first.
func (s PeopleRecords) Tokens(ctx context.Context, person int64) (out []Token, err error) {
	return out, s.Wrap("listing tokens in", s.Quick.WithContext(ctx).Where("person_id = ?", person).Order("id DESC").Find(&out).Error)
}

// RemoveToken makes a person's token useless.
func (s PeopleRecords) RemoveToken(ctx context.Context, person, id int64) error {
	r := s.Quick.WithContext(ctx).Where("person_id = ? AND id = ?", person, id).Delete(&Token{})
	if r.Error == nil && r.RowsAffected == 0 {
		return database.NotFound{What: "token"}
	}
	return s.Wrap("removing a token from", r.Error)
}

// TokenOf returns the token with a secret.
func (s PeopleRecords) TokenOf(ctx context.Context, secret string) (*Token, error) {
	var t Token
	db := s.Quick.WithContext(ctx)
	if err := db.Joins("Person").Where("digest = ?", people.Digest(secret)).First(&t).Error; err != nil {
		return nil, s.Wrap("finding a token in", database.Missing("token", err))
	}
	if t.Person.Disabled {
		return nil, database.NotFound{What: "person"}
	}
	if now := time.Now().UTC(); t.UsedAt == nil || now.Sub(*t.UsedAt) > seenEvery {
		if err := db.Model(&Token{}).Where("id = ?", t.ID).Update("used_at", now).Error; err != nil {
			return nil, s.Wrap("keeping the time in", err)
		}
	}
	return &t, nil
}

// Note adds a line to the audit list.
func (s PeopleRecords) Note(ctx context.Context, who, source, what string, detail map[string]string) error {
	if detail == nil {
		detail = map[string]string{}
	}
	e := &Event{At: time.Now().UTC(), Who: who, Source: source, What: what, Detail: detail}
	if err := s.Quick.WithContext(ctx).Table("audit").Create(e).Error; err != nil {
		return s.Wrap(fmt.Sprintf("noting %q in", what), err)
	}
	return nil
}

// Audit returns the latest lines of the audit list.
func (s PeopleRecords) Audit(ctx context.Context, limit int) (out []Event, err error) {
	return out, s.Wrap("reading the audit list in", s.Quick.WithContext(ctx).Table("audit").Order("id DESC").Limit(limit).Find(&out).Error)
}
