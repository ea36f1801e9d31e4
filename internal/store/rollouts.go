package store

import (
	"context"
	"errors"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/rollout"
)

// Rollout is the record of a rollout with its bookkeeping.
type Rollout struct {
	fleet.Rollout
	Group     string
	StartedBy string
	// Course is that which it was started by, and Rehearsal the number of the rehearsal that
	// came before it; empty and 0 when there was none.
	Course    string
	Rehearsal int64
	Revision  int64
}

type rolloutRow struct {
	Number           int64
	GroupName        string
	FromName, ToName string
	FromVersion      int
	ToVersion        int
	Before           []fleet.VersionCount
	Waves            string
	Above, Below     int
	SoakMs           int64
	State            string
	Since            time.Time
	Cause            fleet.Cause
	Back             bool
	Turned           fleet.Cause
	Sized            int
	Wave             int
	Times            []fleet.WaveTime
	Gates            []gate.Gate
	Manner           fleet.Manner
	Lowest           int
	Course           string
	Rehearsal        int64
	Resumed          time.Time
	Stumbles         int
	StartedAt        time.Time
	StartedBy        string
	EndedAt          *time.Time
	Revision         int64
}

var (
	rolloutFields  = columnsOf[rolloutRow]()
	rolloutColumns = rolloutFields.list("")
	insertRollout  = rolloutFields.but("number", "revision").insert("rollouts") + ` returning ` + rolloutColumns
	updateRollout  = `update rollouts set ` + rolloutFields.but("number", "group_name", "started_by", "course", "rehearsal", "revision").assigned() + `, revision = revision + 1 where number = @number`
)

func rowOfRollout(ro Rollout) rolloutRow {
	return rolloutRow{
		Number: ro.ID, GroupName: ro.Group, FromName: ro.From.Name, ToName: ro.To.Name, FromVersion: ro.From.N, ToVersion: ro.To.N, Before: ro.Before, Waves: ro.Waves.String(),
		Above: ro.Above, Below: ro.Below, SoakMs: millis(ro.Soak), State: string(ro.State), Since: ro.Since, Cause: ro.Cause, Back: ro.Back, Turned: ro.Turned, Sized: ro.Sized,
		Wave: ro.Wave, Times: ro.Times, Gates: ro.Gates, Manner: ro.Manner, Lowest: ro.Lowest, Course: ro.Course, Rehearsal: ro.Rehearsal, Resumed: ro.Resumed, Stumbles: ro.Stumbles, StartedAt: ro.Started, StartedBy: ro.StartedBy, EndedAt: pointer(ro.Ended), Revision: ro.Revision,
	}
}

func (r rolloutRow) rollout() Rollout {
	waves, _ := rollout.ParseWaves(r.Waves)
	return Rollout{
		Rollout: fleet.Rollout{
			RolloutSettings: fleet.RolloutSettings{
				To: fleet.Version{Name: r.ToName, N: r.ToVersion}, Waves: waves, Above: r.Above, Below: r.Below, Soak: fromMillis(r.SoakMs), Gates: r.Gates, Manner: r.Manner,
			},
			RolloutBook: fleet.RolloutBook{
				ID: r.Number, From: fleet.Version{Name: r.FromName, N: r.FromVersion}, Before: r.Before, Sized: r.Sized,
				State: fleet.RolloutState(r.State), Back: r.Back, Since: r.Since.UTC(), Cause: r.Cause, Turned: r.Turned,
				Wave: r.Wave, Times: r.Times, Resumed: r.Resumed.UTC(), Stumbles: r.Stumbles, Lowest: r.Lowest,
				Started: r.StartedAt.UTC(), Ended: value(r.EndedAt),
			},
		},
		Group: r.GroupName, StartedBy: r.StartedBy, Course: r.Course, Rehearsal: r.Rehearsal, Revision: r.Revision,
	}
}

// Rollouts lists rollouts, newest first.
func (s *Store) Rollouts(ctx context.Context, group string, p Page) ([]Rollout, error) {
	before := int64(1) << 62
	if len(p.After) == 1 {
		before, _ = strconv.ParseInt(p.After[0], 10, 64)
	}
	rows, err := many[rolloutRow](ctx, s.q, `select `+rolloutColumns+` from rollouts
		where ($1 = '' or group_name = $1) and number < $2 order by number desc limit $3`, group, before, p.Limit)
	out := make([]Rollout, len(rows))
	for i, r := range rows {
		out[i] = r.rollout()
	}
	return out, err
}

