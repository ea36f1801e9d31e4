package builtin

import (
	"context"
	"net"
	"net/http"
	"time"

	"github.com/pires/go-proxyproto"

	"unitas/internal/balancer/accesslog"
	"unitas/internal/fleet/traffic"
)

// relay connects a caller with a target, whatever they speak. The connection counts as one
// request, which lasts until both have ended it.
func (d *door) relay(caller net.Conn, s *doorSettings, l *link) {
	defer caller.Close()
	begun := time.Now()
	x := &exchange{door: d, link: l, page: l.page, method: "TCP", since: begun, in: &http.Request{}, ctx: context.Background()}
	d.turns[0].Add(1)
	line := &accesslog.Line{At: begun.UTC(), Listener: d.address, Caller: l.address, Protocol: "TCP", Pool: s.Pool}
	keep := s.keeps()
	defer func() {
		if keep || (line.Failure != "" && s.AccessLog.Keep != traffic.KeepNone && s.AccessLog.Keep != "") {
			line.TotalMs = inMs(time.Since(begun))
			d.access.Write(line)
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
	far, a := d.reach(ctx, x, caller, s, line)
	if far == nil {
		p.untook()
		line.Failure = "no target took the connection"
		return
	}
	defer a.end()
	defer far.Close()
	a.first = time.Since(begun)
	a.count(http.StatusOK, true)
	line.FirstMs = inMs(a.first)
	tally := &a.t.tallies[x.page]
	in := func(n int64) { tally.in.Add(n); line.BytesIn += n }
	out := func(n int64) { tally.out.Add(n); line.BytesOut += n }
	one, other := plain(caller), plain(far)
	d.tunnel(side{one, one}, side{other, other}, s.Limits.TunnelIdle, in, out, splice)
}

// reach connects to a target, and begins its connection with who is on the other side when the
// listener says so.
func (d *door) reach(ctx context.Context, x *exchange, caller net.Conn, s *doorSettings, line *accesslog.Line) (net.Conn, *attempt) {
	c := choice{turn: &x.pool.turn, page: x.page}
	for len(c.tried) <= mostTried {
		t, _ := x.pool.pick(ctx, x, &c)
		if t == nil {
			return nil, nil
		}
		x.enter(t)
		a := &attempt{x: x, t: t, since: x.since, free: func() {}}
		far, err := t.upstream.Load().dial(ctx)
		if err == nil && s.ProxyProtocol {
			if _, err = proxyproto.HeaderProxyFromAddrs(2, caller.RemoteAddr(), caller.LocalAddr()).WriteTo(far); err != nil {
				far.Close()
			}
		}
		line.Target, line.Group, line.Version = t.instance, t.group, t.version
		if err == nil {
			line.Attempts = append(line.Attempts, accesslog.Attempt{Target: t.instance, TookMs: inMs(time.Since(x.since))})
			t.answered()
			return far, a
		}
		f := x.fateOf(err)
		line.Attempts = append(line.Attempts, accesslog.Attempt{Target: t.instance, TookMs: inMs(time.Since(x.since)), Why: f.why})
		a.first = time.Since(x.since)
		a.account(f, false)
		a.end()
		if f.by != theTarget {
			return nil, nil
		}
		c.tried = append(c.tried, t)
	}
	return nil, nil
}
