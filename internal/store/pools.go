package store

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/traffic"
)

// Listener is an address where a pool takes requests; with a certificate it
// speaks https.
type Listener struct {
	Address     string `json:"address"` // address:port
	Certificate string `json:"certificate"`
	Key         string `json:"key"`
}

// Pool is the set of targets behind its listeners.
type Pool struct {
	Name      string
	Listeners []Listener
	Check     string
	Zones     []string // where the listeners stand; none when nobody said
	traffic.Settings
	Labels    map[string]string
	Revision  int64
	CreatedAt time.Time
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
	Labels        map[string]string
	Revision      int64
	CreatedAt     time.Time
}

type poolRow struct {
	poolColumns
	Listeners []Listener
}

var (
	poolQuery = `select ` + columnsOf[poolColumns]().list("") + `, coalesce((select jsonb_agg(jsonb_build_object('address', address, 'certificate', certificate, 'key', key)
		order by position) from listeners l where l.pool = pools.name), '[]') as listeners from pools `
	insertPool = columnsOf[poolColumns]().but("revision").insert("pools")
	updatePool = `update pools set ` + columnsOf[poolColumns]().but("name", "revision", "created_at").assigned() + `, revision = revision + 1 where name = @name`
)

func rowOfPool(p Pool) poolColumns {
	return poolColumns{
		Name: p.Name, Check: p.Check, Zones: p.Zones, Choose: cmp.Or(string(p.Choose), string(traffic.RoundRobin)), Nobody: cmp.Or(string(p.Nobody), string(traffic.Refuse)),
		SlowStartMs: millis(p.SlowStart), Shares: p.Shares, EnoughPercent: p.Enough, Weights: p.Weights, Labels: p.Labels, Revision: p.Revision, CreatedAt: p.CreatedAt,
	}
}

func (r poolRow) pool() Pool {
	return Pool{Name: r.Name, Listeners: r.Listeners, Check: r.Check, Zones: r.Zones, Labels: r.Labels, Revision: r.Revision, CreatedAt: r.CreatedAt,
		Settings: traffic.Settings{Choose: traffic.Choose(r.Choose), Nobody: traffic.Nobody(r.Nobody), SlowStart: fromMillis(r.SlowStartMs),
			Shares: r.Shares, Enough: r.EnoughPercent, Weights: r.Weights}}
}

// setListeners makes the listeners of a pool those that it says.
func (tx *Tx) setListeners(ctx context.Context, p Pool) error {
	if _, err := tx.Exec(ctx, `delete from listeners where pool = $1`, p.Name); err != nil {
		return err
	}
	for i, l := range p.Listeners {
		if _, err := tx.Exec(ctx, `insert into listeners (address, pool, position, certificate, key) values ($1, $2, $3, $4, $5)`,
			l.Address, p.Name, i, l.Certificate, l.Key); err != nil {
			return err
		}
	}
	return nil
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
		if err := tx.setListeners(ctx, p); err != nil {
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
		why, err := f(tx.Reader, &p)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, updatePool, values(rowOfPool(p))); err != nil {
			return err
		}
		p.Revision++
		if err := tx.setListeners(ctx, p); err != nil {
			return err
		}
		tx.touch(Touched{Kind: OfPool, Name: name})
		return tx.Record(ctx, "", fleet.Entry{Kind: "pool.changed", Text: fmt.Sprintf("The pool %s has other settings.", name), Cause: why})
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
