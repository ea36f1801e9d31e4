package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// Replica is a service on this database.
type Replica struct {
	ID       string // stays the same when it is started again
	Name     string // that a person gave it
	Address  string // of its interface, http://address:port
	Version  string
	Since    time.Time // started
	Until    time.Time // its lease lasts
	Stopping bool      // it ends, and only lets its requests end before
	Groups   int       // that it keeps
	Keeps    []string  // the names of at most a hundred of them
}

// ErrOutdated is that tables were changed under a service that looked at them before.
var ErrOutdated = errors.New("a later release changed the tables meanwhile, and this one cannot use them any more; stop it")

// Renew keeps the replica alive for ttl, and returns all that are.
func (s *Store) Renew(ctx context.Context, r Replica, ttl time.Duration) (alive []string, err error) {
	tag, err := s.leasing.Exec(ctx, `insert into replicas (id, name, address, version, since, until, stopping, knows)
		select $1, $2, $3, $4, $5, now() + $6::interval, $7, $8 where not exists (select 1 from needs where oldest > $8)
		on conflict (id) do update set name = excluded.name, address = excluded.address, version = excluded.version, since = excluded.since, until = excluded.until,
			stopping = excluded.stopping, knows = excluded.knows`,
		r.ID, r.Name, r.Address, r.Version, r.Since, ttl, r.Stopping, s.knows)
	if err != nil {
		return nil, err
	}
	if tag.RowsAffected() == 0 {
		return nil, ErrOutdated
	}
	// A clock that was set back would let a dead one live on.
	if _, err := s.leasing.Exec(ctx, `update replicas set until = now() + $1::interval where until > now() + $1::interval`, ttl); err != nil {
		return nil, err
	}
	rows, err := s.leasing.Query(ctx, `select id from replicas where until > now()`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// share is how many groups a replica keeps at most, when they are spread evenly.
const share = `(select ceil(count(*)::numeric / greatest(1, (select count(*) from replicas where until > now() and not stopping)))::integer from groups)`

// Lease takes groups that nobody decides for or that a dead replica had, up to the
// replica's share, or, with again, all that this replica had before it was started
// again. Each gets the next epoch. It returns their names.
func (s *Store) Lease(ctx context.Context, replica string, again bool) ([]string, error) {
	rows, err := s.leasing.Query(ctx, `with free as (
			select name from groups where replica is null or not exists (select 1 from replicas r where r.id = groups.replica and r.until > now())
			order by name limit greatest(0, `+share+` - (select count(*) from groups where replica = $1)) for update skip locked),
		taken as (update groups set replica = $1, epoch = epoch + 1
			where name in (select name from free) or ($2 and replica = $1) returning name),
		told as (insert into outbox (kind, group_name, origin, data) select 'lease', name, $1, '{}' from taken
			where (select count(*) from replicas where until > now()) > 1)
		select name from taken`, replica, again)
	if err != nil {
		return nil, err
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if len(names) > 0 && err == nil {
		s.wake(nil)
	}
	return names, err
}

// Leased are the groups that the replica has by the records, with the epochs of
// their leases, and those that are over its share. A group with a rollout under way is
// over it last.
func (s *Store) Leased(ctx context.Context, replica string) (epochs map[string]int64, surplus []string, err error) {
	rows, err := s.leasing.Query(ctx, `select name, epoch, row_number() over (
			order by exists (select 1 from rollouts where group_name = name and ended_at is null) desc, name) > `+share+` as over
		from groups where replica = $1`, replica)
	if err != nil {
		return nil, nil, err
	}
	type lease struct {
		Name  string
		Epoch int64
		Over  bool
	}
	leases, err := pgx.CollectRows(rows, pgx.RowToStructByName[lease])
	epochs = make(map[string]int64, len(leases))
	for _, l := range leases {
		epochs[l.Name] = l.Epoch
		if l.Over {
			surplus = append(surplus, l.Name)
		}
	}
	return epochs, surplus, err
}

// GiveUp gives up one lease, unless it is another by now.
func (s *Store) GiveUp(ctx context.Context, replica, group string, epoch int64) error {
	return s.Change(ctx, time.Now().UTC(), Service, func(tx *Tx) error {
		tag, err := tx.Exec(ctx, `update groups set replica = null where name = $1 and replica = $2 and epoch = $3`, group, replica, epoch)
		if err == nil && tag.RowsAffected() > 0 {
			tx.touch(Touched{Kind: OfLease, Name: group})
		}
		return err
	})
}

// Resign gives up all leases of the replica, which takes none any more, but stays known: whoever
// keeps a group asks it before a machine is stopped.
func (s *Store) Resign(ctx context.Context, replica string) error {
	_, err := s.leasing.Exec(ctx, `with ends as (update replicas set stopping = true where id = $1),
		free as (update groups set replica = null where replica = $1 returning name)
		insert into outbox (kind, group_name, origin, data) select 'lease', name, $1, '{}' from free
			where exists (select 1 from replicas where id <> $1 and until > now())`, replica)
	if err == nil {
		_, err = s.leasing.Exec(ctx, `select number_events()`)
	}
	return err
}

// Release gives up all leases of the replica, so that another need not wait.
func (s *Store) Release(ctx context.Context, replica string) error {
	_, err := s.leasing.Exec(ctx, `with gone as (delete from replicas where id = $1),
		free as (update groups set replica = null where replica = $1 returning name)
		insert into outbox (kind, group_name, origin, data) select 'lease', name, $1, '{}' from free
			where exists (select 1 from replicas where id <> $1 and until > now())`, replica)
	if err == nil {
		_, err = s.leasing.Exec(ctx, `select number_events()`) // nobody else may be there to
	}
	return err
}

// Replicas are all that are alive, with those whose lease ran out within the last hour.
func (s *Store) Replicas(ctx context.Context) ([]Replica, error) {
	return many[Replica](ctx, s.q, `select id, name, address, version, since, until, stopping,
		(select count(*) from groups where replica = r.id)::integer as groups,
		array(select name from groups where replica = r.id order by name limit 100) as keeps
		from replicas r where until > now() - interval '1 hour' order by name, id`)
}

// KeptBy is the replica that has the lease of a group, alive or not; ErrNotFound when none
// has.
func (s *Store) KeptBy(ctx context.Context, group string) (Replica, error) {
	return one[Replica](ctx, s.q, `select r.id, r.name, address, version, since, until, stopping, 0 as groups, array[]::text[] as keeps
		from groups g join replicas r on r.id = g.replica where g.name = $1`, group)
}

// Quiet says that a target, closed at Since, has no request at a replica any more.
type Quiet struct {
	Instance string    `json:"instance"`
	Group    string    `json:"group"`
	Since    time.Time `json:"since"`
}

// TellQuiet tells whoever keeps the groups of quiet targets, and returns the epochs of
// their leases.
func (s *Store) TellQuiet(ctx context.Context, quiet []Quiet) (epochs map[string]int64, err error) {
	epochs = map[string]int64{}
	err = s.Change(ctx, time.Now().UTC(), Service, func(tx *Tx) error {
		var batch pgx.Batch
		groups := make([]string, len(quiet))
		for i, q := range quiet {
			groups[i] = q.Group
			batch.Queue(`insert into outbox (at, kind, group_name, origin, data) values ($1, $2, $3, $4, $5)`, tx.Now, OfQuiet, q.Group, s.origin, q)
		}
		if err := tx.SendBatch(ctx, &batch).Close(); err != nil {
			return err
		}
		type lease struct {
			Name  string
			Epoch int64
		}
		leases, err := many[lease](ctx, tx, `select name, epoch from groups where name = any($1)`, groups)
		for _, l := range leases {
			epochs[l.Name] = l.Epoch
		}
		return err
	})
	return epochs, err
}
