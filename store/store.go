package store

import (
	"context"
	"errors"
	"runtime"
	"sync"

	"entelon/codec/take"
	"entelon/core/calltree"
	"entelon/core/profile"
	"entelon/store/accounts"
	"entelon/store/database"
	"entelon/store/jobs"
)

// Store is an open database. Its methods may be called by many goroutines; they are those
// of its parts.
type Store struct {
	*database.DB
	*records
	arrivals
	accounts.AttemptRecords
	jobs.CollectorRecords
	figureRecords
	jobs.JobRecords
	ledgerRecords
	matchRecords
	noteRecords
	accounts.PeopleRecords
	sizeRecords
	sourceRecords
	takeRecords
	workloadRecords
}

// records is what all parts of a store use.
type records struct {
	*database.DB
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

func newStore(r *records) *Store {
	return &Store{
		DB:               r.DB,
		records:          r,
		arrivals:         arrivals{r},
		AttemptRecords:   accounts.AttemptRecords{DB: r.DB},
		CollectorRecords: jobs.CollectorRecords{DB: r.DB},
		figureRecords:    figureRecords{r},
		JobRecords:       jobs.JobRecords{DB: r.DB},
		ledgerRecords:    ledgerRecords{r},
		matchRecords:     matchRecords{r},
		noteRecords:      noteRecords{r},
		PeopleRecords:    accounts.PeopleRecords{DB: r.DB},
		sizeRecords:      sizeRecords{r},
		sourceRecords:    sourceRecords{r},
		takeRecords:      takeRecords{r},
		workloadRecords:  workloadRecords{r},
	}
}

// Open connects to a PostgreSQL by its address ("postgres://…" or key=value
// words) and brings its tables up to date.
func Open(ctx context.Context, address string) (*Store, error) {
	db, err := database.Connect(address)
	if err != nil {
		return nil, err
	}
	s := newStore(&records{DB: db, reading: make(chan struct{}, max(1, runtime.NumCPU()/2))})
	if err := migrate(s.Bulk.WithContext(ctx)); err != nil {
		return nil, errors.Join(s.Wrap("starting", err), s.Close())
	}
	if err := s.fileAllWorkloads(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}
