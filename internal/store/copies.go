package store

import (
	"context"
	"fmt"
	"time"

	"unitas/internal/fleet"
)

// Copy is the bringing of an image version to another region.
type Copy struct {
	Name       string
	Version    int
	Region     string
	FromRegion string
	State      string // copying, done, failed or stopped
	DoneBytes  int64
	TotalBytes int64
	Why        string
	Actor      string
	Replica    string
	BeganAt    time.Time
	EndedAt    *time.Time
}

// The states of a copy.
const (
	Copying     = "copying"
	CopyDone    = "done"
	CopyFailed  = "failed"
	CopyStopped = "stopped"
)

const copyColumns = `name, version, region, from_region, state, done_bytes, total_bytes, why, actor, replica, began_at, ended_at`

// BeginCopy records a copy; ErrExists when the same one is under way.
func (s *Store) BeginCopy(ctx context.Context, now time.Time, actor string, c Copy) error {
	v := fleet.Version{Name: c.Name, N: c.Version}
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		tag, err := tx.Exec(ctx, `insert into copies (`+copyColumns+`) values ($1, $2, $3, $4, 'copying', 0, $5, '', $6, $7, $8, null)
			on conflict (name, version, region) do update set from_region = excluded.from_region, state = 'copying', done_bytes = 0, why = '',
			actor = excluded.actor, replica = excluded.replica, began_at = excluded.began_at, ended_at = null
			where copies.state <> 'copying'`, c.Name, c.Version, c.Region, c.FromRegion, c.TotalBytes, actor, c.Replica, now)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrExists
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "image.copying", Cause: fleet.Because("a person asked for it"),
			Text: fmt.Sprintf("The image %s is being copied from %s to %s.", v, c.FromRegion, c.Region), Numbers: fleet.Numbers{fleet.Measured("size_bytes", c.TotalBytes)}})
	})
}

// CopyProgress notes how far a copy is.
func (s *Store) CopyProgress(ctx context.Context, c Copy, done int64) error {
	_, err := s.q.Exec(ctx, `update copies set done_bytes = $4 where name = $1 and version = $2 and region = $3 and state = 'copying'`,
		c.Name, c.Version, c.Region, done)
	return err
}

// EndCopy records how a copy ended. A version that is whole in the region is
// there from now on.
func (s *Store) EndCopy(ctx context.Context, now time.Time, c Copy, state, why string) error {
	v := fleet.Version{Name: c.Name, N: c.Version}
	return s.Change(ctx, now, Service, func(tx *Tx) error {
		if _, err := tx.Exec(ctx, `update copies set state = $4, why = $5, ended_at = $6,
			done_bytes = case when $4 = 'done' then total_bytes else done_bytes end where name = $1 and version = $2 and region = $3`,
			c.Name, c.Version, c.Region, state, why, now); err != nil {
			return err
		}
		e := fleet.Entry{Kind: "image.copy-" + state, Text: fmt.Sprintf("The copy of %s to %s is %s.", v, c.Region, state), Cause: fleet.Because(why)}
		if state == CopyDone {
			if _, err := tx.Exec(ctx, `update images set places = places || jsonb_build_object($3::text, jsonb_build_object('since', $4::timestamptz, 'from', $5::text)),
				revision = revision + 1 where name = $1 and version = $2`, c.Name, c.Version, c.Region, now, c.FromRegion); err != nil {
				return err
			}
			e.Kind, e.Text, e.Cause = "image.copied", fmt.Sprintf("The image %s is in %s.", v, c.Region), fleet.Because("its copy from "+c.FromRegion+" is whole")
		}
		return tx.Record(ctx, "", e)
	})
}

// Copies lists the copies of a version; of a whole replica's that are under
// way when name is empty.
func (s *Store) Copies(ctx context.Context, v fleet.Version, replica string) ([]Copy, error) {
	if v.Name == "" {
		return many[Copy](ctx, s.q, `select `+copyColumns+` from copies where state = 'copying' and replica = $1`, replica)
	}
	return many[Copy](ctx, s.q, `select `+copyColumns+` from copies where name = $1 and version = $2 order by region`, v.Name, v.N)
}
