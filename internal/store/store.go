// Package store keeps the records in PostgreSQL.
//
// Every change is one transaction that writes the object, its journal entries
// and the events for whoever watches. Reads return plain records.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"

	"unitas/internal/fleet"
)

//go:embed migrations/*.sql
var migrations embed.FS

// What a store call may come back with, besides a fault of the database.
var (
	ErrNotFound = errors.New("not found")
	ErrExists   = errors.New("exists already")
	ErrStale    = errors.New("changed meanwhile")
)

// Store is the database. Its methods are safe for concurrent use, and none takes
// much longer than [Patience].
type Store struct {
	Reader
	pool *pgxpool.Pool
	// leasing has connections of its own, so that leases are renewed however many
	// wait for one of the others.
	leasing *pgxpool.Pool
	// knows is the last change of the tables that this program brings.
	knows int64
	// origin is the replica in whose name is written.
	origin  string
	written []func(touched []Touched)
}

// Write sets in whose name is written: the events of a change bear it. It is set once,
// before the store is used.
func (s *Store) Write(replica string) { s.origin = replica }

// OnWrite has f called after every committed change with what it touched, by whoever
// made the change and before he goes on. All are set before the store is used.
func (s *Store) OnWrite(f func(touched []Touched)) { s.written = append(s.written, f) }

// Open connects to the database at url and brings its tables up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("read the database address: %w", err)
	}
	config.MaxConns = 16
	config.ConnConfig.ConnectTimeout = 3 * time.Second
	config.PingTimeout = 3 * time.Second
	// What the server itself gives up, for when this process is not there to.
	for name, value := range map[string]string{"lock_timeout": "6s", "idle_in_transaction_session_timeout": "20s"} {
		config.ConnConfig.RuntimeParams[name] = value
	}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	own := config.Copy()
	own.MaxConns, own.MinConns = 2, 1
	leasing, err := pgxpool.NewWithConfig(ctx, own)
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	s := &Store{Reader: Reader{patient{pool}}, pool: pool, leasing: leasing}
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Store) migrate(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	db := stdlib.OpenDBFromPool(s.pool)
	defer db.Close()
	locker, err := lock.NewPostgresSessionLocker(lock.WithLockTimeout(1, 60)) // replicas that start together wait for each other
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files, goose.WithSlog(slog.New(slog.DiscardHandler)), goose.WithSessionLocker(locker))
	if err != nil {
		return fmt.Errorf("read migrations: %w", err)
	}
	known := provider.ListSources()
	s.knows = known[len(known)-1].Version
	unlock, err := s.migrating(ctx)
	if err != nil {
		return fmt.Errorf("look at the tables: %w", err)
	}
	defer unlock()
	now, err := provider.GetDBVersion(ctx)
	if err == nil {
		err = s.mayUse(ctx, files, known, now)
	}
	if err != nil {
		return fmt.Errorf("look at the tables: %w", err)
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("bring the tables up to date: %w", err)
	}
	return nil
}

// migratingKey is the lock of whoever looks at the tables and changes them, so that two releases that
// start in one moment do not both look first.
const migratingKey = 741_019

// migrating takes the lock, within a minute.
func (s *Store) migrating(ctx context.Context) (unlock func(), err error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	conn, err := s.leasing.Acquire(ctx)
	if err != nil {
		return nil, err
	}
	for had := false; ; {
		if err = conn.QueryRow(ctx, `select pg_try_advisory_lock($1)`, migratingKey).Scan(&had); err == nil && !had {
			select {
			case <-ctx.Done():
				err = fmt.Errorf("another service changes them, and was waited for: %w", ctx.Err())
			case <-time.After(50 * time.Millisecond):
				continue
			}
		}
		if err != nil {
			conn.Release()
			return nil, err
		}
		return func() {
			_, _ = conn.Exec(context.WithoutCancel(ctx), `select pg_advisory_unlock($1)`, migratingKey)
			conn.Release()
		}, nil
	}
}

