package store

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/rollout"
)

// Group is the record of a group with its bookkeeping.
type Group struct {
	fleet.Group
	Pools      []string
	Revision   int64 // counts what people change
	Generation int64 // counts every write
	Epoch      int64 // of the lease; only grows
	CreatedAt  time.Time
}

type groupRow struct {
	Name            string
	Size, Min, Max  int
	Template        string
	TemplateVersion int
	Zones, Pools    []string
	Heal            string
	SettleMs        int64
	DrainMs         int64
	Deleting        bool
	NextSerial      int
	Setbacks        []fleet.Setback
	Revision        int64
	Generation      int64
	Epoch           int64
	CreatedAt       time.Time
	Checks          []string
}

// groupQuery brings the checks of the group's pools along.
const groupQuery = `select name, size, min, max, template, template_version, zones, pools, heal, settle_ms, drain_ms, deleting,
	next_serial, setbacks, revision, generation, epoch, created_at,
	coalesce((select array_agg(distinct p."check" order by p."check") from pools p where p.name = any(g.pools)), '{}') as checks
	from groups g `

func (r groupRow) group() Group {
	return Group{
		Group: fleet.Group{
			Name: r.Name, Size: r.Size, Min: r.Min, Max: r.Max, Template: fleet.Version{Name: r.Template, N: r.TemplateVersion},
			Zones: r.Zones, Checks: r.Checks, Heal: fleet.Heal(r.Heal), Settle: fromMillis(r.SettleMs), Drain: fromMillis(r.DrainMs),
			Deleting: r.Deleting, NextSerial: r.NextSerial, Setbacks: r.Setbacks,
		},
		Pools: r.Pools, Revision: r.Revision, Generation: r.Generation, Epoch: r.Epoch, CreatedAt: r.CreatedAt,
	}
}

// AddGroup records a group.
func (s *Store) AddGroup(ctx context.Context, now time.Time, actor string, g Group) (Group, error) {
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		if _, err := tx.Exec(ctx, `insert into groups
			(name, size, min, max, template, template_version, zones, pools, heal, settle_ms, drain_ms, next_serial, created_at)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, coalesce((select next from serials where group_name = $1), 0), $12)`,
			g.Name, g.Size, g.Min, g.Max, g.Template.Name, g.Template.N, g.Zones, g.Pools, string(g.Heal),
			millis(g.Settle), millis(g.Drain), now); err != nil {
			return err
		}
		row, err := one[groupRow](ctx, tx, groupQuery+`where name = $1`, g.Name)
		if err != nil {
			return err
		}
		g = row.group()
		return tx.Record(ctx, g.Name, fleet.Entry{
			Kind: "group.created", Because: "a person created it",
			Text:    fmt.Sprintf("The group %s is made with %d of %s, between %d and %d.", g.Name, g.Size, g.Template, g.Min, g.Max),
			Numbers: map[string]any{"size": g.Size, "min": g.Min, "max": g.Max},
		})
	})
	return g, err
}

// Groups lists groups by name.
func (s *Store) Groups(ctx context.Context, p Page) ([]Group, error) {
	rows, err := many[groupRow](ctx, s.pool, groupQuery+`where name > $1 order by name limit $2`, nameCursor(p.After), p.Limit)
	out := make([]Group, len(rows))
	for i, r := range rows {
		out[i] = r.group()
	}
	return out, err
}

// Group reads one group.
func (s *Store) Group(ctx context.Context, name string) (Group, error) {
	row, err := one[groupRow](ctx, s.pool, groupQuery+`where name = $1`, name)
	return row.group(), err
}

// AnyRevision stands for whatever revision an object has now.
const AnyRevision int64 = -1

