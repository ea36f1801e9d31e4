package store

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
)

// Check is a health check with its bookkeeping.
type Check struct {
	health.Check
	Labels    map[string]string
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
	Host, Statuses        string
	BodyText, Service     string
	Verify                bool
	Labels                map[string]string
	Revision              int64
	CreatedAt             time.Time
}

func (r checkRow) check() Check {
	return Check{
		Check: health.Check{Name: r.Name, Kind: health.Kind(r.Kind), Port: r.Port, Path: r.Path,
			Interval: fromMillis(r.IntervalMs), Timeout: fromMillis(r.TimeoutMs), Passes: r.Passes, Fails: r.Fails,
			Host: r.Host, Statuses: r.Statuses, Text: r.BodyText, Service: r.Service, Verify: r.Verify},
		Labels: r.Labels, Revision: r.Revision, CreatedAt: r.CreatedAt,
	}
}

const checkColumns = `name, kind, port, path, interval_ms, timeout_ms, passes, fails, host, statuses, body_text, service, verify, labels, revision, created_at`

// AddCheck records a check.
func (s *Store) AddCheck(ctx context.Context, now time.Time, actor string, c Check) (Check, error) {
	var row checkRow
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		var err error
		row, err = one[checkRow](ctx, tx, `insert into checks (name, kind, port, path, interval_ms, timeout_ms, passes, fails, created_at,
				host, statuses, body_text, service, verify, labels)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15) returning `+checkColumns,
			c.Name, string(c.Kind), c.Port, c.Path, millis(c.Interval), millis(c.Timeout), c.Passes, c.Fails, now,
			c.Host, cmp.Or(c.Statuses, "200-299"), c.Text, c.Service, c.Verify, notNilMap(c.Labels))
		if err != nil {
			return err
		}
		tx.touch(Touched{Kind: OfCheck, Name: c.Name})
		return tx.Record(ctx, "", fleet.Entry{Kind: "check.created", Text: fmt.Sprintf("The check %s is made.", c.Name), Cause: fleet.Because("a person created it")})
	})
	return row.check(), err
}

// ChangeCheck lets f change a check that is at the revision (ErrStale
// otherwise); it applies to all that use it.
func (s *Store) ChangeCheck(ctx context.Context, now time.Time, actor, name string, revision int64, f func(*Check) (why fleet.Cause, err error)) (Check, error) {
	var row checkRow
	err := s.Change(ctx, now, actor, func(tx *Tx) (err error) {
		if row, err = one[checkRow](ctx, tx, `select `+checkColumns+` from checks where name = $1 for update`, name); err != nil {
			return err
		}
		if revision != AnyRevision && row.Revision != revision {
			return ErrStale
		}
		c := row.check()
		why, err := f(&c)
		if err != nil {
			return err
		}
		row, err = one[checkRow](ctx, tx, `update checks set kind = $2, port = $3, path = $4, interval_ms = $5, timeout_ms = $6, passes = $7, fails = $8,
			host = $9, statuses = $10, body_text = $11, service = $12, verify = $13, labels = $14, revision = revision + 1 where name = $1 returning `+checkColumns,
			name, string(c.Kind), c.Port, c.Path, millis(c.Interval), millis(c.Timeout), c.Passes, c.Fails, c.Host, c.Statuses, c.Text, c.Service, c.Verify, notNilMap(c.Labels))
		if err != nil {
			return err
		}
		tx.touch(Touched{Kind: OfCheck, Name: name})
		return tx.Record(ctx, "", fleet.Entry{Kind: "check.changed", Text: fmt.Sprintf("The check %s asks otherwise.", name), Cause: why})
	})
	return row.check(), err
}

// CheckUsers returns the pools and groups that a check judges.
func (s *Store) CheckUsers(ctx context.Context, name string) (pools, groups []string, err error) {
	err = s.q.QueryRow(ctx, `select coalesce((select array_agg(name order by name) from pools where "check" = $1), '{}'),
		coalesce((select array_agg(name order by name) from groups g where heal = $1
			or exists (select 1 from group_pools gp join pools p on p.name = gp.pool where gp.group_name = g.name and p."check" = $1)), '{}')`, name).Scan(&pools, &groups)
	return pools, groups, err
}

// Checks lists checks by name.
func (s *Store) Checks(ctx context.Context, p Page) ([]Check, error) {
	rows, err := many[checkRow](ctx, s.q, `select `+checkColumns+` from checks where name > $1 order by name limit $2`, nameCursor(p.After), p.Limit)
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
func (s Reader) Check(ctx context.Context, name string) (Check, error) {
	row, err := one[checkRow](ctx, s.q, `select `+checkColumns+` from checks where name = $1`, name)
	return row.check(), err
}

// DeleteCheck removes a check that is at the revision and that nothing uses; it
// returns *[InUse] otherwise.
func (s *Store) DeleteCheck(ctx context.Context, now time.Time, actor, name string, revision int64) error {
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		row, err := one[checkRow](ctx, tx, `select `+checkColumns+` from checks where name = $1 for update`, name)
		if err != nil {
			return err
		}
		if revision != AnyRevision && row.Revision != revision {
			return ErrStale
		}
		var users []string
		if err := tx.QueryRow(ctx, `select coalesce(array_agg(u order by u), '{}') from (select 'the pool ' || name as u from pools where "check" = $1
			union select 'the group ' || name from groups where heal = $1) x`, name).Scan(&users); err != nil {
			return err
		}
		if len(users) > 0 {
			return &InUse{"the check " + name, users}
		}
		if _, err := tx.Exec(ctx, `delete from checks where name = $1`, name); err != nil {
			return err
		}
		tx.touch(Touched{Kind: OfCheck, Name: name})
		return tx.Record(ctx, "", fleet.Entry{Kind: "check.deleted", Text: fmt.Sprintf("The check %s is deleted.", name), Cause: fleet.Because("a person asked for it")})
	})
}
