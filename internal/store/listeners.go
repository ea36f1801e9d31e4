package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/traffic"
)

// Listener is an address that takes requests or connections, with its bookkeeping.
type Listener struct {
	traffic.Listener
	Key       string // the file of the key, of one that an early release made: its certificate is a file as well
	Revision  int64
	CreatedAt time.Time
	Changes   []string // what its last change made otherwise, told to who made it
}

type listenerRow struct {
	Address   string
	Pool      *string
	Settings  traffic.Listener
	Key       string
	Revision  int64
	CreatedAt time.Time
}

const listenerQuery = `select address, pool, settings, key, revision, created_at from listeners `

// mostListeners is how many there may be.
const mostListeners = 1000

func (r listenerRow) listener() Listener {
	l := Listener{Listener: r.Settings, Key: r.Key, Revision: r.Revision, CreatedAt: r.CreatedAt}
	l.Address = r.Address
	if r.Pool != nil {
		l.Pool = *r.Pool
	}
	return l
}

// NewListener is [traffic.NewListener] with nothing of the books yet.
func NewListener(address, pool, certificate string) Listener {
	return Listener{Listener: traffic.NewListener(address, pool, certificate)}
}

// Listeners are all of them by address.
func (s Reader) Listeners(ctx context.Context) ([]Listener, error) {
	return s.listeners(ctx, `order by address limit $1`, mostListeners)
}

func (s Reader) listeners(ctx context.Context, where string, args ...any) ([]Listener, error) {
	rows, err := many[listenerRow](ctx, s.q, listenerQuery+where, args...)
	out := make([]Listener, len(rows))
	for i, r := range rows {
		out[i] = r.listener()
	}
	return out, err
}

// Listener reads one.
func (s Reader) Listener(ctx context.Context, address string) (Listener, error) {
	row, err := one[listenerRow](ctx, s.q, listenerQuery+`where address = $1`, address)
	return row.listener(), err
}

// ListenersTo are those that may send to a pool, by a route or without.
func (s Reader) ListenersTo(ctx context.Context, pool string) ([]Listener, error) {
	return s.listeners(ctx, `where pool = $1 or jsonb_path_exists(settings, '$.routes[*] ? (@.pool == $p || @.divert.pool == $p)', jsonb_build_object('p', $1::text))
		order by pool = $1 desc, position, address`, pool)
}

func (tx *Tx) putListener(ctx context.Context, l Listener, position int) error {
	var pool *string
	if l.Pool != "" {
		pool = &l.Pool
	}
	tx.touch(Touched{Kind: OfListener, Name: l.Address})
	_, err := tx.Exec(ctx, `insert into listeners (address, pool, position, settings, key, revision, created_at) values ($1, $2, $3, $4, $5, $6, $7)`,
		l.Address, pool, position, l.Listener, l.Key, max(l.Revision, 1), l.CreatedAt)
	return err
}

// AddListener records a listener ([ErrExists] when its address is taken). good is asked within
// the change whether it may be.
func (s *Store) AddListener(ctx context.Context, now time.Time, actor string, l Listener, good func(Reader) error) (Listener, error) {
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		if err := good(tx.Reader); err != nil {
			return err
		}
		var n int
		if err := tx.QueryRow(ctx, `select count(*) from listeners`).Scan(&n); err != nil {
			return err
		}
		if n >= mostListeners {
			return &fleet.Refusal{Text: fmt.Sprintf("there are %d listeners, and no more may be; close one first", n)}
		}
		l.CreatedAt, l.Revision = now, 1
		if err := tx.putListener(ctx, l, 0); err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "listener.created", Text: fmt.Sprintf("The listener %s (%s) is made.", l.Address, l.Protocol), Cause: fleet.Because("a person created it")})
	})
	return l, err
}

// ChangeListener lets f change a listener that is at the revision ([ErrStale] otherwise).
func (s *Store) ChangeListener(ctx context.Context, now time.Time, actor, address string, revision int64, f func(Reader, *Listener) (why fleet.Cause, err error)) (Listener, error) {
	var l Listener
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		row, err := one[listenerRow](ctx, tx, listenerQuery+`where address = $1 for update`, address)
		if err != nil {
			return err
		}
		if revision != AnyRevision && row.Revision != revision {
			return ErrStale
		}
		l = row.listener()
		was := l
		was.Routes = slices.Clone(l.Routes)
		why, err := f(tx.Reader, &l)
		if err != nil {
			return err
		}
		var position int
		if err := tx.QueryRow(ctx, `delete from listeners where address = $1 returning position`, address).Scan(&position); err != nil {
			return err
		}
		l.Revision++
		if err := tx.putListener(ctx, l, position); err != nil {
			return err
		}
		l.Changes = was.Differences(&l.Listener)
		return tx.Record(ctx, "", fleet.Entry{Kind: "listener.changed", Text: otherwise("The listener "+address+" has other settings", l.Changes), Cause: why})
	})
	return l, err
}

// DeleteListener closes a listener that is at the revision.
func (s *Store) DeleteListener(ctx context.Context, now time.Time, actor, address string, revision int64) error {
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		row, err := one[listenerRow](ctx, tx, listenerQuery+`where address = $1 for update`, address)
		if err != nil {
			return err
		}
		if revision != AnyRevision && row.Revision != revision {
			return ErrStale
		}
		if _, err := tx.Exec(ctx, `delete from listeners where address = $1`, address); err != nil {
			return err
		}
		tx.touch(Touched{Kind: OfListener, Name: address})
		return tx.Record(ctx, "", fleet.Entry{Kind: "listener.deleted", Text: fmt.Sprintf("The listener %s is closed.", address), Cause: fleet.Asked("")})
	})
}

// setListeners makes the listeners whose own pool this is those that it says. One that stays
// keeps its other settings.
func (tx *Tx) setListeners(ctx context.Context, p Pool, now time.Time) error {
	have, err := tx.listeners(ctx, `where pool = $1 order by position for update`, p.Name)
	if err != nil {
		return err
	}
	if slices.EqualFunc(have, p.Listeners, func(a, b Listener) bool {
		return a.Address == b.Address && slices.Equal(a.Certificates, b.Certificates) && a.Protocol == b.Protocol
	}) {
		return nil
	}
	if _, err := tx.Exec(ctx, `delete from listeners where pool = $1`, p.Name); err != nil {
		return err
	}
	for _, l := range have {
		tx.touch(Touched{Kind: OfListener, Name: l.Address})
	}
	for i, l := range p.Listeners {
		l.Pool = p.Name
		if at := slices.IndexFunc(have, func(o Listener) bool { return o.Address == l.Address }); at >= 0 {
			was := have[at]
			if was.Protocol != l.Protocol {
				was.Protocol, was.HTTP2 = l.Protocol, l.HTTP2
			}
			was.Certificates, was.Key = l.Certificates, l.Key
			was.Revision++
			l = was
		} else {
			l.CreatedAt = now
		}
		if err := tx.putListener(ctx, l, i); err != nil {
			return err
		}
	}
	return nil
}

// Key is what is signed with under a name; make makes it when there is none yet.
func (s *Store) Key(ctx context.Context, name string, make func() []byte) (key []byte, err error) {
	if _, err := s.q.Exec(ctx, `insert into keys (name, value) values ($1, $2) on conflict do nothing`, name, make()); err != nil {
		return nil, err
	}
	err = s.q.QueryRow(ctx, `select value from keys where name = $1`, name).Scan(&key)
	return key, err
}
