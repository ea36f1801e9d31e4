package control_test

import (
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/store"
)

// TestRestoredRecordsAreOnlyLookedAt: until somebody says so nothing is done to machines, and what is found
// is told; then it is done under leases that are newer than any before.
func TestRestoredRecordsAreOnlyLookedAt(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(2)
	b.whole(2)
	all := b.serving()
	b.stop()
	epoch := func() int64 {
		t.Helper()
		g, err := b.store.Group(ctx, "berths")
		if err != nil {
			t.Fatal(err)
		}
		return g.Epoch
	}
	before := epoch()
	if err := b.store.Restore(ctx, time.Now(), store.Directory{ID: "bench", Path: "/bench", Host: "quay"}); err != nil {
		t.Fatal(err)
	}
	oldest := func() (n int) {
		t.Helper()
		conn, err := pgx.Connect(ctx, b.url)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close(ctx)
		if err := conn.QueryRow(ctx, `select max(oldest) from needs`).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	if n := oldest(); n != 21 {
		t.Errorf("a release that knows the tables up to %d would act on restored records", n)
	}
	b.yard.end(all[0].ID)
	b.start("two")
	b.eventually("it shows what it finds", func() bool {
		f, err := b.ctl.Restored(ctx)
		return err == nil && f != nil && f.Instances == 2 && f.Present == 1 && f.Absent == 1 && f.Unknown == 0
	})
	if n := len(b.journal("instance.lost")); n != 0 {
		t.Errorf("%d are lost before it may act", n)
	}
	if err := b.store.Resume(ctx, time.Now(), "ada", "looked"); err != nil {
		t.Fatal(err)
	}
	if n := oldest(); n != 17 {
		t.Errorf("afterwards the oldest release that may is one that knows %d", n)
	}
	b.gone("the one without a machine is replaced", all[0].ID)
	b.whole(2)
	if f, err := b.ctl.Restored(ctx); f != nil || err != nil {
		t.Errorf("it is still restored: %+v, %v", f, err)
	}
	if now := epoch(); now < time.Now().Add(-time.Hour).Unix() || now <= before {
		t.Errorf("the epoch of its lease was %d and is %d", before, now)
	}
}
