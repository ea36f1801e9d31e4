package store

import (
	"context"
	"errors"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
)

// Instance is the record of an instance with its bookkeeping.
type Instance struct {
	fleet.Instance
	Group         string
	Address       string
	AddressNumber int64
	Overrides     Overrides
	Revision      int64
	Overdue       bool // it did not come up in its time; in no column
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
	Cause           fleet.Cause
	Slot            int
	Purpose         string
	Launch          int
	Address         string
	AddressNumber   int64
	Pinned          bool
	Renew, Awaits   bool
	OrderedAt       time.Time
	UpAt, ServedAt  *time.Time
	Reports         []health.Report
	Tickets         []fleet.Ticket
	Overrides       Overrides
	Revision        int64
}

// Those of an instance, and those of them that a decision may change.
var (
	instanceFields  = columnsOf[instanceRow]()
	instanceColumns = instanceFields.list("")
	writeInstance   = instanceFields.but("revision").insert("instances") + " on conflict (id) do update set " +
		columns{"state", "since", "cause", "launch", "up_at", "served_at", "reports", "pinned", "renew", "awaits", "ordered_at", "tickets"}.taken() + ", revision = instances.revision + 1"
)

func rowOfInstance(in Instance) instanceRow {
	return instanceRow{
		ID: in.ID, GroupName: in.Group, Serial: in.Serial, Zone: in.Zone, Template: in.Version.Name, TemplateVersion: in.Version.N,
		State: string(in.State), Since: in.Since, Cause: in.Cause, Slot: in.Slot, Purpose: string(in.Purpose), Launch: in.Launch,
		Address: in.Address, AddressNumber: in.AddressNumber, Pinned: in.Pinned, Renew: in.Renew, Awaits: in.Awaits, OrderedAt: in.Ordered,
		UpAt: pointer(in.Up), ServedAt: pointer(in.Served), Reports: in.Reports, Tickets: in.Tickets, Overrides: in.Overrides, Revision: in.Revision,
	}
}

func (r instanceRow) instance() Instance {
	return Instance{
		Instance: fleet.Instance{
			ID: r.ID, Serial: r.Serial, Zone: r.Zone, Version: fleet.Version{Name: r.Template, N: r.TemplateVersion},
			State: fleet.State(r.State), Since: r.Since.UTC(), Cause: r.Cause, Slot: r.Slot, Purpose: fleet.Purpose(r.Purpose), Launch: r.Launch, Pinned: r.Pinned, Renew: r.Renew, Awaits: r.Awaits, Ordered: r.OrderedAt.UTC(),
			Up: value(r.UpAt), Served: value(r.ServedAt), Reports: r.Reports, Tickets: r.Tickets,
		},
		Group: r.GroupName, Address: r.Address, AddressNumber: r.AddressNumber, Overrides: r.Overrides, Revision: r.Revision,
	}
}

// Bare are the instances as the core sees them.
func Bare(all []Instance) []fleet.Instance {
	bare := make([]fleet.Instance, len(all))
	for i := range all {
		bare[i] = all[i].Instance
	}
	return bare
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
	return s.instances(ctx, group, gone, false, p)
}

// InstancesAlone lists those that belong to no group, by name.
func (s *Store) InstancesAlone(ctx context.Context, gone bool, p Page) ([]Instance, error) {
	return s.instances(ctx, "", gone, true, p)
}

func (s *Store) instances(ctx context.Context, group string, gone, alone bool, p Page) ([]Instance, error) {
	after, serial := "", 0
	if len(p.After) == 2 {
		after = p.After[0]
		serial, _ = strconv.Atoi(p.After[1])
	}
	return instances(many[instanceRow](ctx, s.q, `select `+instanceColumns+` from instances
		where ($1 = '' or group_name = $1) and ($2 or state <> 'gone') and (not $3 or group_name = id) and (group_name, serial) > ($4, $5)
		order by group_name, serial limit $6`, group, gone, alone, after, serial, p.Limit))
}

// Instance reads one instance.
func (s Reader) Instance(ctx context.Context, id string) (Instance, error) {
	row, err := one[instanceRow](ctx, s.q, `select `+instanceColumns+` from instances where id = $1`, id)
	return row.instance(), err
}

// ChangeInstance lets f change an instance that is at the revision (ErrStale
// otherwise). rolling tells whether its group has a rollout under way.
func (s *Store) ChangeInstance(ctx context.Context, now time.Time, actor, id string, revision int64,
	f func(g fleet.Group, in fleet.Instance, rolling bool) (fleet.Instance, fleet.Entry, error)) error {
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		g, row, err := tx.instanceToChange(ctx, id, revision)
		if err != nil {
			return err
		}
		group := g.Name
		var rolling bool
		if err := tx.QueryRow(ctx, `select exists (select 1 from rollouts where group_name = $1 and ended_at is null)`, group).Scan(&rolling); err != nil {
			return err
		}
		in := row.instance()
		var e fleet.Entry
		if in.Instance, e, err = f(g.Group, in.Instance, rolling); err != nil {
			return err
		}
		if err := tx.writeInstances(ctx, group, []Instance{in}); err != nil {
			return err
		}
		tx.touch(Touched{Kind: OfGroup, Name: group})
		return tx.Record(ctx, group, e)
	})
}

