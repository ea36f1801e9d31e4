package feed_test

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/feed"
	"unitas/internal/fleet"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
	"unitas/internal/waittest"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

var ctx = context.Background()

// replica is a store with its feed on a database, followed.
func replica(t *testing.T, url, name string) (*store.Store, chan store.Event) {
	t.Helper()
	s, err := store.Open(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	s.Write(name)
	f, err := feed.Open(ctx, s, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	running, stop := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		f.Run(running)
	}()
	t.Cleanup(func() {
		stop()
		waittest.For(t, "the end", ended)
		s.Close()
	})
	return s, f.Follow()
}

// record writes a line of the journal.
func record(t *testing.T, s *store.Store, kind string) {
	t.Helper()
	if err := s.Record(ctx, time.Now(), "ada", "", fleet.Entry{Kind: kind}); err != nil {
		t.Fatal(err)
	}
}

func next(t *testing.T, events chan store.Event) store.Event {
	t.Helper()
	select {
	case e := <-events:
		return e
	case <-time.After(20 * time.Second):
		t.Fatal("no event came")
		panic("unreachable")
	}
}

// TestEveryReplicaHears: what is written anywhere is heard everywhere, in one order, and
// at once.
func TestEveryReplicaHears(t *testing.T) {
	url := pgtest.Database(t)
	one, ofOne := replica(t, url, "one")
	two, ofTwo := replica(t, url, "two")
	record(t, one, "first") // both listen once it came
	next(t, ofOne)
	next(t, ofTwo)
	slowest := time.Duration(0)
	for n := range 20 {
		writer := []*store.Store{one, two}[n%2]
		begun := time.Now()
		record(t, writer, "x")
		a, b := next(t, ofOne), next(t, ofTwo)
		slowest = max(slowest, time.Since(begun))
		if a.Number != b.Number || a.Kind != store.OfJournal || a.Origin != []string{"one", "two"}[n%2] {
			t.Fatalf("one heard %+v, the other %+v", a, b)
		}
	}
	t.Logf("written anywhere to heard everywhere: slowest of 20 %s", slowest)
	if slowest > 500*time.Millisecond { // 100 ms are promised, on a quiet machine
		t.Errorf("it took %s to be heard", slowest)
	}
}

// TestAnOpenTransactionDelaysNobody: neither one that reads and writes elsewhere, nor one
// that has written an event of its own that it does not commit yet.
func TestAnOpenTransactionDelaysNobody(t *testing.T) {
	url := pgtest.Database(t)
	s, events := replica(t, url, "one")
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	tx, err := conn.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(ctx, `insert into outbox (kind, data) values ('journal', '{"kind": "late"}')`); err != nil {
		t.Fatal(err)
	}
	record(t, s, "early")
	early := next(t, events)
	if err := tx.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	late := next(t, events) // nobody told of it: it is looked for
	if late.Number <= early.Number || string(late.Data) != `{"kind": "late"}` {
		t.Errorf("after %d came %d with %s", early.Number, late.Number, late.Data)
	}
	again, err := s.Events(ctx, early.Number-1, 10)
	if err != nil || len(again) != 2 || again[1].Number != late.Number {
		t.Errorf("read again they are %+v: %v", again, err)
	}
}

// TestWhoIsTooFarBehindIsCutOff: and finds what he missed in the store, all of it.
func TestWhoIsTooFarBehindIsCutOff(t *testing.T) {
	s, events := replica(t, pgtest.Database(t), "one")
	record(t, s, "first")
	first := next(t, events)
	const many = 4500
	err := s.Change(ctx, time.Now(), "ada", func(tx *store.Tx) error {
		entries := make([]fleet.Entry, many)
		for i := range entries {
			entries[i].Kind = "x"
		}
		return tx.Record(ctx, "", entries...)
	})
	if err != nil {
		t.Fatal(err)
	}
	limit := time.After(30 * time.Second)
	heard, last := 0, first.Number
	for open := true; open; { // nothing is taken before the channel is closed
		if len(events) < cap(events) {
			select {
			case <-limit:
				t.Fatal("the one that does not read was not cut off")
			case <-time.After(5 * time.Millisecond):
			}
			continue
		}
		for e := range events {
			heard, last = heard+1, e.Number
		}
		open = false
	}
	rest, err := s.Events(ctx, last, many)
	if err != nil || heard+len(rest) != many {
		t.Errorf("%d were heard and %d read, of %d: %v", heard, len(rest), many, err)
	}
}
