package store

import (
	"errors"
	"fmt"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"
)

// migrations are applied in their order, each once, and are never changed
// after they have been released. They are written in SQL so that a later
// change of the models does not change what an old migration did.
var migrations = []*gormigrate.Migration{
	{
		ID: "0001-takes",
		Migrate: func(tx *gorm.DB) error {
			return tx.Exec(`
CREATE TABLE programs (
	id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	name       text NOT NULL UNIQUE,
	created_at timestamptz NOT NULL
);
CREATE TABLE builds (
	id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	program_id bigint NOT NULL REFERENCES programs ON DELETE CASCADE,
	name       text NOT NULL,
	identity   text NOT NULL,
	revision   text NOT NULL,
	created_at timestamptz NOT NULL,
	UNIQUE (program_id, name)
);
CREATE TABLE takes (
	id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	key            text NOT NULL UNIQUE,
	program_id     bigint NOT NULL REFERENCES programs ON DELETE CASCADE,
	build_id       bigint NOT NULL REFERENCES builds ON DELETE CASCADE,
	digest         text NOT NULL UNIQUE,
	size           bigint NOT NULL,
	started_at     timestamptz NOT NULL,
	added_at       timestamptz NOT NULL,
	duration_ns    bigint NOT NULL,
	cpu_ns         bigint NOT NULL,
	samples        bigint NOT NULL,
	lost           bigint NOT NULL,
	rate_hz        integer NOT NULL,
	complete_share double precision NOT NULL,
	warnings       integer NOT NULL,
	note           text NOT NULL,
	settings       jsonb NOT NULL,
	machine        jsonb NOT NULL,
	facts          jsonb NOT NULL
);
CREATE INDEX ON takes (program_id, started_at);
CREATE INDEX ON takes (build_id);
CREATE INDEX ON takes (started_at);
CREATE TABLE take_blobs (
	take_id bigint NOT NULL REFERENCES takes ON DELETE CASCADE,
	seq     integer NOT NULL,
	data    bytea NOT NULL,
	PRIMARY KEY (take_id, seq)
);
ALTER TABLE take_blobs ALTER COLUMN data SET STORAGE EXTERNAL;
CREATE TABLE functions (
	id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	program_id bigint NOT NULL REFERENCES programs ON DELETE CASCADE,
	name       text NOT NULL,
	module     text NOT NULL
);
-- Names of generic code outgrow what an index row can hold, so their hash is indexed.
CREATE UNIQUE INDEX functions_identity ON functions (program_id, md5(name), module);
CREATE TABLE function_figures (
	take_id       bigint NOT NULL REFERENCES takes ON DELETE CASCADE,
	function_id   bigint NOT NULL REFERENCES functions ON DELETE CASCADE,
	self          bigint NOT NULL,
	total         bigint NOT NULL,
	self_samples  bigint NOT NULL,
	total_samples bigint NOT NULL,
	PRIMARY KEY (take_id, function_id)
);
CREATE INDEX ON function_figures (function_id);
`).Error
		},
	},
	{
		ID: "0002-people",
		Migrate: func(tx *gorm.DB) error {
			return tx.Exec(`
CREATE TABLE people (
	id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	name       text NOT NULL UNIQUE,
	hash       text NOT NULL,
	role       text NOT NULL,
	owner      boolean NOT NULL,
	disabled   boolean NOT NULL,
	created_at timestamptz NOT NULL,
	seen_at    timestamptz
);
CREATE TABLE sessions (
	digest     text PRIMARY KEY,
	person_id  bigint NOT NULL REFERENCES people ON DELETE CASCADE,
	created_at timestamptz NOT NULL,
	seen_at    timestamptz NOT NULL,
	expires_at timestamptz NOT NULL
);
CREATE TABLE tokens (
	id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	person_id  bigint NOT NULL REFERENCES people ON DELETE CASCADE,
	name       text NOT NULL,
	digest     text NOT NULL UNIQUE,
	role       text NOT NULL,
	created_at timestamptz NOT NULL,
	used_at    timestamptz
);
CREATE TABLE links (
	digest     text PRIMARY KEY,
	person_id  bigint NOT NULL REFERENCES people ON DELETE CASCADE,
	expires_at timestamptz NOT NULL
);
CREATE TABLE attempts (
	key      text PRIMARY KEY,
	failures bigint NOT NULL,
	until    timestamptz NOT NULL,
	at       timestamptz NOT NULL
);
CREATE TABLE audit (
	id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	at     timestamptz NOT NULL,
	who    text NOT NULL,
	source text NOT NULL,
	what   text NOT NULL,
	detail jsonb NOT NULL
);
CREATE INDEX ON sessions (person_id);
CREATE INDEX ON tokens (person_id);
`).Error
		},
	},
	{
		ID: "0003-jobs",
		Migrate: func(tx *gorm.DB) error {
			return tx.Exec(`
CREATE TABLE jobs (
	id         text PRIMARY KEY,
	kind       text NOT NULL,
	collector  text NOT NULL,
	doer       text NOT NULL,
	state      text NOT NULL,
	settings   jsonb NOT NULL,
	who        text NOT NULL,
	created_at timestamptz NOT NULL,
	started_at timestamptz,
	heard_at   timestamptz,
	ended_at   timestamptz,
	elapsed_ns bigint NOT NULL,
	samples    bigint NOT NULL,
	lost       bigint NOT NULL,
	size       bigint NOT NULL,
	take_key   text NOT NULL,
	error      text NOT NULL,
	remedy     text NOT NULL,
	task       jsonb NOT NULL,
	result     jsonb NOT NULL
);
CREATE INDEX ON jobs (created_at);
CREATE INDEX ON jobs (state) WHERE state NOT IN ('done', 'failed');
CREATE TABLE job_blobs (
	job_id text NOT NULL REFERENCES jobs ON DELETE CASCADE,
	at     bigint NOT NULL,
	data   bytea NOT NULL,
	PRIMARY KEY (job_id, at)
);
ALTER TABLE job_blobs ALTER COLUMN data SET STORAGE EXTERNAL;
CREATE TABLE collectors (
	name    text PRIMARY KEY,
	seen_at timestamptz NOT NULL,
	report  jsonb NOT NULL
);
`).Error
		},
	},
	{
		ID: "0004 notes and pins",
		Migrate: func(tx *gorm.DB) error {
			return tx.Exec(`
CREATE TABLE notes (
	id         bigserial PRIMARY KEY,
	program_id bigint NOT NULL REFERENCES programs ON DELETE CASCADE,
	take_id    bigint REFERENCES takes ON DELETE CASCADE,
	function   text NOT NULL,
	text       text NOT NULL,
	who        text NOT NULL,
	created_at timestamptz NOT NULL,
	updated_at timestamptz NOT NULL
);
CREATE INDEX ON notes (program_id, function);
CREATE INDEX ON notes (take_id);
CREATE TABLE pins (
	program_id bigint NOT NULL REFERENCES programs ON DELETE CASCADE,
	function   text NOT NULL,
	who        text NOT NULL,
	created_at timestamptz NOT NULL,
	PRIMARY KEY (program_id, function)
);
`).Error
		},
	},
	{
		ID: "0005 source rules",
		Migrate: func(tx *gorm.DB) error {
			return tx.Exec(`
CREATE TABLE source_rules (
	program_id bigint NOT NULL REFERENCES programs ON DELETE CASCADE,
	begins     text NOT NULL,
	becomes    text NOT NULL,
	PRIMARY KEY (program_id, begins)
);
`).Error
		},
	},
	{
		ID: "0006 outlines",
		Migrate: func(tx *gorm.DB) error {
			return tx.Exec(`ALTER TABLE takes ADD COLUMN outline jsonb`).Error
		},
	},
	{
		ID: "0007 matches by hand and notes that are settled",
		Migrate: func(tx *gorm.DB) error {
			return tx.Exec(`
ALTER TABLE notes ADD COLUMN settled_at timestamptz;
CREATE TABLE matches (
	program_id bigint NOT NULL REFERENCES programs ON DELETE CASCADE,
	baseline   text NOT NULL,
	candidate  text NOT NULL,
	together   boolean NOT NULL,
	who        text NOT NULL,
	created_at timestamptz NOT NULL,
	PRIMARY KEY (program_id, baseline, candidate)
);
`).Error
		},
	},
	{
		ID: "0008 collectors with keys, jobs on record",
		Migrate: func(tx *gorm.DB) error {
			return tx.Exec(`
ALTER TABLE collectors
	ADD COLUMN public_key  text NOT NULL DEFAULT '',
	ADD COLUMN enrolled_at timestamptz,
	ADD COLUMN enrolled_by text NOT NULL DEFAULT '',
	ADD COLUMN renewed_at  timestamptz;
CREATE TABLE collector_links (
	digest     text PRIMARY KEY,
	collector  text NOT NULL,
	made_by    text NOT NULL,
	expires_at timestamptz NOT NULL
);
CREATE TABLE collector_sessions (
	digest     text PRIMARY KEY,
	collector  text NOT NULL REFERENCES collectors ON DELETE CASCADE ON UPDATE CASCADE,
	expires_at timestamptz NOT NULL
);
CREATE TABLE secrets (
	name  text PRIMARY KEY,
	value text NOT NULL
);
ALTER TABLE jobs
	ADD COLUMN again_of     text NOT NULL DEFAULT '',
	ADD COLUMN closed_early boolean NOT NULL DEFAULT false,
	ADD COLUMN digest       text NOT NULL DEFAULT '';
CREATE INDEX ON jobs (take_key) WHERE take_key <> '';
ALTER TABLE takes ADD COLUMN memory bigint NOT NULL DEFAULT 0, ADD COLUMN rest bigint NOT NULL DEFAULT 0, ADD COLUMN pinned boolean NOT NULL DEFAULT false;
CREATE TABLE devices (
	digest    text PRIMARY KEY,
	person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
	seen_at   timestamptz NOT NULL
);
CREATE INDEX ON devices (person_id);
DELETE FROM attempts;
UPDATE jobs SET state = 'failed', error = 'it was for any collector, and each has jobs of its own now', ended_at = now() WHERE state = 'waiting' AND collector = '';
`).Error
		},
	},
	{
		ID: "0009 figures by measure",
		Migrate: func(tx *gorm.DB) error {
			return tx.Exec(`
CREATE TABLE take_measures (
	take_id  bigint   NOT NULL REFERENCES takes ON DELETE CASCADE,
	position smallint NOT NULL,
	name     text     NOT NULL,
	unit     text     NOT NULL,
	level    boolean  NOT NULL,
	counted  boolean  NOT NULL,
	total    bigint   NOT NULL,
	samples  bigint   NOT NULL,
	PRIMARY KEY (take_id, position)
);
CREATE INDEX ON take_measures (name);
ALTER TABLE function_figures ADD COLUMN measure smallint NOT NULL DEFAULT 0, DROP CONSTRAINT function_figures_pkey;
ALTER TABLE function_figures ADD PRIMARY KEY (take_id, measure, function_id), ALTER COLUMN measure DROP DEFAULT;
-- What a take shows first has its figures, and is in lists from the beginning; Refigure
-- adds the others. A take before outlines says in its settings what that is.
INSERT INTO take_measures (take_id, position, name, unit, level, counted, total, samples)
SELECT t.id, 0, coalesce(o.m->>'name', s.name), coalesce(o.m->>'unit', s.unit), false, coalesce((o.m->>'counted')::boolean, s.name <> 'cpu'),
	least(coalesce(f.self, 0) + t.rest, 9e18)::bigint, least(coalesce(f.samples, 0), 9e18)::bigint
FROM takes t
LEFT JOIN LATERAL (SELECT t.outline->'measures'->0 AS m) o ON true
LEFT JOIN LATERAL (SELECT coalesce(t.settings->'measures'->>0, 'cpu') AS word) w ON true
LEFT JOIN LATERAL (SELECT
	left(CASE split_part(w.word, ':', 1) WHEN 'syscalls' THEN 'syscall-time' WHEN 'disk' THEN 'disk-bytes'
		WHEN 'allocations' THEN regexp_replace(regexp_replace(w.word, '^allocations', 'allocated'), '@[0-9]+$', '') ELSE w.word END, 1000) AS name,
	CASE split_part(w.word, ':', 1) WHEN 'cpu' THEN 'ns' WHEN 'waiting' THEN 'ns' WHEN 'syscalls' THEN 'ns' WHEN 'disk' THEN 'bytes' WHEN 'allocations' THEN 'bytes' ELSE 'count' END AS unit) s ON true
LEFT JOIN (SELECT take_id, sum(self) AS self, sum(self_samples) AS samples FROM function_figures GROUP BY take_id) f ON f.take_id = t.id;
ALTER TABLE takes DROP COLUMN rest, ADD COLUMN figured boolean NOT NULL DEFAULT false;
`).Error
		},
	},
	{
		ID: "0010 workloads",
		Migrate: func(tx *gorm.DB) error {
			return tx.Exec(`
CREATE TABLE workloads (
	id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	program_id bigint NOT NULL REFERENCES programs ON DELETE CASCADE,
	key        text NOT NULL,
	name       text NOT NULL,
	words      text NOT NULL,
	named      boolean NOT NULL,
	into_id    bigint REFERENCES workloads ON DELETE SET NULL,
	created_at timestamptz NOT NULL,
	UNIQUE (program_id, key)
);
CREATE INDEX ON workloads (into_id) WHERE into_id IS NOT NULL;
-- Where a take counts, and where it would if nobody had said otherwise. What was kept
-- before is filed when the server starts.
ALTER TABLE takes
	ADD COLUMN workload_id bigint REFERENCES workloads,
	ADD COLUMN found_id    bigint REFERENCES workloads,
	ADD COLUMN moved       boolean NOT NULL DEFAULT false;
CREATE INDEX ON takes (workload_id, started_at);
CREATE INDEX ON takes (found_id);
CREATE TABLE workload_changes (
	id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	program_id bigint NOT NULL REFERENCES programs ON DELETE CASCADE,
	who        text NOT NULL,
	what       text NOT NULL,
	before     jsonb NOT NULL,
	created_at timestamptz NOT NULL,
	undone_at  timestamptz
);
CREATE INDEX ON workload_changes (program_id, id);
`).Error
		},
	},
}

// ErrNewer means that a later Entelon has changed the database.
var ErrNewer = errors.New("this database was migrated by a later version of Entelon; serve it with that version")

// migrationLock keeps two servers from bringing one database up to date at once.
const migrationLock = 7420_0001

// migrate brings the database to the newest form.
func migrate(db *gorm.DB) error {
	return db.Connection(func(one *gorm.DB) (err error) {
		if err := one.Exec("SELECT pg_advisory_lock(?)", migrationLock).Error; err != nil {
			return fmt.Errorf("waiting for another server's migration: %w", err)
		}
		defer func() { err = errors.Join(err, one.Exec("SELECT pg_advisory_unlock(?)", migrationLock).Error) }()
		o := *gormigrate.DefaultOptions
		o.UseTransaction = true
		o.ValidateUnknownMigrations = true
		err = gormigrate.New(one, &o, migrations).Migrate()
		if errors.Is(err, gormigrate.ErrUnknownPastMigration) {
			return ErrNewer
		}
		if err != nil {
			return fmt.Errorf("bringing the database up to date: %w", err)
		}
		return nil
	})
}
