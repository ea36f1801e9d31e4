package control_test

import (
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/clock"
	"unitas/internal/fleet"
	"unitas/internal/store"
)

// TestAClockThatIsSet ends no wait: what settles goes on settling for as long as it would
// have, by records that a next service reads as well, and the journal says it.
func TestAClockThatIsSet(t *testing.T) {
	start := time.Now()
	var set atomic.Int64
	b := newBench(t)
	b.clock = clock.Of(func() time.Duration { return time.Since(start) }, func() time.Time { return time.Now().Add(time.Duration(set.Load())) })
	b.start("one")
	b.pooled(3)
	b.eventually("all settle", func() bool { return len(b.settling()) == 3 })
	before := b.settling()
	conn, err := pgx.Connect(ctx, b.url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)

	said := 0
	for _, by := range []time.Duration{time.Hour, -3 * time.Hour} {
		was := b.settling()
		set.Add(int64(by))
		b.eventually("the records follow", func() bool {
			now := b.settling()
			return len(now) == 3 && !now[0].Since.Equal(was[0].Since)
		})
		now := b.settling()
		for i := range now {
			if now[i].ID != before[i].ID || !near(now[i].Since, was[i].Since.Add(by)) || !near(now[i].Up, was[i].Up.Add(by)) {
				t.Errorf("set by %s, %s settles since %s, up at %s; it did since %s, up at %s", by, now[i].ID, now[i].Since, now[i].Up, was[i].Since, was[i].Up)
			}
		}
		said++
		b.eventually("the journal says it", func() bool { return len(b.clockSets()) == said && b.metric("unitas_clock_jumps_total") > 0 })
		if newest := b.clockSets()[0]; !strings.Contains(newest.Text, map[bool]string{true: "one went forward by 1 h.", false: "one went back by 3 h."}[by > 0]) || newest.At.Sub(b.clock.Now()).Abs() > time.Minute {
			t.Errorf("the journal says %q at %s", newest.Text, newest.At)
		}
		var runs int
		if err := conn.QueryRow(ctx, `select count(*) from runs where until_at is null and from_at between $1 and $2`, b.clock.Now().Add(-time.Minute), b.clock.Now()).Scan(&runs); err != nil || runs != 3 {
			t.Errorf("%d of 3 runs began within the last minute (%v)", runs, err)
		}
	}

	b.stop()
	b.start("one")
	b.eventually("the next one keeps it", func() bool { return b.ctl.Known() == 1 })
	control := b.settling()
	if len(control) != 3 || control[0].ID != before[0].ID {
		t.Errorf("after a restart these settle: %+v", control)
	}
	if lost := append(b.journal("instance.leaving"), b.journal("instance.draining")...); len(lost) > 0 {
		t.Errorf("instances went: %+v", lost[0].Text)
	}
}

// near is as near as a clock is read.
func near(a, b time.Time) bool { return a.Sub(b).Abs() < 10*time.Millisecond }

func (b *bench) settling() []store.Instance {
	b.t.Helper()
	all, err := b.store.Instances(ctx, "berths", false, store.Page{Limit: 100})
	if err != nil {
		b.t.Fatal(err)
	}
	for _, in := range all {
		if in.State != fleet.Settling {
			return nil
		}
	}
	return all
}

func (b *bench) clockSets() []store.Entry {
	b.t.Helper()
	return b.journalOf("", "service.clock-set")
}

// TestWhatTheFutureWrote: records of a service whose clock was ahead make nothing wait until
// the present is there.
func TestWhatTheFutureWrote(t *testing.T) {
	start := time.Now()
	b := newBench(t)
	b.clock = clock.Of(func() time.Duration { return time.Since(start) + 24*time.Hour }, func() time.Time { return time.Now().Add(24 * time.Hour) })
	b.start("one")
	b.group(1)
	b.whole(1)
	b.stop()
	b.clock = nil
	b.start("one")
	b.eventually("it is kept by the present", func() bool {
		p, err := b.ctl.Picture(ctx, "berths")
		return err == nil && len(p.Instances) == 1 && p.Instances[0].Since.Before(time.Now().Add(time.Minute))
	})
}
