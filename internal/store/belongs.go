package store

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
)

// Directory is a data directory, where the machines of a database are.
type Directory struct {
	ID         string
	Path, Host string
	Machines   []string // the names of those that it has
	// Moved has it take the place of the one before, which is gone.
	Moved bool
}

// Belong notes that the machines of the database are in the data directory, or refuses in words when
// they are in another: a service with the wrong one would find none of them, and call them lost. A
// database that says of none belongs to the first whose machines are among its records; to the first
// of all when it has no instances.
func (s *Store) Belong(ctx context.Context, d Directory) error {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `lock table belongs in exclusive mode`); err != nil {
			return err
		}
		var id, path, host string
		err := tx.QueryRow(ctx, `select directory, path, host from belongs`).Scan(&id, &path, &host)
		switch {
		case errors.Is(err, pgx.ErrNoRows):
			if err := d.fits(ctx, tx); err != nil {
				return err
			}
		case err != nil:
			return err
		case id != d.ID:
			if !d.Moved {
				return fmt.Errorf("the machines of this database are in the data directory %s on %s, and this service has %s on %s: it would find none of them. Give it that directory, or another database; if that one is gone and this one takes its place, start with --moved", path, host, d.Path, d.Host)
			}
			if err := nobodyUp(ctx, tx); err != nil {
				return err
			}
		}
		_, err = tx.Exec(ctx, `insert into belongs (directory, path, host) values ($1, $2, $3)
			on conflict (one) do update set directory = $1, path = $2, host = $3, since = case when belongs.directory = $1 then belongs.since else now() end
			where belongs.directory <> $1 or belongs.path <> $2 or belongs.host <> $3`, d.ID, d.Path, d.Host)
		return err
	})
}

// fits refuses a directory of whose machines none is among the records, though there are some.
func (d Directory) fits(ctx context.Context, tx pgx.Tx) error {
	var live, here int
	err := tx.QueryRow(ctx, `select count(*), count(*) filter (where id = any($1)) from instances where state not in ('gone', 'ordered')`, notNil(d.Machines)).Scan(&live, &here)
	if err != nil || live == 0 || here > 0 || d.Moved {
		return err
	}
	return fmt.Errorf("this database has %d instances, and the data directory %s has the machine of none of them. Give the service the directory that it had before, or another database; if that one is gone and this one takes its place, start with --moved", live, d.Path)
}

// nobodyUp refuses while a service is up that may have the machines.
func nobodyUp(ctx context.Context, tx pgx.Tx) error {
	var name, address string
	err := tx.QueryRow(ctx, `select name, address from replicas where until > now() order by name limit 1`).Scan(&name, &address)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	return fmt.Errorf("the service %s at %s is up, and has the machines of this database; stop it before another data directory takes the place of its own", name, address)
}
