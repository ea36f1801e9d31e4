package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/fleet"
)

// Restored is when the records are of that were restored, and when that was; nothing is done to machines
// until a person says that it may be.
type Restored struct{ Taken, At time.Time }

// Restored returns it, or nil once it is over or never was.
func (s *Store) Restored(ctx context.Context) (*Restored, error) {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	var r Restored
	err := s.q.QueryRow(ctx, `select taken, at from restored`).Scan(&r.Taken, &r.At)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	return &r, err
}

// Resume ends that restored records are only looked at. It returns [ErrNotFound] when they are not.
func (s *Store) Resume(ctx context.Context, now time.Time, actor, reason string) error {
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		tag, err := tx.Exec(ctx, `delete from restored`)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		if _, err := tx.Exec(ctx, `update needs set oldest = 17, release = 'v0.1.0' where migration = $1`, restoring); err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "service.resumed", Text: "What the restored records ask for is done to machines again.", Cause: fleet.Asked(reason)})
	})
}

// How far is passed over what may have been given away after the records were written: serials, and
// numbers of addresses.
const (
	serialsPassed   = 100
	addressesPassed = 500
)

// restoring is the change of the tables that releases know which only look at restored records; one before
// would act, and is kept out meanwhile.
const restoring = 21

// Restore has records that were just loaded be those of a data directory: of no service that was up
// then, under leases that are newer than any, with names and addresses that nobody was given since.
// Notices that waited then are not sent. Until [Store.Resume] nothing is done to machines.
func (s *Store) Restore(ctx context.Context, taken time.Time, d Directory) error {
	now := time.Now().UTC()
	err := s.Change(ctx, now, Service, func(tx *Tx) error {
		for _, change := range []string{
			`delete from replicas`,
			`delete from belongs`,
			`delete from gathered`,
			`delete from messages where state = 'waiting'`,
			fmt.Sprintf(`update serials set next = next + %d`, serialsPassed),
			fmt.Sprintf(`update groups set next_serial = next_serial + case when next_serial = 0 then 0 else %d end, replica = null, epoch = greatest(epoch + 1, extract(epoch from now())::bigint)`, serialsPassed),
			fmt.Sprintf(`select setval('addresses', nextval('addresses') + %d)`, addressesPassed),
		} {
			if _, err := tx.Exec(ctx, change); err != nil {
				return fmt.Errorf("take over the records: %w", err)
			}
		}
		if _, err := tx.Exec(ctx, `update needs set oldest = migration, release = 'v0.2.0' where migration = $1`, restoring); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into belongs (directory, path, host) values ($1, $2, $3)`, d.ID, d.Path, d.Host); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into restored (taken, at) values ($1, $2) on conflict (one) do update set taken = $1, at = $2`, taken, now); err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "service.restored", Text: fmt.Sprintf("The records are those of %s again; nothing is done to machines until a person says so.", taken.UTC().Format("2006-01-02 15:04:05 UTC")), Cause: fleet.Because("a backup was restored")})
	})
	return err
}

// Living is what a record says of a machine that should be there.
type Living struct {
	Template string
	Launch   int
}

// Living are the instances that should have machines, by name.
func (s *Store) Living(ctx context.Context) (map[string]Living, error) {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	rows, err := s.q.Query(ctx, `select id, template || '@' || template_version, launch from instances where living_template is not null and state <> 'ordered'`)
	if err != nil {
		return nil, err
	}
	all := map[string]Living{}
	var id string
	var l Living
	_, err = pgx.ForEachRow(rows, []any{&id, &l.Template, &l.Launch}, func() error {
		all[id] = l
		return nil
	})
	return all, err
}
