package builtin

import (
	"encoding/json"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/balancer/served"
	"unitas/internal/fleet/traffic"
	"unitas/internal/fleet/words"
)

// serve answers a request, or has a target of some pool answer it.
func (d *door) serve(w http.ResponseWriter, r *http.Request) {
	s := d.now.Load()
	l := r.Context().Value(linkKey{}).(*link)
	x := &exchange{door: d, link: l, page: l.page, w: w, in: r, since: time.Now(), method: r.Method, path: r.URL.Path}
	x.identify()
	if s.Log.Keep != traffic.KeepNone && s.Log.Keep != "" {
		begun := x.since
		keep := s.keeps()
		x.line = &served.Line{}
		defer func() { d.note(x, keep, begun) }()
	}
	d.turns[0].Add(1)
	if r.ProtoMajor == 1 {
		l.wrote = time.Time{} // the server has forgotten the limits of the request before
		l.busy.Store(true)
		defer l.busy.Store(false)
	}
	if status, why := d.refuses(s, x); status != 0 {
		d.refused.Add(1)
		if l.over || r.Method == http.MethodConnect { // what comes after is for somebody else
			w.Header().Set("Connection", "close")
		}
		x.refuse(status, why)
		return
	}
	if s.Redirect != 0 {
		redirect(x, s.Redirect)
		return
	}
	x.keepBody(s.Limits.BodyBytes)
	if x.body != nil {
		defer x.finish()
	}
	p, c := d.choose(s, r)
	if x.line != nil {
		x.line.Route = c.Route
	}
	if p == nil {
		if c.Pool == "" {
			d.lost.Add(1)
			x.refuse(http.StatusNotFound, "No route of the listener takes this request.")
			return
		}
		x.refuse(http.StatusServiceUnavailable, "The pool "+c.Pool+" is not there.")
		return
	}
	p.forward(x)
}

// refuses tells what a request is refused with before anybody looks where it goes; 0 when it is
// not.
func (d *door) refuses(s *doorSettings, x *exchange) (status int, why string) {
	r := x.in
	switch {
	case x.link.over:
		return http.StatusTooManyRequests, "There are too many connections from your address."
	case !x.link.who.may():
		return http.StatusTooManyRequests, "There are too many requests from your address."
	case r.Method == http.MethodConnect:
		return http.StatusNotImplemented, "This is no proxy to elsewhere."
	case s.Limits.BodyBytes > 0 && r.ContentLength > s.Limits.BodyBytes:
		return http.StatusRequestEntityTooLarge, tooLong(s.Limits.BodyBytes)
	}
	return 0, ""
}

// choose finds the pool of a request.
func (d *door) choose(s *doorSettings, r *http.Request) (*pool, traffic.Chosen) {
	c := traffic.Chosen{Pool: s.Pool}
	if len(s.Routes) > 0 {
		c = s.Choose(asked(r.Host, r.URL.Path, r.Header, func(route int) uint64 { return d.turns[route].Add(1) }))
	}
	return s.poolOf(c), c
}

func asked(host, path string, h http.Header, turn func(int) uint64) traffic.Asked {
	return traffic.Asked{Host: host, Path: path, Turn: turn, Header: func(name string) []string { return h[http.CanonicalHeaderKey(name)] }}
}

// poolOf is the pool of a choice: the one aside when it has a target that takes requests.
func (s *doorSettings) poolOf(c traffic.Chosen) *pool {
	if c.Divert != "" {
		if p := s.pools[c.Divert].pool.Load(); p != nil && p.takes() {
			return p
		}
	}
	if h := s.pools[c.Pool]; h != nil {
		return h.pool.Load()
	}
	return nil
}

// takes reports whether a target of the pool is open.
func (p *pool) takes() bool {
	for _, t := range p.lane.Load().targets {
		if t.isOpen() {
			return true
		}
	}
	return false
}

// redirect sends a caller to https.
func redirect(x *exchange, port int) {
	host, _, err := net.SplitHostPort(x.in.Host)
	if err != nil {
		host = strings.Trim(x.in.Host, "[]")
	}
	switch {
	case port != 443:
		host = net.JoinHostPort(host, strconv.Itoa(port))
	case strings.Contains(host, ":"):
		host = "[" + host + "]"
	}
	x.status = http.StatusPermanentRedirect
	h := x.w.Header()
	h.Set("Location", "https://"+host+raw(x.in))
	h.Set("Content-Length", "0")
	x.w.WriteHeader(x.status)
}

