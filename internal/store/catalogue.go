package store

import (
	"context"
	"fmt"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
)

// Check is a health check with its bookkeeping.
type Check struct {
	health.Check
	Revision  int64
	CreatedAt time.Time
}

type checkRow struct {
	Name                  string
	Kind                  string
	Port                  int
	Path                  string
	IntervalMs, TimeoutMs int64
	Passes, Fails         int
	Revision              int64
	CreatedAt             time.Time
}

func (r checkRow) check() Check {
	return Check{
		Check: health.Check{Name: r.Name, Kind: health.Kind(r.Kind), Port: r.Port, Path: r.Path,
			Interval: fromMillis(r.IntervalMs), Timeout: fromMillis(r.TimeoutMs), Passes: r.Passes, Fails: r.Fails},
		Revision: r.Revision, CreatedAt: r.CreatedAt,
	}
}

const checkColumns = `name, kind, port, path, interval_ms, timeout_ms, passes, fails, revision, created_at`

// AddCheck records a check.
func (s *Store) AddCheck(ctx context.Context, now time.Time, actor string, c health.Check) (Check, error) {
	var row checkRow
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		var err error
		row, err = one[checkRow](ctx, tx, `insert into checks (name, kind, port, path, interval_ms, timeout_ms, passes, fails, created_at)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9) returning `+checkColumns,
			c.Name, string(c.Kind), c.Port, c.Path, millis(c.Interval), millis(c.Timeout), c.Passes, c.Fails, now)
		if err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "check.created", Text: fmt.Sprintf("The check %s is made.", c.Name), Because: "a person created it"})
	})
	return row.check(), err
}

// Checks lists checks by name.
func (s *Store) Checks(ctx context.Context, p Page) ([]Check, error) {
	rows, err := many[checkRow](ctx, s.pool, `select `+checkColumns+` from checks where name > $1 order by name limit $2`, nameCursor(p.After), p.Limit)
	out := make([]Check, len(rows))
	for i, r := range rows {
		out[i] = r.check()
	}
	return out, err
}

func nameCursor(c Cursor) string {
	if len(c) == 0 {
		return ""
	}
	return c[0]
}

// Check reads one check.
func (s *Store) Check(ctx context.Context, name string) (Check, error) {
	row, err := one[checkRow](ctx, s.pool, `select `+checkColumns+` from checks where name = $1`, name)
	return row.check(), err
}

// Pool is the set of targets behind a listener.
type Pool struct {
	Name      string
	Listen    string // address:port
	Check     string
	Revision  int64
	CreatedAt time.Time
}

const poolColumns = `name, listen, "check", revision, created_at`

// AddPool records a pool.
func (s *Store) AddPool(ctx context.Context, now time.Time, actor string, p Pool) (Pool, error) {
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		var err error
		p, err = one[Pool](ctx, tx, `insert into pools (name, listen, "check", created_at) values ($1, $2, $3, $4) returning `+poolColumns,
			p.Name, p.Listen, p.Check, now)
		if err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "pool.created", Text: fmt.Sprintf("The pool %s listens on %s.", p.Name, p.Listen), Because: "a person created it"})
	})
	return p, err
}

// Pools lists pools by name.
func (s *Store) Pools(ctx context.Context, p Page) ([]Pool, error) {
	return many[Pool](ctx, s.pool, `select `+poolColumns+` from pools where name > $1 order by name limit $2`, nameCursor(p.After), p.Limit)
}

// Pool reads one pool.
func (s *Store) Pool(ctx context.Context, name string) (Pool, error) {
	return one[Pool](ctx, s.pool, `select `+poolColumns+` from pools where name = $1`, name)
}
