package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/fleet"
	"unitas/internal/fleet/placement"
	"unitas/internal/fleet/rollout"
)

// Group is the record of a group with its bookkeeping.
type Group struct {
	fleet.Group
	Overrides  Overrides // of a group that is one instance alone
	FrozenBy   string    // and since when; both empty when it is not
	FrozenAt   time.Time
	Revision   int64  // counts what people change
	Generation int64  // counts every write
	Written    string // the mark of the last commit
	Epoch      int64  // of the lease; only grows
	CreatedAt  time.Time
	// Advice tells what will hurt, though it is allowed.
	Advice []string
	// Prices are what an instance of its template costs for an hour in each zone.
	Prices map[string]float64
}

func prices(zones []string, price float64, byZone map[string]float64) map[string]float64 {
	all := make(map[string]float64, len(zones))
	for _, z := range zones {
		all[z] = price
		if p, ok := byZone[z]; ok {
			all[z] = p
		}
	}
	return all
}

// Overrides are what one instance is launched with instead of what its
// template says; zero fields override nothing.
type Overrides struct {
	Image       string            `json:"image,omitempty"`  // such as timetable@3
	Digest      string            `json:"digest,omitempty"` // and the next two: of that image
	Start       []string          `json:"start,omitempty"`
	Environment map[string]string `json:"environment,omitempty"`
	UserData    *string           `json:"user_data,omitempty"`
	Labels      map[string]string `json:"labels,omitempty"` // added to the template's
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
	Written         string
	CreatedAt       time.Time
	Checks          []string
	Alone           bool
	Overrides       Overrides
	Shed            string
	HealLimit       int
	PinNew          bool
	Labels          map[string]string
	Frozen          string
	FrozenBy        string
	FrozenAt        *time.Time
	HealStoppedAt   *time.Time
	HealPermitAt    *time.Time
	Spread          string
	Above           int
	Slots           []fleet.Slot
	PricePerHour    float64
	ZonePrices      map[string]float64
	TemplateState   string
	TemplateWhy     string
	TemplateNext    string
	Image           string
	ImageVersion    int
	ImageState      string
	ImageWhy        string
	ImageNext       string
}

// groupQuery brings the checks of the group's pools along.
const groupQuery = `select g.name, size, min, max, template, template_version, zones, heal, settle_ms, drain_ms, deleting,
	next_serial, setbacks, g.revision, generation, epoch, written, g.created_at, alone, overrides, shed, heal_limit, pin_new, g.labels,
	frozen, frozen_by, frozen_at, heal_stopped_at, heal_permit_at, spread, above, slots, t.price_per_hour, t.zone_prices,
	array(select gp.pool from group_pools gp where gp.group_name = g.name order by gp.position) as pools,
	array(select distinct p."check" from group_pools gp join pools p on p.name = gp.pool where gp.group_name = g.name order by 1) as checks,
	t.state as template_state, t.why as template_why, t.successor as template_next, t.image, t.image_version,
	i.state as image_state, i.why as image_why, i.successor as image_next
	from groups g join templates t on t.name = g.template and t.version = g.template_version
	join images i on i.name = t.image and i.version = t.image_version `

func (r groupRow) group() Group {
	return Group{
		Group: fleet.Group{
			Name: r.Name, Alone: r.Alone, Checks: r.Checks,
			Settings: fleet.Settings{
				Size: r.Size, Min: r.Min, Max: r.Max, Template: fleet.Version{Name: r.Template, N: r.TemplateVersion}, Zones: r.Zones, Pools: r.Pools,
				Heal: fleet.Heal(r.Heal), HealLimit: r.HealLimit, HealPermit: value(r.HealPermitAt), Settle: fromMillis(r.SettleMs),
				Drain: fromMillis(r.DrainMs), Shed: fleet.Shed(r.Shed), Spread: placement.Spread(r.Spread), Above: r.Above, PinNew: r.PinNew,
				Labels: r.Labels, Frozen: r.Frozen, Deleting: r.Deleting,
			},
			Book: fleet.Book{NextSerial: r.NextSerial, Setbacks: r.Setbacks, Slots: r.Slots, HealStopped: value(r.HealStoppedAt)},
		},
		Prices:   prices(r.Zones, r.PricePerHour, r.ZonePrices),
		FrozenBy: r.FrozenBy, FrozenAt: value(r.FrozenAt),
		Overrides: r.Overrides, Advice: r.advice(), Revision: r.Revision, Generation: r.Generation, Epoch: r.Epoch, Written: r.Written, CreatedAt: r.CreatedAt,
	}
}

