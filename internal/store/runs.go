package store

import (
	"context"
	"time"

	"unitas/internal/fleet"
)

// Run is a time for which the machine of one instance ran.
type Run struct {
	Instance     string
	GroupName    string
	Zone         string
	Labels       map[string]string
	PricePerHour float64
	FromAt       time.Time
	UntilAt      *time.Time // nil while it runs
}

// Runs are those that touch the time between from and to.
func (s *Store) Runs(ctx context.Context, from, to time.Time) ([]Run, error) {
	return many[Run](ctx, s.q, `select instance, group_name, zone, labels, price_per_hour, from_at, until_at from runs
		where from_at < $2 and coalesce(until_at, $2) > $1 order by from_at`, from, to)
}

// Record writes journal entries by themselves.
func (s *Store) Record(ctx context.Context, now time.Time, actor, group string, e ...fleet.Entry) error {
	return s.Change(ctx, now, actor, func(tx *Tx) error { return tx.Record(ctx, group, e...) })
}

// NextDrill is a number for a drill that none had before.
func (s *Store) NextDrill(ctx context.Context) (n int64, err error) {
	err = s.q.QueryRow(ctx, `select nextval('drills')`).Scan(&n)
	return n, err
}
