package store

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// Store is an open database. Its methods may be called by many goroutines.
type Store struct {
	db      *gorm.DB
	address string // host and port, for errors
}

// Errors that methods return, wrapped.
var (
	ErrNotFound    = errors.New("there is no such take")
	ErrUnreachable = errors.New("the database does not answer")
	ErrTooLarge    = errors.New("the upload is larger than this server takes")
)

// Open connects to a PostgreSQL by its address ("postgres://…" or key=value
// words) and brings its tables up to date.
func Open(ctx context.Context, address string) (*Store, error) {
	config, err := pgconn.ParseConfig(address)
	if err != nil {
		return nil, fmt.Errorf("the database's address: %w", err)
	}
	s := &Store{address: net.JoinHostPort(config.Host, fmt.Sprint(config.Port))}
	db, err := gorm.Open(postgres.Open(address), &gorm.Config{
		Logger:         logger.Discard,
		TranslateError: true,
		NowFunc:        func() time.Time { return time.Now().UTC() },
	})
	if err != nil {
		return nil, s.wrap("connecting", err)
	}
	s.db = db
	pool, err := db.DB()
	if err != nil {
		return nil, s.wrap("connecting", err)
	}
	pool.SetMaxOpenConns(16)
	pool.SetConnMaxIdleTime(5 * time.Minute)
	if err := migrate(db.WithContext(ctx)); err != nil {
		return nil, errors.Join(s.wrap("starting", err), pool.Close())
	}
	return s, nil
}

// Close ends all connections.
func (s *Store) Close() error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return s.wrap("asking", pool.PingContext(ctx))
}

// wrap says what was being done, and tells a database that is not there from
// one that refuses.
func (s *Store) wrap(doing string, err error) error {
	var connect *pgconn.ConnectError
	var network *net.OpError
	var refused *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, gorm.ErrRecordNotFound):
		return ErrNotFound
	case errors.As(err, &refused) && (refused.Code == "57P01" || refused.Code == "57P03"), // shutting down, starting up
		errors.As(err, &connect), errors.As(err, &network), pgconn.SafeToRetry(err):
		return fmt.Errorf("%w at %s: %w", ErrUnreachable, s.address, err)
	}
	return fmt.Errorf("%s the database: %w", doing, err)
}