// advice warns of a template or image that is withdrawn and still launched.
func (r groupRow) advice() []string {
	all := []string{}
	for _, s := range []fleet.Standing{
		{What: "template", Version: fleet.Version{Name: r.Template, N: r.TemplateVersion}, State: r.TemplateState, Why: r.TemplateWhy, Successor: r.TemplateNext},
		{What: "image", Version: fleet.Version{Name: r.Image, N: r.ImageVersion}, State: r.ImageState, Why: r.ImageWhy, Successor: r.ImageNext},
	} {
		if text := s.Advice(); text != "" {
			all = append(all, text)
		}
	}
	return all
}

// AddGroup records a group.
//
// first is called within the change, before anything is written: it says whether the
// group may be, and may make what it needs. A dry run undoes all of it.
func (s *Store) AddGroup(ctx context.Context, now time.Time, actor string, g Group, dry bool, first func(*Tx) error) (Group, error) {
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		if err := first(tx); err != nil {
			return err
		}
		var err error
		if g, err = tx.addGroup(ctx, g); err == nil && dry {
			err = errDry
		}
		return err
	})
	if errors.Is(err, errDry) {
		err = nil
	}
	return g, err
}

// errDry undoes a change that was only tried.
var errDry = errors.New("only tried")

func (tx *Tx) addGroup(ctx context.Context, g Group) (Group, error) {
	if g.Alone {
		// Its name may have been that of an instance before.
		var there bool
		if err := tx.QueryRow(ctx, `with gone as (delete from instances where id = $1 and state = 'gone')
				select exists (select 1 from instances where id = $1 and state <> 'gone')`, g.Name).Scan(&there); err != nil {
			return g, err
		}
		if there {
			return g, ErrExists
		}
	}
	if _, err := tx.Exec(ctx, `insert into groups
			(name, size, min, max, template, template_version, zones, heal, settle_ms, drain_ms, next_serial, created_at, alone, overrides,
				shed, heal_limit, pin_new, labels, spread, above)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10,
				case when $12 then 0 else coalesce((select next from serials where group_name = $1), 0) end, $11, $12, $13, $14, $15, $16, $17, $18, $19)`,
		g.Name, g.Size, g.Min, g.Max, g.Template.Name, g.Template.N, g.Zones, string(g.Heal),
		millis(g.Settle), millis(g.Drain), tx.Now, g.Alone, g.Overrides, cmp.Or(string(g.Shed), string(fleet.ShedOutdated)), g.HealLimit, g.PinNew,
		notNilMap(g.Labels), cmp.Or(string(g.Spread), string(placement.Even)), g.Above); err != nil {
		return g, err
	}
	if err := tx.setPools(ctx, g.Name, g.Pools); err != nil {
		return g, err
	}
	row, err := one[groupRow](ctx, tx, groupQuery+`where g.name = $1`, g.Name)
	if err != nil {
		return g, err
	}
	g = row.group()
	tx.touch(Touched{Kind: OfGroup, Name: g.Name})
	if g.Alone {
		return g, tx.Record(ctx, g.Name, fleet.Entry{Kind: "instance.asked", Instance: g.Name, Cause: fleet.Cause{Code: fleet.CodeLaunched},
			Text: fmt.Sprintf("The instance %s is to be launched from %s in %s.", g.Name, g.Template, g.Zones[0])})
	}
	return g, tx.Record(ctx, g.Name, fleet.Entry{
		Kind: "group.created", Cause: fleet.Because("a person created it"),
		Text:    fmt.Sprintf("The group %s is made with %d of %s, between %d and %d.", g.Name, g.Size, g.Template, g.Min, g.Max),
		Numbers: fleet.Numbers{fleet.Measured("size", g.Size), fleet.Measured("min", g.Min), fleet.Measured("max", g.Max)},
	})
}

// Group reads one group.
func (s Reader) Group(ctx context.Context, name string) (Group, error) {
	row, err := one[groupRow](ctx, s.q, groupQuery+`where g.name = $1`, name)
	return row.group(), err
}

// AnyRevision stands for whatever revision an object has now.
const AnyRevision int64 = -1

