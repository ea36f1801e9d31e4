package store

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/placement"
	"unitas/internal/fleet/scaling"
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

// groupSettings are what people set of a group, and groupBook what the service keeps of it.
type groupSettings struct {
	Size, Min, Max  int
	Template        string
	TemplateVersion int
	Zones           []string
	Heal            string
	SettleMs        int64
	DrainMs         int64
	Deleting        bool
	Shed            string
	HealLimit       int
	PinNew          bool
	Labels          map[string]string
	Frozen          string
	FrozenBy        string
	FrozenAt        *time.Time
	HealPermitAt    *time.Time
	Spread          string
	Above           int
	Hooks           []fleet.Hook
	HooksAtOnce     bool
	Course          string
	Rules           []scaling.Rule
	SizedBy         string
	Scrape          string
}

type groupBook struct {
	NextSerial    int
	Setbacks      []fleet.Setback
	Slots         []fleet.Slot
	HealStoppedAt *time.Time
	LastGood      string
	LastGoodN     int
	RuleStates    []scaling.State
	Bound         *scaling.Bounds
	Doubted       []fleet.Version
}

// groupColumns are all columns of a group.
type groupColumns struct {
	Name string
	groupSettings
	groupBook
	Alone      bool
	Overrides  Overrides
	Revision   int64
	Generation int64
	Epoch      int64
	Written    string
	CreatedAt  time.Time
}

// groupRow is a group with what is read along.
type groupRow struct {
	groupColumns
	Pools         []string
	Checks        []string
	PricePerHour  float64
	ZonePrices    map[string]float64
	TemplateState string
	TemplateWhy   string
	TemplateNext  string
	Image         string
	ImageVersion  int
	ImageState    string
	ImageWhy      string
	ImageNext     string
}

var groupQuery = `select ` + columnsOf[groupColumns]().list("g.") + `, t.price_per_hour, t.zone_prices,
	array(select gp.pool from group_pools gp where gp.group_name = g.name order by gp.position) as pools,
	array(select distinct p."check" from group_pools gp join pools p on p.name = gp.pool where gp.group_name = g.name order by 1) as checks,
	t.state as template_state, t.why as template_why, t.successor as template_next, t.image, t.image_version,
	i.state as image_state, i.why as image_why, i.successor as image_next
	from groups g join templates t on t.name = g.template and t.version = g.template_version
	join images i on i.name = t.image and i.version = t.image_version `

// What is written of a group: when it is made, by people, and by decisions, which change
// its template at the end of a rollout and move the permit when the clock is set.
var (
	insertGroup   = columnsOf[groupColumns]().but("revision", "generation", "epoch", "written").insert("groups")
	writeSettings = `update groups set ` + columnsOf[groupSettings]().assigned() + `, slots = @slots, rule_states = @rule_states, doubted = @doubted, revision = revision + 1, generation = generation + 1 where name = @name`
	writeSize     = `update groups set size = @size, rule_states = @rule_states, revision = revision + case when size <> @size then 1 else 0 end where name = @name`
	writeBook     = `update groups set ` + columnsOf[groupBook]().assigned() + `, heal_permit_at = @heal_permit_at, size = @size, min = @min, max = @max, sized_by = @sized_by, template = @template, template_version = @template_version,
		revision = revision + case when template_version <> @template_version or template <> @template or min <> @min or max <> @max then 1 else 0 end where name = @name`
)

func rowOfGroup(g Group) groupColumns {
	return groupColumns{
		Name: g.Name,
		groupSettings: groupSettings{
			Size: g.Size, Min: g.Min, Max: g.Max, Template: g.Template.Name, TemplateVersion: g.Template.N, Zones: g.Zones, Heal: string(g.Heal),
			SettleMs: millis(g.Settle), DrainMs: millis(g.Drain), Deleting: g.Deleting, Shed: cmp.Or(string(g.Shed), string(fleet.ShedOutdated)),
			HealLimit: g.HealLimit, PinNew: g.PinNew, Labels: g.Labels, Frozen: g.Frozen, FrozenBy: g.FrozenBy, FrozenAt: pointer(g.FrozenAt),
			HealPermitAt: pointer(g.HealPermit), Spread: cmp.Or(string(g.Spread), string(placement.Even)), Above: g.Above, Hooks: g.Hooks, HooksAtOnce: g.HooksAtOnce, Course: g.Course,
			Rules: g.Rules, SizedBy: g.SizedBy, Scrape: g.Scrape,
		},
		groupBook: groupBook{NextSerial: g.NextSerial, Setbacks: g.Setbacks, Slots: g.Slots, HealStoppedAt: pointer(g.HealStopped), LastGood: g.LastGood.Name, LastGoodN: g.LastGood.N, RuleStates: g.RuleStates, Bound: g.Bound, Doubted: g.Doubted},
		Alone:     g.Alone, Overrides: g.Overrides, Revision: g.Revision, Generation: g.Generation, Epoch: g.Epoch, Written: g.Written, CreatedAt: g.CreatedAt,
	}
}

