package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"unitas/internal/fleet"
)

// Mark is a movable name on one version.
type Mark struct {
	Mark    string
	Version int
}

// MarkMove is one line of a mark's history; a version of 0 is none.
type MarkMove struct {
	Mark        string
	FromVersion int
	ToVersion   int
	At          time.Time
	Actor       string
}

// Resolve returns the number that a mark is on, of an image or a template.
func (s Reader) Resolve(ctx context.Context, kind, name, mark string) (n int, err error) {
	type row struct{ Version int }
	r, err := one[row](ctx, s.q, `select version from marks where kind = $1 and name = $2 and mark = $3`, kind, name, mark)
	return r.Version, err
}

// Marks lists the marks under a name, and their history, newest first.
func (s *Store) Marks(ctx context.Context, kind, name string) ([]Mark, []MarkMove, error) {
	marks, err := many[Mark](ctx, s.q, `select mark, version from marks where kind = $1 and name = $2 order by mark`, kind, name)
	if err != nil {
		return nil, nil, err
	}
	moves, err := many[MarkMove](ctx, s.q, `select mark, from_version, to_version, at, actor from mark_moves
		where kind = $1 and name = $2 order by number desc limit 1000`, kind, name)
	return marks, moves, err
}

// SetMark moves a mark to a version, or takes it away when the version is 0.
// ErrNotFound is for a version, or a mark to take away, that is not there.
func (s *Store) SetMark(ctx context.Context, now time.Time, actor, kind string, v fleet.Version, mark string) error {
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		if v.N == 0 {
			return tx.moveMark(ctx, kind, v.Name, mark, 0)
		}
		table := map[string]string{"image": "images", "template": "templates"}[kind]
		type row struct{ State string }
		r, err := one[row](ctx, tx, `select state from `+table+` where name = $1 and version = $2 for share`, v.Name, v.N)
		if err != nil {
			return err
		}
		if r.State == Broken || r.State == Baking {
			return &fleet.Refusal{Text: fmt.Sprintf("the image %s is %s; only one that can be used is marked", v, r.State)}
		}
		return tx.moveMark(ctx, kind, v.Name, mark, v.N)
	})
}

func (tx *Tx) moveMark(ctx context.Context, kind, name, mark string, to int) error {
	m, err := one[Mark](ctx, tx, `select mark, version from marks where kind = $1 and name = $2 and mark = $3 for update`, kind, name, mark)
	switch {
	case errors.Is(err, ErrNotFound) && to == 0:
		return ErrNotFound
	case err != nil && !errors.Is(err, ErrNotFound):
		return err
	case m.Version == to:
		return nil
	}
	if to == 0 {
		_, err = tx.Exec(ctx, `delete from marks where kind = $1 and name = $2 and mark = $3`, kind, name, mark)
	} else {
		_, err = tx.Exec(ctx, `insert into marks (kind, name, mark, version) values ($1, $2, $3, $4)
			on conflict (kind, name, mark) do update set version = excluded.version`, kind, name, mark, to)
	}
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `insert into mark_moves (kind, name, mark, from_version, to_version, at, actor) values ($1, $2, $3, $4, $5, $6, $7)`,
		kind, name, mark, m.Version, to, tx.Now, tx.Actor); err != nil {
		return err
	}
	text := fmt.Sprintf("The mark %s of the %s %s is on %d, and was on %d.", mark, kind, name, to, m.Version)
	switch {
	case to == 0:
		text = fmt.Sprintf("The mark %s of the %s %s is taken away from %d.", mark, kind, name, m.Version)
	case m.Version == 0:
		text = fmt.Sprintf("The mark %s of the %s %s is on %d.", mark, kind, name, to)
	}
	return tx.Record(ctx, "", fleet.Entry{Kind: kind + ".marked", Text: text, Cause: fleet.Because("a person moved it"),
		Numbers: fleet.Numbers{fleet.Measured("from", m.Version), fleet.Measured("to", to)}})
}

// dropMarks takes the marks off a version that is about to go.
func (tx *Tx) dropMarks(ctx context.Context, kind string, v fleet.Version) error {
	marks, err := many[Mark](ctx, tx, `select mark, version from marks where kind = $1 and name = $2 and version = $3`, kind, v.Name, v.N)
	for _, m := range marks {
		err = errors.Join(err, tx.moveMark(ctx, kind, v.Name, m.Mark, 0))
	}
	return err
}