// ChangeGroup lets f change the settings of a group that is at the revision
// (ErrStale otherwise) and records the entry that f returns.
func (s *Store) ChangeGroup(ctx context.Context, now time.Time, actor, name string, revision int64,
	f func(tx *Tx, g fleet.Group) (fleet.Group, fleet.Entry, error)) error {
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		row, err := one[groupRow](ctx, tx, groupQuery+`where name = $1 for update of g`, name)
		if err != nil {
			return err
		}
		if revision != AnyRevision && row.Revision != revision {
			return ErrStale
		}
		g, e, err := f(tx, row.group().Group)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update groups set size = $2, min = $3, max = $4, deleting = $5,
			revision = revision + 1, generation = generation + 1 where name = $1`, name, g.Size, g.Min, g.Max, g.Deleting); err != nil {
			return err
		}
		return tx.Record(ctx, name, e)
	})
}

// Instance is the record of an instance with its bookkeeping.
type Instance struct {
	fleet.Instance
	Group         string
	Address       string
	AddressNumber int64
	Revision      int64
}

type instanceRow struct {
	ID              string
	GroupName       string
	Serial          int
	Zone            string
	Template        string
	TemplateVersion int
	State           string
	Since           time.Time
	Why             string
	Address         string
	AddressNumber   int64
	Pinned          bool
	OrderedAt       time.Time
	UpAt, ServedAt  *time.Time
	Reports         []health.Report
	Revision        int64
}

const instanceColumns = `id, group_name, serial, zone, template, template_version, state, since, why, address, address_number,
	pinned, ordered_at, up_at, served_at, reports, revision`

func (r instanceRow) instance() Instance {
	return Instance{
		Instance: fleet.Instance{
			ID: r.ID, Serial: r.Serial, Zone: r.Zone, Version: fleet.Version{Name: r.Template, N: r.TemplateVersion},
			State: fleet.State(r.State), Since: r.Since.UTC(), Why: r.Why, Pinned: r.Pinned, Ordered: r.OrderedAt.UTC(),
			Up: value(r.UpAt), Served: value(r.ServedAt), Reports: r.Reports,
		},
		Group: r.GroupName, Address: r.Address, AddressNumber: r.AddressNumber, Revision: r.Revision,
	}
}

func instances(rows []instanceRow, err error) ([]Instance, error) {
	out := make([]Instance, len(rows))
	for i, r := range rows {
		out[i] = r.instance()
	}
	return out, err
}

// Instances lists instances by group and number, all groups when group is
// empty; those that are gone only when asked for.
func (s *Store) Instances(ctx context.Context, group string, gone bool, p Page) ([]Instance, error) {
	after, serial := "", 0
	if len(p.After) == 2 {
		after = p.After[0]
		serial, _ = strconv.Atoi(p.After[1])
	}
	return instances(many[instanceRow](ctx, s.pool, `select `+instanceColumns+` from instances
		where ($1 = '' or group_name = $1) and ($2 or state <> 'gone') and (group_name, serial) > ($3, $4)
		order by group_name, serial limit $5`, group, gone, after, serial, p.Limit))
}

// Instance reads one instance.
func (s *Store) Instance(ctx context.Context, id string) (Instance, error) {
	row, err := one[instanceRow](ctx, s.pool, `select `+instanceColumns+` from instances where id = $1`, id)
	return row.instance(), err
}

// LivingInstances returns which of the ids belong to instances that are not gone.
func (s *Store) LivingInstances(ctx context.Context, ids []string) (map[string]bool, error) {
	rows, err := s.pool.Query(ctx, `select id from instances where id = any($1) and state <> 'gone'`, ids)
	if err != nil {
		return nil, err
	}
	found, err := pgx.CollectRows(rows, pgx.RowTo[string])
	living := make(map[string]bool, len(found))
	for _, id := range found {
		living[id] = true
	}
	return living, err
}

// UsualTimes returns, newest last, how long up to 50 instances of the template
// took from order to serving.
func (s *Store) UsualTimes(ctx context.Context, template string) ([]time.Duration, error) {
	rows, err := s.pool.Query(ctx, `select (extract(epoch from served_at - ordered_at) * 1000)::bigint from instances
		where template = $1 and served_at is not null order by served_at desc limit 50`, template)
	if err != nil {
		return nil, err
	}
	ms, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	out := make([]time.Duration, len(ms))
	for i, n := range ms {
		out[len(ms)-1-i] = fromMillis(n)
	}
	return out, err
}

// Rollout is the record of a rollout with its bookkeeping.
type Rollout struct {
	fleet.Rollout
	Group     string
	StartedBy string
	Revision  int64
}

type rolloutRow struct {
	Number           int64
	GroupName        string
	FromName, ToName string
	FromVersion      int
	ToVersion        int
	Waves            string
	Above, Below     int
	SoakMs           int64
	State            string
	Since            time.Time
	Why              string
	Wave             int
	Times            []fleet.WaveTime
	Resumed          time.Time
	Stumbles         int
	StartedAt        time.Time
	StartedBy        string
	EndedAt          *time.Time
	Revision         int64
}

const rolloutColumns = `number, group_name, from_name, from_version, to_name, to_version, waves, above, below, soak_ms, state, since,
	why, wave, times, resumed, stumbles, started_at, started_by, ended_at, revision`

func (r rolloutRow) rollout() Rollout {
	waves, _ := rollout.ParseWaves(r.Waves)
	return Rollout{
		Rollout: fleet.Rollout{
			ID: r.Number, From: fleet.Version{Name: r.FromName, N: r.FromVersion}, To: fleet.Version{Name: r.ToName, N: r.ToVersion},
			Waves: waves, Above: r.Above, Below: r.Below, Soak: fromMillis(r.SoakMs), State: fleet.RolloutState(r.State),
			Since: r.Since.UTC(), Why: r.Why, Wave: r.Wave, Times: r.Times, Resumed: r.Resumed.UTC(), Stumbles: r.Stumbles,
			Started: r.StartedAt.UTC(), Ended: value(r.EndedAt),
		},
		Group: r.GroupName, StartedBy: r.StartedBy, Revision: r.Revision,
	}
}

// Rollouts lists rollouts, newest first.
func (s *Store) Rollouts(ctx context.Context, group string, p Page) ([]Rollout, error) {
	before := int64(1) << 62
	if len(p.After) == 1 {
		before, _ = strconv.ParseInt(p.After[0], 10, 64)
	}
	rows, err := many[rolloutRow](ctx, s.pool, `select `+rolloutColumns+` from rollouts
		where ($1 = '' or group_name = $1) and number < $2 order by number desc limit $3`, group, before, p.Limit)
	out := make([]Rollout, len(rows))
	for i, r := range rows {
		out[i] = r.rollout()
	}
	return out, err
}

// Rollout reads one rollout.
func (s *Store) Rollout(ctx context.Context, number int64) (Rollout, error) {
	row, err := one[rolloutRow](ctx, s.pool, `select `+rolloutColumns+` from rollouts where number = $1`, number)
	return row.rollout(), err
}

// StartRollout begins a rollout of the named group, as [fleet.Begin] says. It
// returns ErrExists when the group has a live one.
func (s *Store) StartRollout(ctx context.Context, now time.Time, actor, group string, ro fleet.Rollout) (Rollout, error) {
	var out Rollout
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		row, err := one[groupRow](ctx, tx, groupQuery+`where name = $1 for update of g`, group)
		if err != nil {
			return err
		}
		ro, e, err := fleet.Begin(now, row.group().Group, ro)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update groups set generation = generation + 1 where name = $1`, group); err != nil {
			return err
		}
		inserted, err := one[rolloutRow](ctx, tx, `insert into rollouts (group_name, from_name, from_version, to_name, to_version, waves,
			above, below, soak_ms, state, since, why, wave, times, resumed, stumbles, started_at, started_by)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18) returning `+rolloutColumns,
			group, ro.From.Name, ro.From.N, ro.To.Name, ro.To.N, ro.Waves.String(), ro.Above, ro.Below, millis(ro.Soak),
			string(ro.State), ro.Since, ro.Why, ro.Wave, ro.Times, ro.Resumed, ro.Stumbles, ro.Started, actor)
		if err != nil {
			return err
		}
		out = inserted.rollout()
		e.Rollout = out.ID
		return tx.Record(ctx, group, e)
	})
	return out, err
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
		ro, e, err := row.rollout().Tell(now, row.GroupName, c, reason)
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
		return tx.Record(ctx, row.GroupName, e)
	})
	return out, err
}

func (tx *Tx) writeRollout(ctx context.Context, ro fleet.Rollout) error {
	_, err := tx.Exec(ctx, `update rollouts set state = $2, since = $3, why = $4, wave = $5, times = $6, resumed = $7, stumbles = $8,
		ended_at = $9, revision = revision + 1 where number = $1`,
		ro.ID, string(ro.State), ro.Since, ro.Why, ro.Wave, ro.Times, ro.Resumed, ro.Stumbles, pointer(ro.Ended))
	return err
}
