package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
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