// instanceToChange reads an instance that is at the revision (ErrStale otherwise)
// with its group, and holds both until the transaction ends.
func (tx *Tx) instanceToChange(ctx context.Context, id string, revision int64) (Group, instanceRow, error) {
	// The group's row first, as every change of a group takes it.
	var group string
	err := tx.QueryRow(ctx, `update groups set generation = generation + 1
		where name = (select group_name from instances where id = $1) returning name`, id).Scan(&group)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	if err != nil {
		return Group{}, instanceRow{}, err
	}
	g, err := one[groupRow](ctx, tx, groupQuery+`where g.name = $1`, group)
	if err != nil {
		return Group{}, instanceRow{}, err
	}
	row, err := one[instanceRow](ctx, tx, `select `+instanceColumns+` from instances where id = $1`, id)
	if err == nil && revision != AnyRevision && row.Revision != revision {
		err = ErrStale
	}
	return g.group(), row, err
}

// ReleaseInstance makes an instance that is at the revision a group of its own,
// alone, as f says.
func (s *Store) ReleaseInstance(ctx context.Context, now time.Time, actor, id string, revision int64,
	f func(g fleet.Group, in fleet.Instance) (fleet.Group, fleet.Instance, fleet.Entry, error)) error {
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		g, row, err := tx.instanceToChange(ctx, id, revision)
		if err != nil {
			return err
		}
		from := g.Name
		in := row.instance()
		next, out, e, err := f(g.Group, in.Instance)
		if err != nil {
			return err
		}
		in.Instance = out
		if _, err := tx.Exec(ctx, writeSize, values(rowOfGroup(Group{Group: next}))); err != nil {
			return err
		}
		if err := tx.writeInstances(ctx, from, []Instance{in}); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update instances set group_name = id, serial = 1, slot = 1,
			overrides = jsonb_set(overrides, '{labels}', $2::jsonb || coalesce(overrides->'labels', '{}')) where id = $1`, id, notNilMap(g.Labels)); err != nil {
			return err
		}
		alone := Group{Overrides: in.Overrides, CreatedAt: now, Group: fleet.Group{Name: id, Alone: true, Book: fleet.Book{NextSerial: 1}, Settings: fleet.Settings{
			Size: 1, Max: 1, Template: in.Version, Zones: []string{in.Zone}, Heal: fleet.HealOff, HealLimit: 100, Settle: g.Settle, Labels: g.Labels}}}
		if _, err := tx.Exec(ctx, insertGroup, values(rowOfGroup(alone))); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `with before as (update runs set until_at = $2 where instance = $1 and until_at is null returning *)
			insert into runs (instance, group_name, zone, labels, price_per_hour, from_at)
			select instance, instance, zone, labels, price_per_hour, $2 from before`, id, now); err != nil {
			return err
		}
		tx.touch(Touched{Kind: OfGroup, Name: from})
		tx.touch(Touched{Kind: OfGroup, Name: id})
		return tx.Record(ctx, from, e)
	})
}

// RecordedInstances returns which of the ids are recorded, and whether as not gone.
func (s *Store) RecordedInstances(ctx context.Context, ids []string) (map[string]bool, error) {
	type record struct {
		ID     string
		Living bool
	}
	recorded := map[string]bool{}
	if len(ids) == 0 {
		return recorded, nil
	}
	found, err := many[record](ctx, s.q, `select id, state <> 'gone' as living from instances where id = any($1)`, ids)
	for _, r := range found {
		recorded[r.ID] = r.Living
	}
	return recorded, err
}

// LaunchedFor lists the instances of a version that were ordered from one time to another,
// newest first, those that are gone as well; until now when the second is zero.
func (s *Store) LaunchedFor(ctx context.Context, group string, v fleet.Version, from, to time.Time, most int) ([]Instance, error) {
	return instances(many[instanceRow](ctx, s.q, `select `+instanceColumns+` from instances
		where group_name = $1 and template = $2 and template_version = $3 and ordered_at >= $4 and ($5::timestamptz is null or ordered_at <= $5) order by ordered_at desc limit $6`,
		group, v.Name, v.N, from, pointer(to), most))
}

// UsualTimes returns, newest last, how long up to 50 instances of the template
// took from order to serving.
func (s *Store) UsualTimes(ctx context.Context, template string) ([]time.Duration, error) {
	rows, err := s.q.Query(ctx, `select (extract(epoch from served_at - ordered_at) * 1000)::bigint from instances
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
