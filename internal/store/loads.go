package store

import (
	"context"
	"errors"
	"slices"

	"github.com/jackc/pgx/v5"
)

// Loaded is all of one group that its decisions rest on.
type Loaded struct {
	Group     Group
	Instances []Instance // those that are not gone
	Rollout   *Rollout   // the live one
}

// Load reads a group with its instances and live rollout at one moment.
func (s *Store) Load(ctx context.Context, name string) (Loaded, error) {
	return s.load(ctx, name, true)
}

// LoadHead is [Store.Load] without the instances, for whoever knows them already.
func (s *Store) LoadHead(ctx context.Context, name string) (Loaded, error) {
	return s.load(ctx, name, false)
}

func (s *Store) load(ctx context.Context, name string, withInstances bool) (Loaded, error) {
	var l Loaded
	err := s.look(ctx, func(tx pgx.Tx) error {
		row, err := one[groupRow](ctx, tx, groupQuery+`where g.name = $1`, name)
		if err != nil {
			return err
		}
		l.Group = row.group()
		if withInstances {
			if l.Instances, err = present(ctx, tx, name); err != nil {
				return err
			}
		}
		ro, err := one[rolloutRow](ctx, tx, `select `+rolloutColumns+` from rollouts where group_name = $1 and ended_at is null`, name)
		if errors.Is(err, ErrNotFound) {
			return nil
		}
		r := ro.rollout()
		l.Rollout = &r
		return err
	})
	return l, err
}

// present are the instances of a group that are not gone.
func present(ctx context.Context, q querier, group string) ([]Instance, error) {
	return instances(many[instanceRow](ctx, q, `select `+instanceColumns+` from instances
		where group_name = $1 and state <> 'gone' order by serial`, group))
}

// LoadAll reads groups by name, with their instances and live rollouts, at one
// moment and in three queries however many there are. The instances of groups that
// are known are left out.
func (s *Store) LoadAll(ctx context.Context, p Page, known func(group string) bool) ([]Loaded, error) {
	var all []Loaded
	err := s.look(ctx, func(tx pgx.Tx) error {
		rows, err := many[groupRow](ctx, tx, groupQuery+`where g.name > $1 and not alone order by g.name limit $2`, nameCursor(p.After), p.Limit)
		if err != nil {
			return err
		}
		at := map[string]int{}
		names := make([]string, len(rows))
		for i, r := range rows {
			all = append(all, Loaded{Group: r.group()})
			at[r.Name], names[i] = i, r.Name
		}
		ins, err := instances(many[instanceRow](ctx, tx, `select `+instanceColumns+` from instances
			where group_name = any($1) and state <> 'gone' order by group_name, serial`, slices.DeleteFunc(slices.Clone(names), known)))
		if err != nil {
			return err
		}
		for _, in := range ins {
			l := &all[at[in.Group]]
			l.Instances = append(l.Instances, in)
		}
		live, err := many[rolloutRow](ctx, tx, `select `+rolloutColumns+` from rollouts where group_name = any($1) and ended_at is null`, names)
		for _, row := range live {
			r := row.rollout()
			all[at[r.Group]].Rollout = &r
		}
		return err
	})
	return all, err
}
