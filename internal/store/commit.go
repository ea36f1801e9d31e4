package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/fleet"
)

// Commit is one decision to be written.
type Commit struct {
	Group      string
	Epoch      int64 // that the decision was made under
	Generation int64 // that it was made against
	Changed    []Instance
	Book       *fleet.Group // with its changed book and template, or nil
	Rollout    *fleet.Rollout
	Finished   bool
	// Mark is what the record of the group keeps of this commit ([Group.Written]).
	Mark string
	// Shift is by how much the clock was set that times were written by until now.
	Shift   time.Duration
	Entries []fleet.Entry
}

// Commit writes a decision in one transaction. It returns ErrStale, with
// nothing written, when the group changed since the decision's view was
// loaded or another replica decides for it now.
func (s *Store) Commit(ctx context.Context, now time.Time, c Commit) error {
	return s.Change(ctx, now, Service, func(tx *Tx) error {
		tag, err := tx.Exec(ctx, `update groups set generation = generation + 1, written = $4 where name = $1 and epoch = $2 and generation = $3`,
			c.Group, c.Epoch, c.Generation, c.Mark)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrStale
		}
		if err := tx.writeInstances(ctx, c.Group, c.Changed); err != nil {
			return err
		}
		if g := c.Book; g != nil {
			if _, err := tx.Exec(ctx, writeBook, values(rowOfGroup(Group{Group: *g}))); err != nil {
				return err
			}
		}
		if c.Rollout != nil {
			if err := tx.writeRollout(ctx, *c.Rollout); err != nil {
				return err
			}
		}
		if c.Shift != 0 {
			if _, err := tx.Exec(ctx, `update runs set from_at = from_at + $2::interval where group_name = $1 and until_at is null`, c.Group, c.Shift); err != nil {
				return err
			}
		}
		if c.Finished {
			if _, err := tx.Exec(ctx, `with g as (delete from groups where name = $1 returning name, next_serial, alone)
				insert into serials (group_name, next) select name, next_serial from g where not alone
				on conflict (group_name) do update set next = excluded.next, at = now()`, c.Group); err != nil {
				return err
			}
		}
		tx.touch(Touched{Kind: OfGroup, Name: c.Group, Decided: true})
		return tx.Record(ctx, c.Group, c.Entries...)
	})
}

func (tx *Tx) writeInstances(ctx context.Context, group string, changed []Instance) error {
	var batch pgx.Batch
	for _, in := range changed {
		in.Group = group
		batch.Queue(writeInstance, values(rowOfInstance(in)))
		switch {
		case (in.State == fleet.HeldIn || in.State == fleet.Settling || in.State == fleet.Serving) && !in.Up.IsZero():
			batch.Queue(`insert into runs (instance, group_name, zone, labels, price_per_hour, from_at)
				select i.id, i.group_name, i.zone, t.labels || g.labels, coalesce((t.zone_prices->>i.zone)::float8, t.price_per_hour), i.up_at
				from instances i join groups g on g.name = i.group_name join templates t on t.name = i.template and t.version = i.template_version
				where i.id = $1 on conflict (instance) where until_at is null do nothing`, in.ID)
		case in.State == fleet.Gone, in.State == fleet.Lost, in.State == fleet.Ordered:
			batch.Queue(`update runs set until_at = $2 where instance = $1 and until_at is null`, in.ID, in.Since)
		}
	}
	if batch.Len() == 0 {
		return nil
	}
	return tx.SendBatch(ctx, &batch).Close()
}

func notNil[T any](s []T) []T {
	if s == nil {
		return []T{}
	}
	return s
}

// NextAddresses draws n numbers for addresses of which no two are the same modulo span,
// nor one that of an instance that is not gone. It returns an error when there are not
// so many.
func (s *Store) NextAddresses(ctx context.Context, n int, span int64) ([]int64, error) {
	var free []int64
	for tried := int64(0); len(free) < n; {
		if tried >= span {
			return nil, fmt.Errorf("all %d addresses that machines may have here are taken", span)
		}
		draw := min(int64(n-len(free)), span-tried)
		tried += draw
		rows, err := s.q.Query(ctx, `with drawn as materialized (select nextval('addresses') as number from generate_series(1, $1::bigint))
			select number from drawn where number % $2 not in (select address_number % $2 from instances where living_template is not null)`, draw, span)
		if err != nil {
			return nil, err
		}
		more, err := pgx.CollectRows(rows, pgx.RowTo[int64])
		if err != nil {
			return nil, err
		}
		free = append(free, more...)
	}
	return free, nil
}
