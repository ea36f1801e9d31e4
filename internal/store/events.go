package store

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"

	"github.com/jackc/pgx/v5"
)

// What an event is about: a journal entry, or an object that is another now. The data of
// those of objects is empty; whoever is concerned reads the object.
const (
	OfJournal  = "journal"
	OfGroup    = "group"
	OfPool     = "pool"
	OfCheck    = "check"
	OfListener = "listener"
	OfLease    = "lease" // of a group
	OfQuiet    = "quiet" // a target has no request at the replica that wrote it; see [Quiet]
)

// Touched is an object that a change made another, new or gone.
type Touched struct {
	Kind, Name string
	// Decided is set when whoever keeps the group wrote it, and knows it.
	Decided bool
}

// Event is one thing that changed. Its number orders it among all events.
type Event struct {
	Number int64
	Kind   string
	Name   string `db:"group_name"` // of the group, pool or check; "" for entries about no group
	Origin string // the replica that wrote it
	Data   json.RawMessage
}

// EventID is the number of an event as it is told outside.
func EventID(number int64) string { return strconv.FormatInt(number, 10) }

var oldID = regexp.MustCompile(`^[0-9]+-[0-9]+$`)

// ParseEventID reads what [EventID] wrote. An id of the form that releases before had
// (two numbers) is past all others.
func ParseEventID(text string) (int64, error) {
	if oldID.MatchString(text) {
		return math.MaxInt64, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return 0, fmt.Errorf("%q is not the id of an event", text)
	}
	return n, nil
}

// touch notes that the change makes an object another.
func (tx *Tx) touch(t Touched) {
	if !slices.Contains(tx.touched, t) {
		tx.touched = append(tx.touched, t)
	}
}

// tellTouched writes the events of the objects that the change touched.
func (tx *Tx) tellTouched(ctx context.Context, origin string) error {
	var batch pgx.Batch
	for _, t := range tx.touched {
		batch.Queue(`insert into outbox (at, kind, group_name, origin, data) values ($1, $2, $3, $4, '{}')`, tx.Now, t.Kind, t.Name, origin)
	}
	if batch.Len() == 0 {
		return nil
	}
	return tx.SendBatch(ctx, &batch).Close()
}

// NumberEvents gives numbers to events that were committed and have none, at most 1,000,
// and tells those who listen ([Store.Listen]). It returns how many there were.
func (s *Store) NumberEvents(ctx context.Context) (n int64, err error) {
	err = s.q.QueryRow(ctx, `select number_events()`).Scan(&n)
	return n, err
}

// CatchUp gives numbers to all events that are committed, and returns the last one.
func (s *Store) CatchUp(ctx context.Context) (int64, error) {
	for {
		n, err := s.NumberEvents(ctx)
		if err != nil {
			return 0, err
		}
		if n == 0 {
			return s.LastEvent(ctx)
		}
	}
}

// Events returns up to limit events after the one of the number.
func (s *Store) Events(ctx context.Context, after int64, limit int) ([]Event, error) {
	return many[Event](ctx, s.q, `select number, kind, group_name, origin, data from outbox where number > $1 order by number limit $2`, after, limit)
}

// LastEvent is the number of the newest event, or zero when there was none.
func (s *Store) LastEvent(ctx context.Context) (n int64, err error) {
	err = s.q.QueryRow(ctx, `select last from feed`).Scan(&n)
	return n, err
}

// Listen calls heard whenever events got numbers, by whichever replica, and once when it
// begins to listen. It returns when the context ends or the connection does.
func (s *Store) Listen(ctx context.Context, heard func()) error {
	config := s.pool.Config().ConnConfig.Copy()
	connecting, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	conn, err := pgx.ConnectConfig(connecting, config)
	if err != nil {
		return err
	}
	defer func() {
		closing, cancel := context.WithTimeout(context.WithoutCancel(ctx), config.ConnectTimeout)
		defer cancel()
		_ = conn.Close(closing)
	}()
	if _, err := conn.Exec(connecting, `listen unitas`); err != nil {
		return err
	}
	for {
		heard()
		if _, err := conn.WaitForNotification(ctx); err != nil {
			return err
		}
	}
}
