package store

import (
	"context"
	"crypto/sha256"
	"errors"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/fleet"
)

// Renew keeps the replica alive for ttl.
func (s *Store) Renew(ctx context.Context, replica string, ttl time.Duration) error {
	_, err := s.leasing.Exec(ctx, `insert into replicas (id, until) values ($1, now() + $2::interval)
		on conflict (id) do update set until = excluded.until`, replica, ttl)
	return err
}

// Lease takes the groups that nobody decides for, that a dead replica had, or,
// with all, that this replica had before it was started again. Each gets the
// next epoch. It returns their names.
func (s *Store) Lease(ctx context.Context, replica string, all bool) ([]string, error) {
	rows, err := s.leasing.Query(ctx, `update groups set replica = $1, epoch = epoch + 1
		where replica is null or (replica = $1 and $2)
		or (replica <> $1 and not exists (select 1 from replicas r where r.id = groups.replica and r.until > now()))
		returning name`, replica, all)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Leased are the groups that the replica has by the records, with the epochs of
// their leases.
func (s *Store) Leased(ctx context.Context, replica string) (map[string]int64, error) {
	rows, err := s.leasing.Query(ctx, `select name, epoch from groups where replica = $1`, replica)
	if err != nil {
		return nil, err
	}
	type lease struct {
		Name  string
		Epoch int64
	}
	leases, err := pgx.CollectRows(rows, pgx.RowToStructByName[lease])
	out := make(map[string]int64, len(leases))
	for _, l := range leases {
		out[l.Name] = l.Epoch
	}
	return out, err
}

// Release gives up all leases of the replica, so that another need not wait.
func (s *Store) Release(ctx context.Context, replica string) error {
	_, err := s.leasing.Exec(ctx, `with gone as (delete from replicas where id = $1) update groups set replica = null where replica = $1`, replica)
	return err
}

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

// NextAddresses draws n address numbers that were not drawn before.
func (s *Store) NextAddresses(ctx context.Context, n int) ([]int64, error) {
	rows, err := s.q.Query(ctx, `select nextval('addresses') from generate_series(1, $1)`, n)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// Commit is one decision to be written.
type Commit struct {
	Group      string
	Epoch      int64 // that the decision was made under
	Generation int64 // that it was made against
	Changed    []Instance
	Book       *fleet.Group // with its changed book and template, or nil
	Rollout    *fleet.Rollout
	Finished   bool
	Entries    []fleet.Entry
}

// Commit writes a decision in one transaction. It returns ErrStale, with
// nothing written, when the group changed since the decision's view was
// loaded or another replica decides for it now.
func (s *Store) Commit(ctx context.Context, now time.Time, c Commit) error {
	return s.Change(ctx, now, Service, func(tx *Tx) error {
		tag, err := tx.Exec(ctx, `update groups set generation = generation + 1 where name = $1 and epoch = $2 and generation = $3`,
			c.Group, c.Epoch, c.Generation)
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
			if _, err := tx.Exec(ctx, `update groups set next_serial = $2, setbacks = $3, template = $4, template_version = $5,
				heal_stopped_at = $6, slots = $7, revision = revision + case when template_version <> $5 or template <> $4 then 1 else 0 end where name = $1`,
				c.Group, g.NextSerial, notNil(g.Setbacks), g.Template.Name, g.Template.N, pointer(g.HealStopped), notNil(g.Slots)); err != nil {
				return err
			}
		}
		if c.Rollout != nil {
			if err := tx.writeRollout(ctx, *c.Rollout); err != nil {
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
		return tx.Record(ctx, c.Group, c.Entries...)
	})
}

func (tx *Tx) writeInstances(ctx context.Context, group string, changed []Instance) error {
	var batch pgx.Batch
	for _, in := range changed {
		batch.Queue(`insert into instances (id, group_name, serial, zone, template, template_version, state, since, cause, address,
			address_number, pinned, ordered_at, up_at, served_at, reports, overrides, renew, slot, purpose, launch)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20, $21)
			on conflict (id) do update set state = excluded.state, since = excluded.since, cause = excluded.cause, launch = excluded.launch, up_at = excluded.up_at,
			served_at = excluded.served_at, reports = excluded.reports, pinned = excluded.pinned, renew = excluded.renew, ordered_at = excluded.ordered_at, revision = instances.revision + 1`,
			in.ID, group, in.Serial, in.Zone, in.Version.Name, in.Version.N, string(in.State), in.Since, in.Cause, in.Address,
			in.AddressNumber, in.Pinned, in.Ordered, pointer(in.Up), pointer(in.Served), notNil(in.Reports), in.Overrides, in.Renew, in.Slot, string(in.Purpose), in.Launch)
		switch {
		case (in.State == fleet.Settling || in.State == fleet.Serving) && !in.Up.IsZero():
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

// AddToken records a bearer token by its SHA-256 hash.
func (s *Store) AddToken(ctx context.Context, name, token string) error {
	hash := sha256.Sum256([]byte(token))
	_, err := s.q.Exec(ctx, `insert into tokens (name, hash) values ($1, $2)
		on conflict (name) do update set hash = excluded.hash, created_at = now()`, name, hash[:])
	return err
}

// Tokens is how many tokens there are.
func (s *Store) Tokens(ctx context.Context) (n int, err error) {
	err = s.q.QueryRow(ctx, `select count(*) from tokens`).Scan(&n)
	return n, err
}

// TokenName returns whose token it is, or ErrNotFound.
func (s *Store) TokenName(ctx context.Context, token string) (string, error) {
	hash := sha256.Sum256([]byte(token))
	var name string
	err := s.q.QueryRow(ctx, `select name from tokens where hash = $1`, hash[:]).Scan(&name)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return name, err
}

// Repeat is a creation that was asked for under a key before.
type Repeat struct {
	Fingerprint []byte
	Status      *int // nil while the first is still being answered
	Body        []byte
}

// BeginRepeat records the key, or returns what was recorded under it in the
// last day. A first request that was not heard of for a minute frees its key; see
// [Store.KeepRepeat].
func (s *Store) BeginRepeat(ctx context.Context, token, key string, fingerprint []byte) (before *Repeat, err error) {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `delete from repeats where token = $1 and key = $2 and (created_at < now() - interval '1 day'
			or (status is null and created_at < now() - interval '1 minute'))`, token, key); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `insert into repeats (token, key, fingerprint) values ($1, $2, $3) on conflict do nothing`, token, key, fingerprint)
		if err != nil || tag.RowsAffected() == 1 {
			return err
		}
		r, err := one[Repeat](ctx, tx, `select fingerprint, status, body from repeats where token = $1 and key = $2`, token, key)
		before = &r
		return err
	})
	return before, err
}

// KeepRepeat says that the first request under a key is still being answered.
func (s *Store) KeepRepeat(ctx context.Context, token, key string) error {
	_, err := s.q.Exec(ctx, `update repeats set created_at = now() where token = $1 and key = $2 and status is null`, token, key)
	return err
}

// EndRepeat records the answer to the first request under a key with what it was, or
// frees the key when the request was not carried out.
func (s *Store) EndRepeat(ctx context.Context, token, key string, status int, fingerprint, body []byte) error {
	var err error
	if status >= 200 && status < 300 {
		_, err = s.q.Exec(ctx, `update repeats set status = $3, fingerprint = $4, body = $5 where token = $1 and key = $2`, token, key, status, fingerprint, body)
	} else {
		_, err = s.q.Exec(ctx, `delete from repeats where token = $1 and key = $2`, token, key)
	}
	return err
}
