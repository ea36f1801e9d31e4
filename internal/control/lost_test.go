package control_test

import (
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/control"
	"unitas/internal/fleet/health"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
)

// TestAnAnswerThatIsLost: the database wrote a decision and the service never hears of it,
// or it did not hear of the decision. In either case it is in the journal once, and
// everything that follows happens once.
func TestAnAnswerThatIsLost(t *testing.T) {
	for name, early := range map[string]bool{"after the commit": false, "before the commit": true} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			way := pgtest.NewWay(t, b.url)
			way.Early.Store(early)
			b.url = way.URL
			b.pooled(3)
			b.start("one")
			all := b.well(3)
			way.Lose.Store(1)
			control.VerdictChanged(b.ctl, all[0].ID, health.Report{Check: "berths-up", Verdict: health.Unhealthy, Since: time.Now(), Why: "failed 3 of 3"})
			b.eventually("an answer is lost", func() bool { return way.Lost.Load() == 1 })
			b.eventually("the verdict is written", func() bool { return len(b.journal("verdict.unhealthy")) > 0 })
			victim := all[1].ID
			b.yard.end(victim) // another decision comes of it
			b.gone("it goes on", victim)
			if n := len(b.journal("verdict.unhealthy")); n != 1 {
				t.Errorf("the verdict is in the journal %d times", n)
			}
			in, err := b.store.Instance(ctx, all[0].ID)
			if err != nil || in.Report("berths-up").Verdict != health.Unhealthy {
				t.Errorf("its record says %+v: %v", in.Reports, err)
			}
			if n := len(b.journal("instance.ordered")); n != 4 {
				t.Errorf("%d instances were ordered", n)
			}
		})
	}
}

// TestAddressesAreNotBurnt: a decision that cannot be written draws no addresses again.
func TestAddressesAreNotBurnt(t *testing.T) {
	b := newBench(t)
	way := pgtest.NewWay(t, b.url)
	way.Early.Store(true)
	b.url = way.URL
	way.Lose.Store(0)
	b.start("one")
	b.group(1)
	b.whole(1)
	first := b.serving()[0].AddressNumber
	way.Lose.Store(3) // of the next changes
	victim := b.serving()[0].ID
	b.yard.end(victim)
	b.eventually("three could not be written", func() bool { return way.Lost.Load() == 3 })
	b.gone("and then they are", victim)
	b.whole(1)
	if next := b.serving()[0].AddressNumber; next != first+1 {
		t.Errorf("the next address after %d is %d", first, next)
	}
}

// TestAnOutageIsInTheJournal: afterwards, once, with its length.
func TestAnOutageIsInTheJournal(t *testing.T) {
	b := newBench(t)
	direct, err := pgx.Connect(ctx, b.url)
	if err != nil {
		t.Fatal(err)
	}
	defer direct.Close(ctx)
	way := pgtest.NewWay(t, b.url)
	b.url = way.URL
	b.start("one")
	b.group(1)
	b.whole(1)
	begun := time.Now()
	way.Closed.Store(true)
	b.eventually("the lease runs out", func() bool {
		var left float64
		err := direct.QueryRow(ctx, `select extract(epoch from max(until) - now()) from replicas`).Scan(&left)
		return err == nil && left < 0
	})
	away := time.Since(begun)
	way.Closed.Store(false)
	var said []store.Entry
	b.eventually("it is said", func() bool { said = b.journalOf("", "database.back"); return len(said) > 0 })
	if text := said[0].Text; len(said) != 1 || !strings.Contains(text, "The database did not answer for ") {
		t.Errorf("after %s it says %+v", away, said)
	}
}
