package store

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/traffic"
	"unitas/internal/fleet/words"
)

// Pool is the set of targets behind its listeners.
type Pool struct {
	Name      string
	Listeners []Listener // those whose own pool it is; of a listed one these alone are known
	Check     string
	Zones     []string // where the listeners stand; none when nobody said
	traffic.Sharing
	Labels    map[string]string
	Revision  int64
	CreatedAt time.Time
	Changes   []string // what its last change made otherwise, told to who made it
}

type poolColumns struct {
	Name          string
	Check         string
	Zones         []string
	Choose        string
	Nobody        string
	SlowStartMs   int64
	Shares        []traffic.Share
	EnoughPercent int
	Weights       map[string]int
	Targets       traffic.Targets
	Labels        map[string]string
	Revision      int64
	CreatedAt     time.Time
}

type poolRow struct {
	poolColumns
	Listeners []listenerRow
}

var (
	poolQuery = `select ` + columnsOf[poolColumns]().list("") + `, coalesce((select jsonb_agg(jsonb_build_object('Address', address, 'Pool', pool, 'Settings', settings, 'Key', key, 'Revision', revision, 'CreatedAt', created_at)
		order by position) from listeners l where l.pool = pools.name), '[]') as listeners from pools `
	insertPool = columnsOf[poolColumns]().but("revision").insert("pools")
	updatePool = `update pools set ` + columnsOf[poolColumns]().but("name", "revision", "created_at").assigned() + `, revision = revision + 1 where name = @name`
)

func rowOfPool(p Pool) poolColumns {
	return poolColumns{
		Name: p.Name, Check: p.Check, Zones: p.Zones, Choose: cmp.Or(string(p.Algorithm), string(traffic.RoundRobin)), Nobody: cmp.Or(string(p.WhenNoneHealthy), string(traffic.Refuse)),
		SlowStartMs: millis(p.SlowStart), Shares: p.Shares, EnoughPercent: p.Enough, Weights: p.Weights, Targets: p.Targets, Labels: p.Labels, Revision: p.Revision, CreatedAt: p.CreatedAt,
	}
}

func (r poolRow) pool() Pool {
	listeners := make([]Listener, len(r.Listeners))
	for i, l := range r.Listeners {
		listeners[i] = l.listener()
	}
	return Pool{Name: r.Name, Listeners: listeners, Check: r.Check, Zones: r.Zones, Labels: r.Labels, Revision: r.Revision, CreatedAt: r.CreatedAt,
		Sharing: traffic.Sharing{Algorithm: traffic.Algorithm(r.Choose), WhenNoneHealthy: traffic.WhenNoneHealthy(r.Nobody), SlowStart: fromMillis(r.SlowStartMs),
			Shares: r.Shares, Enough: r.EnoughPercent, Weights: r.Weights, Targets: r.Targets}}
}

// AddPool records a pool. It returns ErrExists when its name or the address of
// one of its listeners is taken.
//
// good is asked within the change whether it may be.
func (s *Store) AddPool(ctx context.Context, now time.Time, actor string, p Pool, good func(Reader) error) (Pool, error) {
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		if err := good(tx.Reader); err != nil {
			return err
		}
		p.CreatedAt = now
		if _, err := tx.Exec(ctx, insertPool, values(rowOfPool(p))); err != nil {
			return err
		}
		if err := tx.setListeners(ctx, p, now); err != nil {
			return err
		}
		row, err := one[poolRow](ctx, tx, poolQuery+`where name = $1`, p.Name)
		if err != nil {
			return err
		}
		p = row.pool()
		tx.touch(Touched{Kind: OfPool, Name: p.Name})
		return tx.Record(ctx, "", fleet.Entry{Kind: "pool.created", Text: fmt.Sprintf("The pool %s listens on %s.", p.Name, p.Addresses()), Cause: fleet.Because("a person created it")})
	})
	return p, err
}

// Addresses are those of its listeners, in words.
func (p *Pool) Addresses() string {
	all := make([]string, len(p.Listeners))
	for i, l := range p.Listeners {
		all[i] = l.Address
	}
	return strings.Join(all, " and ")
}

// differences tells what is another in now.
func (p *Pool) differences(now Pool) []string {
	var all words.Differences
	all.Note("check", p.Check, now.Check)
	all.Note("listeners", p.Addresses(), now.Addresses())
	all.Note("zones", strings.Join(p.Zones, " and "), strings.Join(now.Zones, " and "))
	all = append(all, p.Sharing.Differences(&now.Sharing)...)
	all.Note("labels", labelWords(p.Labels), labelWords(now.Labels))
	return all
}

