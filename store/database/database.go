// Package database is an open PostgreSQL: connections for questions and for large work, its errors in
// words, and text that it can hold. A DB may be used by many goroutines; it has no lock of its own.
package database

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// DB is an open PostgreSQL, as all parts of a store use it.
type DB struct {
	Quick   *gorm.DB // for questions and small changes
	Bulk    *gorm.DB // for what takes long
	address string   // host and port, for errors
}

// Connect opens the connections to a PostgreSQL by its address.
func Connect(address string) (*DB, error) {
	config, err := pgconn.ParseConfig(address)
	if err != nil {
		return nil, fmt.Errorf("the database's address: %w", err)
	}
	s := &DB{address: net.JoinHostPort(config.Host, fmt.Sprint(config.Port))}
	if s.Quick, err = s.pool(address, maxQuestions, questionWithin); err != nil {
		return nil, err
	}
	if s.Bulk, err = s.pool(address, maxBulk, bulkWithin, byIndex); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// Errors that methods return, wrapped.
var (
	ErrNotFound    = errors.New("it is not there") // is every NotFound
	ErrUnreachable = errors.New("the database does not answer")
	ErrTooLarge    = errors.New("the upload is larger than this server takes")
)

// NotFound is the error about something that there is not, by what it is: a take, a program,
// a job.
type NotFound struct{ What string }

func (e NotFound) Error() string { return "there is no such " + e.What }

// Is has every NotFound be ErrNotFound.
func (e NotFound) Is(target error) bool { return target == ErrNotFound }

// Questions and large work have connections of their own, so that many uploads
// keep nobody from an answer; and each has a time after which the database gives
// it up.
const (
	maxQuestions   = 12
	questionWithin = time.Minute
	maxBulk        = 4
	bulkWithin     = 15 * time.Minute
)

// byIndex has rows be looked up in an index where there is one. PostgreSQL may think
// of a table as it was when it was small, and keeps to that as long as a connection
// lasts where it follows references; large work would then go through all rows for
// each of its own.
const byIndex = "enable_seqscan"

// pool opens connections, with some of PostgreSQL's settings off.
func (s *DB) pool(address string, most int, within time.Duration, off ...string) (*gorm.DB, error) {
	config, err := pgx.ParseConfig(address)
	if err != nil {
		return nil, fmt.Errorf("the database's address: %w", err)
	}
	config.RuntimeParams["statement_timeout"] = fmt.Sprint(within.Milliseconds())
	config.RuntimeParams["lock_timeout"] = fmt.Sprint(min(within, 2*time.Minute).Milliseconds())
	config.RuntimeParams["idle_in_transaction_session_timeout"] = fmt.Sprint((2 * within).Milliseconds())
	for _, name := range append(off, "jit") { // compiling takes longer than any of these questions
		config.RuntimeParams[name] = "off"
	}
	config.ConnectTimeout = 10 * time.Second
	pool := stdlib.OpenDB(*config)
	pool.SetMaxOpenConns(most)
	pool.SetConnMaxIdleTime(5 * time.Minute)
	db, err := gorm.Open(postgres.New(postgres.Config{Conn: pool}), &gorm.Config{
		Logger:         logger.Discard,
		TranslateError: true,
		NowFunc:        func() time.Time { return time.Now().UTC() },
	})
	if err != nil {
		return nil, errors.Join(s.Wrap("connecting", err), pool.Close())
	}
	return db, nil
}

// Close ends all connections.
func (s *DB) Close() error {
	var errs []error
	for _, db := range []*gorm.DB{s.Quick, s.Bulk} {
		if db == nil {
			continue
		}
		pool, err := db.DB()
		if err == nil {
			err = pool.Close()
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// Ping reports whether the database answers.
func (s *DB) Ping(ctx context.Context) error {
	pool, err := s.Quick.DB()
	if err != nil {
		return err
	}
	return s.Wrap("asking", pool.PingContext(ctx))
}

// Missing says what there is not, where that is why something could not be done.
func Missing(what string, err error) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return NotFound{what}
	}
	return err
}

// Wrap says what was being done, and tells a database that is not there from
// one that refuses.
func (s *DB) Wrap(doing string, err error) error {
	var connect *pgconn.ConnectError
	var network *net.OpError
	var refused *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, ErrNotFound):
		return err
	case errors.As(err, &refused) && (refused.Code == "57P01" || refused.Code == "57P03"), // shutting down, starting up
		errors.As(err, &connect), errors.As(err, &network), pgconn.SafeToRetry(err):
		return fmt.Errorf("%w at %s: %w", ErrUnreachable, s.address, err)
	}
	return fmt.Errorf("%s the database: %w", doing, err)
}
