package store

import (
	"github.com/go-gormigrate/gormigrate/v2"

	"entelon/store/database"
)

// Releases is how many forms the database has had.
var Releases = len(migrations)

// BringTo brings an empty database to an earlier form.
func BringTo(s *Store, release int) error {
	o := *gormigrate.DefaultOptions
	o.UseTransaction = true
	return gormigrate.New(s.Bulk, &o, migrations[:release]).Migrate()
}

// Unready connects to a database and leaves it as it is.
func Unready(address string) (*Store, error) {
	db, err := database.Connect(address)
	if err != nil {
		return nil, err
	}
	return newStore(&records{DB: db, reading: make(chan struct{}, 1)}), nil
}
