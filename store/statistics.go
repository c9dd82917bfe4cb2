package store

import (
	"context"
	"database/sql"
	"time"

	"gorm.io/gorm"

	"entelon/store/jobs"
)

// Counts are numbers about a database for who runs it.
type Counts struct {
	Takes      int64
	Jobs       map[string]int64 // takes that are being made or were, by state
	Collectors map[string]time.Time
}

// Counts counts.
func (s sizeRecords) Counts(ctx context.Context) (out Counts, err error) {
	db := s.Quick.WithContext(ctx)
	out.Jobs, out.Collectors = map[string]int64{}, map[string]time.Time{}
	if err := db.Model(&Take{}).Count(&out.Takes).Error; err != nil {
		return out, s.Wrap("counting in", err)
	}
	var states []struct {
		State string
		N     int64
	}
	if err := db.Raw("SELECT state, count(*) AS n FROM jobs WHERE kind = 'take' GROUP BY state").Scan(&states).Error; err != nil {
		return out, s.Wrap("counting in", err)
	}
	for _, x := range states {
		out.Jobs[x.State] = x.N
	}
	list, err := jobs.CollectorRecords{DB: s.DB}.Collectors(ctx)
	for _, c := range list {
		out.Collectors[c.Name] = c.SeenAt
	}
	return out, err
}

// Pools tells how the connections to the database are used.
func (s sizeRecords) Pools() map[string]sql.DBStats {
	out := map[string]sql.DBStats{}
	for name, db := range map[string]*gorm.DB{"questions": s.Quick, "bulk": s.Bulk} {
		if pool, err := db.DB(); err == nil {
			out[name] = pool.Stats()
		}
	}
	return out
}
