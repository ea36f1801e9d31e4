package store

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/words"
)

// Check is a health check with its bookkeeping.
type Check struct {
	health.Check
	Labels    map[string]string
	Revision  int64
	CreatedAt time.Time
	Changes   []string // what its last change made otherwise, told to who made it
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

var (
	checkFields  = columnsOf[checkRow]()
	checkColumns = checkFields.list("")
	insertCheck  = checkFields.but("revision").insert("checks") + ` returning ` + checkColumns
	updateCheck  = `update checks set ` + checkFields.but("name", "revision", "created_at").assigned() + `, revision = revision + 1 where name = @name returning ` + checkColumns
)

func rowOfCheck(c Check) checkRow {
	return checkRow{
		Name: c.Name, Kind: string(c.Kind), Port: c.Port, Path: c.Path, IntervalMs: millis(c.Interval), TimeoutMs: millis(c.Timeout), Passes: c.Passes, Fails: c.Fails,
		Host: c.Host, Statuses: cmp.Or(c.Statuses, "200-299"), BodyText: c.Text, Service: c.Service, Verify: c.Verify, Labels: c.Labels, Revision: c.Revision, CreatedAt: c.CreatedAt,
	}
}

// AddCheck records a check.
func (s *Store) AddCheck(ctx context.Context, now time.Time, actor string, c Check) (Check, error) {
	var row checkRow
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		var err error
		c.CreatedAt = now
		row, err = one[checkRow](ctx, tx, insertCheck, values(rowOfCheck(c)))
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
	var changes words.Differences
	err := s.Change(ctx, now, actor, func(tx *Tx) (err error) {
		if row, err = one[checkRow](ctx, tx, `select `+checkColumns+` from checks where name = $1 for update`, name); err != nil {
			return err
		}
		if revision != AnyRevision && row.Revision != revision {
			return ErrStale
		}
		c := row.check()
		was := c
		why, err := f(&c)
		if err != nil {
			return err
		}
		row, err = one[checkRow](ctx, tx, updateCheck, values(rowOfCheck(c)))
		if err != nil {
			return err
		}
		changes = was.Differences(c.Check)
		changes.Note("labels", labelWords(was.Labels), labelWords(c.Labels))
		tx.touch(Touched{Kind: OfCheck, Name: name})
		return tx.Record(ctx, "", fleet.Entry{Kind: "check.changed", Text: otherwise("The check "+name+" asks otherwise", changes), Cause: why})
	})
	c := row.check()
	c.Changes = changes
	return c, err
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