// NewestMigration is the last change of the tables that this program knows.
func NewestMigration() (newest int64) {
	files, _ := fs.ReadDir(migrations, "migrations")
	for _, f := range files {
		if n, err := goose.NumericComponent(f.Name()); err == nil {
			newest = max(newest, n)
		}
	}
	return newest
}

// Close ends all connections.
func (s *Store) Close() {
	s.pool.Close()
	s.leasing.Close()
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	return s.pool.Ping(ctx)
}

// Reader reads records, each read by itself or all within one change.
type Reader struct{ q querier }

// look reads at one moment.
func (s *Store) look(ctx context.Context, f func(tx pgx.Tx) error) error {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	return pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, f)
}

// Page asks for part of a list: at most Limit items after the cursor of the
// page before.
type Page struct {
	Limit int
	After Cursor
}

// Cursor is the key of the last item of a page; empty for the first page.
type Cursor []string

// one reads exactly one row.
func one[T any](ctx context.Context, q querier, sql string, args ...any) (T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		var zero T
		return zero, err
	}
	v, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[T])
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return v, err
}

// many reads all rows.
func many[T any](ctx context.Context, q querier, sql string, args ...any) ([]T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[T])
}

type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}

// Tx is one change in the making. What it reads it reads within the change: a
// reader of another connection could wait for the one that this change has.
type Tx struct {
	pgx.Tx
	Reader
	// Now is the time of the whole change.
	Now     time.Time
	Actor   string
	origin  string
	touched []Touched
}

// Dry has the changes of a context only be tried: each is made, judged by all that judges it,
// and undone. Who asks is told what he would be told.
func Dry(ctx context.Context) context.Context { return context.WithValue(ctx, dryKey{}, true) }

type dryKey struct{}

// errDry undoes a change that is only tried.
var errDry = errors.New("only tried")

// Change runs f in a transaction at the time now, in the name of the actor.
// What f returns undoes it all; under [Dry] it is undone anyhow.
func (s *Store) Change(ctx context.Context, now time.Time, actor string, f func(tx *Tx) error) error {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	var touched []Touched
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		change := &Tx{Tx: tx, Reader: Reader{tx}, Now: now, Actor: actor, origin: s.origin}
		if err := f(change); err != nil {
			return err
		}
		if ctx.Value(dryKey{}) != nil {
			return errDry
		}
		touched = change.touched
		return change.tellTouched(ctx, s.origin)
	})
	if errors.Is(err, errDry) {
		return nil
	}
	if err != nil {
		return named(err)
	}
	s.wake(touched)
	return nil
}

// wake tells who wants to know that something was written.
func (s *Store) wake(touched []Touched) {
	for _, f := range s.written {
		f(touched)
	}
}

// referred is what the constraints on references are about.
var referred = map[string]string{
	"group_pools_pool": "a pool that it names", "groups_heal_check": "the check that heals", "pools_check_fkey": "the check",
	"groups_template_template_version_fkey": "the template", "rollouts_from_template": "a template", "rollouts_to_template": "the template",
	"instances_template": "the template", "templates_image_image_version_fkey": "the image", "groups_override_image": "the image",
}

// named gives the database's refusal of a second one, or of what refers to something
// that was deleted in the same moment, the name of this package.
func named(err error) error {
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		return err
	}
	switch what := referred[pg.ConstraintName]; {
	case pg.Code == "23505": // unique_violation
		return fmt.Errorf("%w (%s)", ErrExists, pg.ConstraintName)
	case pg.Code == "23503" && what != "": // foreign_key_violation
		return &fleet.Refusal{Text: fmt.Sprintf("%s was deleted in this moment, so nothing was changed; look what there is, and name another", what)}
	}
	return err
}

func millis(d time.Duration) int64      { return d.Milliseconds() }
func fromMillis(ms int64) time.Duration { return time.Duration(ms) * time.Millisecond }
func pointer(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}
func value(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return t.UTC()
}
