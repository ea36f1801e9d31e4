package builtin

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"sync"
	"time"

	"github.com/pires/go-proxyproto"

	"unitas/internal/balancer/served"
	"unitas/internal/fleet/traffic"
)

// relay connects a caller with a target, whatever they speak. The connection counts as one
// request, which lasts until both have ended it.
func (d *door) relay(near net.Conn, s *doorSettings, l *link) {
	defer near.Close()
	begun := time.Now()
	x := &exchange{door: d, link: l, page: l.page, method: "TCP", since: begun, in: &http.Request{}}
	d.turns[0].Add(1)
	line := &served.Line{At: begun.UTC(), Listener: d.address, Caller: l.address, Protocol: "TCP", Pool: s.Pool}
	keep := s.keeps()
	defer func() {
		if keep || (line.Failure != "" && s.Log.Keep != traffic.KeepNone && s.Log.Keep != "") {
			line.TotalMs = inMs(time.Since(begun))
			d.served.Write(line)
		}
	}()
	p := s.pools[s.Pool].pool.Load()
	if p == nil {
		line.Failure = "the pool is not there"
		return
	}
	x.pool = p
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	far, t := d.reach(ctx, x, near, s, line)
	if far == nil {
		p.requests.Add(1)
		p.failures.Add(1)
		line.Failure = "no target took the connection"
		return
	}
	defer x.end()
	defer far.Close()
	took := time.Since(begun)
	p.count(t, x.page, "", time.Now(), 200, took)
	line.FirstMs = inMs(took)
	tally := &t.tallies[x.page]
	in := func(n int64) { tally.in.Add(n); line.BytesIn += n }
	out := func(n int64) { tally.out.Add(n); line.BytesOut += n }
	w := newWatch(s.Limits.Quiet, func() { near.Close(); far.Close() })
	defer w.stop()
	ended := make(chan struct{})
	defer close(ended)
	go func() {
		select {
		case <-d.ended:
			w.cut()
		case <-ended:
		}
	}()
	var all sync.WaitGroup
	all.Go(func() { splice(plain(far), plain(near), w, in) })
	splice(plain(near), plain(far), w, out)
	all.Wait()
}

// reach connects to a target, and begins its connection with who is on the other side when the
// listener says so.
func (d *door) reach(ctx context.Context, x *exchange, near net.Conn, s *doorSettings, line *served.Line) (net.Conn, *target) {
	c := choice{turn: &x.pool.turn, page: x.page}
	for len(c.tried) <= mostTried {
		t, _ := x.pool.pick(ctx, x, &c)
		if t == nil {
			return nil, nil
		}
		x.begin(t)
		far, err := t.upstream.Load().dial(ctx)
		if err == nil && s.Tell {
			if _, err = proxyproto.HeaderProxyFromAddrs(2, near.RemoteAddr(), near.LocalAddr()).WriteTo(far); err != nil {
				far.Close()
			}
		}
		line.Target, line.Group, line.Version = t.instance, t.group, t.version
		if err == nil {
			line.Attempts = append(line.Attempts, served.Attempt{Target: t.instance, TookMs: inMs(time.Since(x.since))})
			return far, t
		}
		line.Attempts = append(line.Attempts, served.Attempt{Target: t.instance, TookMs: inMs(time.Since(x.since)), Why: "no connection"})
		x.end()
		t.retried.Add(1)
		x.pool.setAside(t, time.Now(), "no connection")
		c.tried = append(c.tried, t)
	}
	return nil, nil
}

// lookAtLeast is how often a connection that is passed on in the kernel is looked at.
const lookAtLeast = time.Second

// splice passes on what one side says until it ends, in the kernel where that can be. Now and
// then it stops for a moment to see whether something came.
func splice(to, from net.Conn, w *watch, count func(int64)) {
	every := lookAtLeast
	if w.idle > 0 {
		every = min(every, w.idle/2)
	}
	for {
		_ = from.SetReadDeadline(time.Now().Add(every))
		n, err := io.Copy(to, from)
		if n > 0 {
			count(n)
			w.seen()
		}
		if errors.Is(err, os.ErrDeadlineExceeded) {
			if n == 0 {
				every = min(2*every, max(lookAtLeast, w.idle/4)) // a quiet one costs little
			} else {
				every = lookAtLeast
			}
			continue
		}
		if half, ok := to.(halfCloser); ok && err == nil && half.CloseWrite() == nil {
			return
		}
		w.cut()
		return
	}
}
