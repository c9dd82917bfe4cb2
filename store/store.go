package store

import (
	"context"
	"errors"
	"fmt"
	"net"
	"runtime"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"entelon/codec/take"
	"entelon/core/calltree"
	"entelon/core/profile"
)

// Store is an open database. Its methods may be called by many goroutines; they are those
// of its parts.
type Store struct {
	*records
	arrivals
	attemptRecords
	collectorRecords
	figureRecords
	jobRecords
	ledgerRecords
	matchRecords
	noteRecords
	peopleRecords
	sizeRecords
	sourceRecords
	takeRecords
	workloadRecords
}

// records is what all parts of a store use.
type records struct {
	db      *gorm.DB      // for questions and small changes
	bulk    *gorm.DB      // for what takes long
	address string        // host and port, for errors
	reading chan struct{} // bounds how many takes are read at a time

	space                  sync.Mutex
	spaceAsked, spaceKnown bool
	// Room is asked for so many bytes of memory before a take is read that came
	// from outside, and gives them back when back is called; nil asks nobody.
	Room func(ctx context.Context, bytes int64) (back func(), err error)
	// Opened is shown each take that was added, as it was read, when its memory has been
	// given back; nil: nobody wants to see it.
	Opened func(row *Take, t *profile.Take, tr *calltree.Tree)
	// Limits bound such a take.
	Limits take.Limits
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

func newStore(r *records) *Store {
	return &Store{
		records:          r,
		arrivals:         arrivals{r},
		attemptRecords:   attemptRecords{r},
		collectorRecords: collectorRecords{r},
		figureRecords:    figureRecords{r},
		jobRecords:       jobRecords{r},
		ledgerRecords:    ledgerRecords{r},
		matchRecords:     matchRecords{r},
		noteRecords:      noteRecords{r},
		peopleRecords:    peopleRecords{r},
		sizeRecords:      sizeRecords{r},
		sourceRecords:    sourceRecords{r},
		takeRecords:      takeRecords{r},
		workloadRecords:  workloadRecords{r},
	}
}

// Open connects to a PostgreSQL by its address ("postgres://…" or key=value
// words) and brings its tables up to date.
func Open(ctx context.Context, address string) (*Store, error) {
	config, err := pgconn.ParseConfig(address)
	if err != nil {
		return nil, fmt.Errorf("the database's address: %w", err)
	}
	s := newStore(&records{address: net.JoinHostPort(config.Host, fmt.Sprint(config.Port)), reading: make(chan struct{}, max(1, runtime.NumCPU()/2))})
	if s.db, err = s.pool(address, mostQuestions, questionWithin); err != nil {
		return nil, err
	}
	if s.bulk, err = s.pool(address, mostBulk, bulkWithin, byIndex); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err := migrate(s.bulk.WithContext(ctx)); err != nil {
		return nil, errors.Join(s.wrap("starting", err), s.Close())
	}
	if err := s.fileAllWorkloads(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// Questions and large work have connections of their own, so that many uploads
// keep nobody from an answer; and each has a time after which the database gives
// it up.
const (
	mostQuestions  = 12
	questionWithin = time.Minute
	mostBulk       = 4
	bulkWithin     = 15 * time.Minute
)

// byIndex has rows be looked up in an index where there is one. PostgreSQL may think
// of a table as it was when it was small, and keeps to that as long as a connection
// lasts where it follows references; large work would then go through all rows for
// each of its own.
const byIndex = "enable_seqscan"

// pool opens connections, with some of PostgreSQL's settings off.
func (s *records) pool(address string, most int, within time.Duration, off ...string) (*gorm.DB, error) {
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
		return nil, errors.Join(s.wrap("connecting", err), pool.Close())
	}
	return db, nil
}

// Close ends all connections.
func (s *records) Close() error {
	var errs []error
	for _, db := range []*gorm.DB{s.db, s.bulk} {
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
func (s *records) Ping(ctx context.Context) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return s.wrap("asking", pool.PingContext(ctx))
}

// missing says what there is not, where that is why something could not be done.
func missing(what string, err error) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return NotFound{what}
	}
	return err
}

// wrap says what was being done, and tells a database that is not there from
// one that refuses.
func (s *records) wrap(doing string, err error) error {
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
