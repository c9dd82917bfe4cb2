package store

import (
	"context"
	"errors"
	"fmt"

	"gorm.io/gorm"
)

// sizeRecords are the records of how much is kept.
type sizeRecords struct{ *records }

// freeSpace is PostgreSQL's own extension that tells how much of a table's file
// can be used again. Who may not install it counts files alone.
const freeSpace = "pg_freespacemap"

// spaceTables are the tables that grow with takes.
const spaceTables = "takes, take_blobs, functions, function_figures, take_measures, jobs, job_blobs"

// Used is how many bytes the tables of this database have on the disk, with their
// indexes, but for what can be used again there.
func (s sizeRecords) Used(ctx context.Context) (n int64, err error) {
	db := s.Quick.WithContext(ctx)
	if err := db.Raw(`
SELECT coalesce(sum(pg_total_relation_size(c.oid)), 0)::bigint FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = current_schema() AND c.relkind = 'r'`).Scan(&n).Error; err != nil {
		return 0, s.Wrap("asking for the size of", err)
	}
	known, err := s.freeSpaceKnown(ctx)
	if err != nil || !known {
		return n, err
	}
	var free int64
	err = db.Raw(`
SELECT coalesce(sum(f.avail), 0)::bigint FROM (
	SELECT c.oid FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = current_schema() AND c.relkind IN ('r', 'i')
	UNION ALL SELECT c.reltoastrelid FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = current_schema() AND c.reltoastrelid <> 0
) c, LATERAL pg_freespace(c.oid::regclass) f`).Scan(&free).Error
	return max(0, n-free), s.Wrap("asking for the free space of", err)
}

// freeSpaceKnown reports whether the extension is there, installing it if that is
// allowed.
func (s sizeRecords) freeSpaceKnown(ctx context.Context) (bool, error) {
	s.space.Lock()
	defer s.space.Unlock()
	if s.spaceAsked {
		return s.spaceKnown, nil
	}
	db := s.Quick.WithContext(ctx)
	var there bool
	if err := db.Raw("SELECT EXISTS (SELECT 1 FROM pg_extension WHERE extname = ?)", freeSpace).Scan(&there).Error; err != nil {
		return false, s.Wrap("asking", err)
	}
	if !there {
		there = db.Exec("CREATE EXTENSION IF NOT EXISTS "+freeSpace).Error == nil // else it is not allowed
	}
	s.spaceAsked, s.spaceKnown = true, there
	return there, nil
}

// Reclaim makes the room of what was removed usable again, and gives back to the
// disk what lies at the end of files. Functions that no take has any more go.
func (s sizeRecords) Reclaim(ctx context.Context) error {
	bulk := s.Bulk.WithContext(ctx)
	err := bulk.Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SET LOCAL enable_nestloop = off").Error; err != nil { // however small PostgreSQL believes the tables to be
			return err
		}
		return tx.Exec(`
-- Workloads of takes that are gone, but for those that somebody named or merged, or that
-- a change which can be undone may lead back to.
DELETE FROM workloads WHERE id IN (
	SELECT w.id FROM workloads w WHERE NOT w.named AND w.into_id IS NULL
	AND NOT EXISTS (SELECT 1 FROM takes t WHERE t.workload_id = w.id) AND NOT EXISTS (SELECT 1 FROM takes t WHERE t.found_id = w.id)
	AND NOT EXISTS (SELECT 1 FROM workloads x WHERE x.into_id = w.id)
	AND NOT EXISTS (SELECT 1 FROM workload_changes c WHERE c.program_id = w.program_id AND c.undone_at IS NULL)
	FOR UPDATE SKIP LOCKED);
DELETE FROM functions WHERE id IN (
	SELECT f.id FROM functions f WHERE NOT EXISTS (SELECT 1 FROM function_figures g WHERE g.function_id = f.id)
	FOR UPDATE SKIP LOCKED)`).Error
	})
	if err := errors.Join(err, bulk.Exec("VACUUM (TRUNCATE) "+spaceTables).Error); err != nil {
		return s.Wrap("tidying up", err)
	}
	return nil
}

// Exact counts the rows of a table, for tests and checks.
func (s sizeRecords) Exact(ctx context.Context, table string) (n int64, err error) {
	return n, s.Wrap(fmt.Sprintf("counting %s in", table), s.Quick.WithContext(ctx).Table(table).Count(&n).Error)
}