// tried notes an attempt.
func (x *exchange) tried(t *target, took time.Duration, why string) {
	if x.line == nil {
		return
	}
	l := x.line
	l.Target, l.Group, l.Version = t.instance, t.group, t.version
	l.Attempts = append(l.Attempts, served.Attempt{Target: t.instance, TookMs: inMs(took), Why: why})
	if why == "" {
		l.FirstMs = inMs(took)
	}
}

func inMs(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// note writes down what was served, when it is to be.
func (d *door) note(x *exchange, keep bool, begun time.Time) {
	if !keep && x.failure == "" && x.status < 500 {
		return
	}
	l := x.line
	l.At, l.Listener, l.Caller, l.Method, l.Host, l.Path, l.Protocol = begun.UTC(), d.address, x.link.address, words.Plain(x.method, 20), words.Plain(x.in.Host, 200), words.Plain(x.path, 500), x.in.Proto
	l.RequestID, l.Trace = x.requestID, x.trace[3:35]
	l.Status, l.Failure, l.BytesIn, l.BytesOut, l.TotalMs = x.status, x.failure, x.came.Load(), x.sent, inMs(time.Since(begun))
	if x.pool != nil {
		l.Pool = x.pool.name
	}
	d.served.Write(l)
}

// Served are the newest lines of what a listener wrote down.
func (b *Balancer) Served(address string, most int) (lines []json.RawMessage, file string, err error) {
	return b.served.Last(address, most)
}

// Try tells where a request would go now, without sending it.
func (b *Balancer) Try(address string, r balancer.Trial) (balancer.Trace, bool) {
	b.mu.Lock()
	d := b.doors[address]
	b.mu.Unlock()
	if d == nil {
		return balancer.Trace{}, false
	}
	s := d.now.Load()
	a := asked(r.Host, r.Path, r.Header, func(route int) uint64 { return d.turns[route].Load() + 1 })
	c := s.Choose(a)
	out := balancer.Trace{Route: c.Route, Divert: c.Divert, Why: s.Explain(a, c)}
	if s.Redirect != 0 {
		out.Status, out.Why = http.StatusPermanentRedirect, []string{"the listener sends every request to https at port " + strconv.Itoa(s.Redirect)}
		return out, true
	}
	p := s.poolOf(c)
	switch {
	case p == nil && c.Pool == "":
		out.Status = http.StatusNotFound
		return out, true
	case p == nil:
		out.Status = http.StatusServiceUnavailable
		out.Why = append(out.Why, "the pool "+c.Pool+" is not there")
		return out, true
	}
	out.Pool = p.name
	if out.Divert != "" && p.name != out.Divert {
		out.Why = append(out.Why, "the pool "+out.Divert+" has no target that takes requests, so the route's own pool has it")
	}
	t, why := p.wouldPick(d.near.Load(), r)
	out.Why = append(out.Why, why...)
	if t == nil {
		out.Status = http.StatusServiceUnavailable
		return out, true
	}
	told := t.tell()
	out.Target = &told
	return out, true
}

// wouldPick is the target that a request would get, and why.
func (p *pool) wouldPick(n *near, r balancer.Trial) (t *target, why []string) {
	l := p.lane.Load()
	c := &choice{turn: &p.turn, trial: true}
	some, spill := l.within(n, time.Now())
	if n != nil && len(n.order) > 0 {
		why = append(why, "of the regions "+n.order[0].Region+" is the nearest")
	}
	if spill != "" {
		why = append(why, spill)
	}
	if t, _ = p.stays(some, c, caller{r.Caller, r.Header}); t != nil {
		return t, append(why, "it stays at "+t.instance+" by "+string(l.spoken.Stay.By))
	}
	if t = some.pick(c); t == nil && some != l {
		t = l.pick(c)
	}
	switch {
	case t == nil:
		why = append(why, "the pool "+p.name+" has no target that takes requests")
	case !t.isOpen():
		why = append(why, "nobody is healthy, so "+t.instance+" is tried, as the pool's setting wants")
	case l.leastBusy:
		why = append(why, t.instance+" has the fewest requests in flight for its weight")
	default:
		why = append(why, t.instance+" is the next in turn")
	}
	return t, why
}
