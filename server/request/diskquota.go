package request

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"entelon/core/measure"
)

// quota keeps in mind how much all takes need, so that not every
// piece of a growing take asks for it.
type quota struct {
	mu   sync.Mutex
	at   time.Time
	used int64
	// tidied is when room was last looked for.
	tidied time.Time
}

// lookAfter is how long the size of the database is taken to be what it was.
const lookAfter = 5 * time.Second

// full says that the database has reached its limit.
type full struct{ error }

// quota is an error where nothing more may be kept.
func (s *Server) MayKeepMore(ctx context.Context) error {
	if s.Options.MaxDisk <= 0 {
		return nil
	}
	r := &s.Used
	r.mu.Lock()
	defer r.mu.Unlock()
	if time.Since(r.at) > lookAfter {
		used, err := s.Store.Used(ctx)
		if err != nil {
			return err
		}
		r.used, r.at = used, time.Now()
	}
	if r.used > s.Options.MaxDisk && time.Since(r.tidied) > lookAfter {
		// What was removed may have left room that is not known of yet.
		r.tidied = time.Now()
		if err := s.Store.Reclaim(ctx); err != nil {
			return err
		}
		used, err := s.Store.Used(ctx)
		if err != nil {
			return err
		}
		r.used, r.at = used, time.Now()
	}
	if r.used > s.Options.MaxDisk {
		return full{fmt.Errorf("the database has %s, and %s is the limit", measure.Amount(r.used, "bytes"), measure.Amount(s.Options.MaxDisk, "bytes"))}
	}
	return nil
}

// Look has the size asked for again at the next question.
func (r *quota) Look() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.at, r.tidied = time.Time{}, time.Time{}
}

// diskFull reports whether PostgreSQL found no room (its code 53100).
func diskFull(err error) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && e.Code == "53100"
}
