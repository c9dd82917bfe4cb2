package store

import "github.com/go-gormigrate/gormigrate/v2"

// Releases is how many forms the database has had.
var Releases = len(migrations)

// BringTo brings an empty database to an earlier form.
func BringTo(s *Store, release int) error {
	o := *gormigrate.DefaultOptions
	o.UseTransaction = true
	return gormigrate.New(s.bulk, &o, migrations[:release]).Migrate()
}

// Unready connects to a database and leaves it as it is.
func Unready(address string) (*Store, error) {
	s := newStore(&records{reading: make(chan struct{}, 1)})
	var err error
	if s.db, err = s.pool(address, 2, bulkWithin); err == nil {
		s.bulk, err = s.pool(address, 2, bulkWithin)
	}
	return s, err
}