// Rollout reads one rollout.
func (s *Store) Rollout(ctx context.Context, number int64) (Rollout, error) {
	row, err := one[rolloutRow](ctx, s.q, `select `+rolloutColumns+` from rollouts where number = $1`, number)
	return row.rollout(), err
}

// StartRollout begins a rollout of the named group, as [fleet.Begin] says. It
// returns ErrExists when the group has a live one.
//
// good is asked within the change whether the group may have it. With supersede a live one
// ends, and this one goes on from where things stand.
func (s *Store) StartRollout(ctx context.Context, now time.Time, actor, group string, ro Rollout, supersede bool, good func(Reader, Group) error) (Rollout, error) {
	var out Rollout
	var over *fleet.Rollout
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		row, err := one[groupRow](ctx, tx, groupQuery+`where g.name = $1 for update of g`, group)
		if err != nil {
			return err
		}
		if err := good(tx.Reader, row.group()); err != nil {
			return err
		}
		there, err := present(ctx, tx, group)
		if err != nil {
			return err
		}
		if supersede {
			if over, err = tx.supersede(ctx, now, group, ro.To); err != nil {
				return err
			}
		}
		begun, e, err := fleet.Begin(now, row.group().Group, Bare(there), ro.Rollout, over)
		if err != nil {
			return err
		}
		ro.Rollout, ro.Group, ro.StartedBy = begun, group, actor
		if _, err := tx.Exec(ctx, `update groups set generation = generation + 1 where name = $1`, group); err != nil {
			return err
		}
		inserted, err := one[rolloutRow](ctx, tx, insertRollout, values(rowOfRollout(ro)))
		if err != nil {
			return err
		}
		out = inserted.rollout()
		e.Rollout = out.ID
		if err := tx.keepStage(ctx, out.ID, Stage{Group: row.group().Group, Instances: Bare(there), Rollout: out.Rollout, Prices: row.group().Prices}); err != nil {
			return err
		}
		tx.touch(Touched{Kind: OfGroup, Name: group})
		return tx.Record(ctx, group, e)
	})
	return out, err
}

// supersede ends the live rollout of a group, and returns it as it was; nil when there is none.
func (tx *Tx) supersede(ctx context.Context, now time.Time, group string, to fleet.Version) (over *fleet.Rollout, err error) {
	row, err := one[rolloutRow](ctx, tx, `select `+rolloutColumns+` from rollouts where group_name = $1 and ended_at is null for update`, group)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	old := row.rollout().Rollout
	ended, e := old.Supersede(now, to)
	if err := tx.writeRollout(ctx, ended); err != nil {
		return nil, err
	}
	return &old, tx.Record(ctx, group, e)
}

// TellRollout gives a person's command to a rollout that is at the revision.
func (s *Store) TellRollout(ctx context.Context, now time.Time, actor string, number, revision int64, c fleet.Command, reason string) (Rollout, error) {
	var out Rollout
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		// The group's row first, as every change of a group takes it, so that no two wait for each other.
		var group string
		err := tx.QueryRow(ctx, `update groups set generation = generation + 1
			where name = (select group_name from rollouts where number = $1) returning name`, number).Scan(&group)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		row, err := one[rolloutRow](ctx, tx, `select `+rolloutColumns+` from rollouts where number = $1 for update`, number)
		if err != nil {
			return err
		}
		if revision != AnyRevision && row.Revision != revision {
			return ErrStale
		}
		ro, e, err := row.rollout().Tell(now, c, reason)
		if err != nil {
			return err
		}
		if err := tx.writeRollout(ctx, ro); err != nil {
			return err
		}
		if row, err = one[rolloutRow](ctx, tx, `select `+rolloutColumns+` from rollouts where number = $1`, number); err != nil {
			return err
		}
		out = row.rollout()
		tx.touch(Touched{Kind: OfGroup, Name: row.GroupName})
		return tx.Record(ctx, row.GroupName, e)
	})
	return out, err
}

func (tx *Tx) writeRollout(ctx context.Context, ro fleet.Rollout) error {
	_, err := tx.Exec(ctx, updateRollout, values(rowOfRollout(Rollout{Rollout: ro})))
	return err
}