func (r groupRow) group() Group {
	return Group{
		Group: fleet.Group{
			Name: r.Name, Alone: r.Alone, Checks: r.Checks,
			Settings: fleet.Settings{
				Size: r.Size, Min: r.Min, Max: r.Max, Template: fleet.Version{Name: r.Template, N: r.TemplateVersion}, Zones: r.Zones, Pools: r.Pools,
				Heal: fleet.Heal(r.Heal), HealLimit: r.HealLimit, HealPermit: value(r.HealPermitAt), Settle: fromMillis(r.SettleMs),
				Drain: fromMillis(r.DrainMs), Shed: fleet.Shed(r.Shed), Spread: placement.Spread(r.Spread), Above: r.Above, PinNew: r.PinNew,
				Labels: r.Labels, Hooks: r.Hooks, HooksAtOnce: r.HooksAtOnce, Course: r.Course, Rules: r.Rules, Scrape: r.Scrape, Frozen: r.Frozen, Deleting: r.Deleting,
			},
			Book: fleet.Book{NextSerial: r.NextSerial, Setbacks: r.Setbacks, Slots: r.Slots, HealStopped: value(r.HealStoppedAt), LastGood: fleet.Version{Name: r.LastGood, N: r.LastGoodN},
				RuleStates: r.RuleStates, Bound: r.Bound, Doubted: r.Doubted, SizedBy: r.SizedBy},
		},
		Prices:   prices(r.Zones, r.PricePerHour, r.ZonePrices),
		FrozenBy: r.FrozenBy, FrozenAt: value(r.FrozenAt),
		Overrides: r.Overrides, Advice: r.advice(), Revision: r.Revision, Generation: r.Generation, Epoch: r.Epoch, Written: r.Written, CreatedAt: r.CreatedAt,
	}
}

// advice warns of a template or image that is withdrawn and still launched.
func (r groupRow) advice() []string {
	all := []string{}
	for _, s := range []fleet.VersionStatus{
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
// group may be, and may make what it needs.
func (s *Store) AddGroup(ctx context.Context, now time.Time, actor string, g Group, first func(*Tx) error) (Group, error) {
	err := s.Change(ctx, now, actor, func(tx *Tx) (err error) {
		if err := first(tx); err != nil {
			return err
		}
		g, err = tx.addGroup(ctx, g)
		return err
	})
	return g, err
}

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
	g.CreatedAt = tx.Now
	if !g.Alone { // whose numbers go on where a group of the name had them
		if err := tx.QueryRow(ctx, `select coalesce((select next from serials where group_name = $1), 0)`, g.Name).Scan(&g.NextSerial); err != nil {
			return g, err
		}
	}
	if _, err := tx.Exec(ctx, insertGroup, values(rowOfGroup(g))); err != nil {
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
	return s.ChangeGroupAnd(ctx, now, actor, name, revision, func(tx *Tx, g *Group) (fleet.Entry, error) { return f(tx.Reader, g) })
}

// ChangeGroupAnd is [Store.ChangeGroup] that may write other objects along.
func (s *Store) ChangeGroupAnd(ctx context.Context, now time.Time, actor, name string, revision int64,
	f func(tx *Tx, g *Group) (fleet.Entry, error)) error {
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
		e, err := f(tx, &g)
		if err != nil {
			return err
		}
		if (g.Frozen == "") != (was.Frozen == "") {
			g.FrozenBy, g.FrozenAt = actor, now
			if g.Frozen == "" {
				g.FrozenBy, g.FrozenAt = "", time.Time{}
			}
		}
		if _, err := tx.Exec(ctx, writeSettings, values(rowOfGroup(g))); err != nil {
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