// labelWords are labels as people write them.
func labelWords(labels map[string]string) string {
	all := make([]string, 0, len(labels))
	for _, name := range slices.Sorted(maps.Keys(labels)) {
		all = append(all, name+"="+labels[name])
	}
	return strings.Join(all, " and ")
}

// otherwise is the sentence of a change.
func otherwise(what string, changes []string) string {
	return what + ": " + cmp.Or(strings.Join(changes, "; "), "the same as before") + "."
}

// ChangePool lets f change a pool that is at the revision (ErrStale otherwise).
func (s *Store) ChangePool(ctx context.Context, now time.Time, actor, name string, revision int64, f func(Reader, *Pool) (why fleet.Cause, err error)) (Pool, error) {
	var p Pool
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		row, err := one[poolRow](ctx, tx, poolQuery+`where name = $1 for update of pools`, name)
		if err != nil {
			return err
		}
		if revision != AnyRevision && row.Revision != revision {
			return ErrStale
		}
		p = row.pool()
		was := p
		was.Weights, was.Shares = maps.Clone(p.Weights), slices.Clone(p.Shares)
		why, err := f(tx.Reader, &p)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, updatePool, values(rowOfPool(p))); err != nil {
			return err
		}
		if err := tx.setListeners(ctx, p, now); err != nil {
			return err
		}
		if row, err = one[poolRow](ctx, tx, poolQuery+`where name = $1`, name); err != nil {
			return err
		}
		p = row.pool()
		p.Changes = was.differences(p)
		tx.touch(Touched{Kind: OfPool, Name: name})
		return tx.Record(ctx, "", fleet.Entry{Kind: "pool.changed", Text: otherwise("The pool "+name+" has other settings", p.Changes), Cause: why})
	})
	return p, err
}

// DeletePool removes a pool that is at the revision and that no group is in; it
// returns *[InUse] otherwise.
func (s *Store) DeletePool(ctx context.Context, now time.Time, actor, name string, revision int64) error {
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		row, err := one[poolRow](ctx, tx, poolQuery+`where name = $1 for update of pools`, name)
		if err != nil {
			return err
		}
		if revision != AnyRevision && row.Revision != revision {
			return ErrStale
		}
		users, err := tx.poolGroups(ctx, name)
		if err != nil {
			return err
		}
		if len(users) > 0 {
			for i := range users {
				users[i] = "the group " + users[i]
			}
			return &InUse{"the pool " + name, users}
		}
		to, err := tx.ListenersTo(ctx, name)
		if err != nil {
			return err
		}
		for _, l := range to {
			if l.Pool != name || len(l.Routes) > 0 {
				users = append(users, "the listener "+l.Address)
			}
			tx.touch(Touched{Kind: OfListener, Name: l.Address})
		}
		if len(users) > 0 {
			return &InUse{"the pool " + name, users}
		}
		if _, err := tx.Exec(ctx, `delete from pools where name = $1`, name); err != nil {
			return err
		}
		tx.touch(Touched{Kind: OfPool, Name: name})
		return tx.Record(ctx, "", fleet.Entry{Kind: "pool.deleted", Text: fmt.Sprintf("The pool %s is deleted.", name), Cause: fleet.Because("a person asked for it")})
	})
}

func (tx *Tx) poolGroups(ctx context.Context, name string) (groups []string, err error) {
	err = tx.QueryRow(ctx, `select coalesce(array_agg(name order by name), '{}') from (select group_name as name from group_pools where pool = $1) g`, name).Scan(&groups)
	return groups, err
}

// Pools lists pools by name.
func (s *Store) Pools(ctx context.Context, p Page) ([]Pool, error) {
	rows, err := many[poolRow](ctx, s.q, poolQuery+`where name > $1 order by name limit $2`, nameCursor(p.After), p.Limit)
	out := make([]Pool, len(rows))
	for i, r := range rows {
		out[i] = r.pool()
	}
	return out, err
}

// Pool reads one pool.
func (s Reader) Pool(ctx context.Context, name string) (Pool, error) {
	row, err := one[poolRow](ctx, s.q, poolQuery+`where name = $1`, name)
	return row.pool(), err
}

// GroupsByPool are the names of the pools' groups, by pool.
func (s *Store) GroupsByPool(ctx context.Context) (map[string][]string, error) {
	type row struct{ Pool, Name string }
	rows, err := many[row](ctx, s.q, `select pool, group_name as name from group_pools order by 1, 2`)
	out := map[string][]string{}
	for _, r := range rows {
		out[r.Pool] = append(out[r.Pool], r.Name)
	}
	return out, err
}
