package control_test

import (
	"bytes"
	"io"
	"net"
	"net/url"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"unitas/internal/control"
	"unitas/internal/fleet/health"
)

// between stands between a service and its database, and loses answers when it is told to.
type between struct {
	url   string
	lose  atomic.Int64 // so many answers to commits are lost, with their connections
	early atomic.Bool  // they are lost before the database hears of the commit
	lost  atomic.Int64
}

func newBetween(t *testing.T, database string) *between {
	t.Helper()
	u, err := url.Parse(database)
	if err != nil {
		t.Fatal(err)
	}
	q := u.Query()
	behind := filepath.Join(q.Get("host"), ".s.PGSQL."+q.Get("port"))
	dir := t.TempDir()
	l, err := net.Listen("unix", filepath.Join(dir, ".s.PGSQL.5432"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	q.Set("host", dir)
	q.Set("port", "5432")
	u.RawQuery = q.Encode()
	b := &between{url: u.String()}
	go func() {
		for {
			front, err := l.Accept()
			if err != nil {
				return
			}
			go b.pass(front, behind)
		}
	}()
	return b
}

// pass hands on what both say, until an answer is to be lost.
func (b *between) pass(front net.Conn, behind string) {
	defer front.Close()
	back, err := net.Dial("unix", behind)
	if err != nil {
		return
	}
	defer back.Close()
	var mute atomic.Bool
	go func() {
		defer front.Close()
		buf := make([]byte, 64<<10)
		for {
			n, err := back.Read(buf)
			if err != nil || mute.Load() {
				return // whatever the answer to the commit was
			}
			if _, err := front.Write(buf[:n]); err != nil {
				return
			}
		}
	}()
	buf := make([]byte, 64<<10)
	for {
		n, err := front.Read(buf)
		if err != nil {
			return
		}
		if b.lose.Load() > 0 && bytes.HasPrefix(buf[:n], []byte("Q")) && bytes.Contains(buf[:n], []byte("commit\x00")) {
			b.lose.Add(-1)
			b.lost.Add(1)
			if b.early.Load() {
				return
			}
			mute.Store(true)
		}
		if _, err := back.Write(buf[:n]); err != nil {
			return
		}
		if mute.Load() {
			_, _ = io.Copy(io.Discard, front)
			return
		}
	}
}

// TestAnAnswerThatIsLost: the database wrote a decision and the service never hears of it,
// or it did not hear of the decision. In either case it is in the journal once, and
// everything that follows happens once.
func TestAnAnswerThatIsLost(t *testing.T) {
	for name, early := range map[string]bool{"after the commit": false, "before the commit": true} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			way := newBetween(t, b.url)
			way.early.Store(early)
			b.url = way.url
			b.pooled(3)
			b.start("one")
			all := b.well(3)
			way.lose.Store(1)
			control.VerdictChanged(b.ctl, all[0].ID, health.Report{Check: "berths-up", Verdict: health.Unhealthy, Since: time.Now(), Why: "failed 3 of 3"})
			b.eventually("an answer is lost", func() bool { return way.lost.Load() == 1 })
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
	way := newBetween(t, b.url)
	way.early.Store(true)
	b.url = way.url
	way.lose.Store(0)
	b.start("one")
	b.group(1)
	b.whole(1)
	first := b.serving()[0].AddressNumber
	way.lose.Store(3) // of the next changes
	victim := b.serving()[0].ID
	b.yard.end(victim)
	b.eventually("three could not be written", func() bool { return way.lost.Load() == 3 })
	b.gone("and then they are", victim)
	b.whole(1)
	if next := b.serving()[0].AddressNumber; next != first+1 {
		t.Errorf("the next address after %d is %d", first, next)
	}
}