// ChangeGroup lets f change the settings of a group that is at the revision
// (ErrStale otherwise) and records the entry that f returns.
func (s *Store) ChangeGroup(ctx context.Context, now time.Time, actor, name string, revision int64,
	f func(r Reader, g *Group) (fleet.Entry, error)) error {
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		row, err := one[groupRow](ctx, tx, groupQuery+`where g.name = $1 for update of g`, name)
		if err != nil {
			return err
		}
		if revision != AnyRevision && row.Revision != revision {
			return ErrStale
		}
		was := row.group()
		g := was
		e, err := f(tx.Reader, &g)
		if err != nil {
			return err
		}
		if (g.Frozen == "") != (was.Frozen == "") {
			g.FrozenBy, g.FrozenAt = actor, now
			if g.Frozen == "" {
				g.FrozenBy, g.FrozenAt = "", time.Time{}
			}
		}
		if _, err := tx.Exec(ctx, `update groups set size = $2, min = $3, max = $4, deleting = $5, template = $6, template_version = $7,
			zones = $8, heal = $9, settle_ms = $10, drain_ms = $11, shed = $12, heal_limit = $13, pin_new = $14, labels = $15,
			frozen = $16, frozen_by = $17, frozen_at = $18, heal_permit_at = $19, spread = $20, above = $21, slots = $22, revision = revision + 1, generation = generation + 1 where name = $1`,
			name, g.Size, g.Min, g.Max, g.Deleting, g.Template.Name, g.Template.N, g.Zones, string(g.Heal), millis(g.Settle),
			millis(g.Drain), string(g.Shed), g.HealLimit, g.PinNew, notNilMap(g.Labels), g.Frozen, g.FrozenBy, pointer(g.FrozenAt),
			pointer(g.HealPermit), cmp.Or(string(g.Spread), string(placement.Even)), g.Above, notNil(g.Slots)); err != nil {
			return err
		}
		if !slices.Equal(g.Pools, was.Pools) {
			if err := tx.setPools(ctx, name, g.Pools); err != nil {
				return err
			}
		}
		tx.touch(Touched{Kind: OfGroup, Name: name})
		return tx.Record(ctx, name, e)
	})
}

// setPools makes the pools of a group those given.
func (tx *Tx) setPools(ctx context.Context, group string, pools []string) error {
	_, err := tx.Exec(ctx, `with d as (delete from group_pools where group_name = $1 and pool <> all($2))
		insert into group_pools (group_name, pool, position) select $1, p.pool, p.position from unnest($2::text[]) with ordinality p (pool, position)
		on conflict (group_name, pool) do update set position = excluded.position`, group, notNil(pools))
	return err
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
	Cause            fleet.Cause
	Back             bool
	Sized            int
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
	cause, back, sized, wave, times, resumed, stumbles, started_at, started_by, ended_at, revision`

func (r rolloutRow) rollout() Rollout {
	waves, _ := rollout.ParseWaves(r.Waves)
	return Rollout{
		Rollout: fleet.Rollout{
			ID: r.Number, From: fleet.Version{Name: r.FromName, N: r.FromVersion}, To: fleet.Version{Name: r.ToName, N: r.ToVersion},
			Waves: waves, Above: r.Above, Below: r.Below, Soak: fromMillis(r.SoakMs), State: fleet.RolloutState(r.State),
			Since: r.Since.UTC(), Cause: r.Cause, Back: r.Back, Sized: r.Sized, Wave: r.Wave, Times: r.Times, Resumed: r.Resumed.UTC(), Stumbles: r.Stumbles,
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
// good is asked within the change whether the group may have it.
func (s *Store) StartRollout(ctx context.Context, now time.Time, actor, group string, ro fleet.Rollout, good func(Reader, Group) error) (Rollout, error) {
	var out Rollout
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
		ro, e, err := fleet.Begin(now, row.group().Group, Bare(there), ro)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update groups set generation = generation + 1 where name = $1`, group); err != nil {
			return err
		}
		inserted, err := one[rolloutRow](ctx, tx, `insert into rollouts (group_name, from_name, from_version, to_name, to_version, waves,
			above, below, soak_ms, state, since, cause, wave, times, resumed, stumbles, started_at, started_by, sized)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19) returning `+rolloutColumns,
			group, ro.From.Name, ro.From.N, ro.To.Name, ro.To.N, ro.Waves.String(), ro.Above, ro.Below, millis(ro.Soak),
			string(ro.State), ro.Since, ro.Cause, ro.Wave, ro.Times, ro.Resumed, ro.Stumbles, ro.Started, actor, ro.Sized)
		if err != nil {
			return err
		}
		out = inserted.rollout()
		e.Rollout = out.ID
		tx.touch(Touched{Kind: OfGroup, Name: group})
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
	_, err := tx.Exec(ctx, `update rollouts set state = $2, since = $3, cause = $4, wave = $5, times = $6, resumed = $7, stumbles = $8,
		ended_at = $9, back = $10, revision = revision + 1 where number = $1`,
		ro.ID, string(ro.State), ro.Since, ro.Cause, ro.Wave, ro.Times, ro.Resumed, ro.Stumbles, pointer(ro.Ended), ro.Back)
	return err
}
