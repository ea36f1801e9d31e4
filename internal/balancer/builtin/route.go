package builtin

import (
	"cmp"
	"encoding/json"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/balancer/accesslog"
	"unitas/internal/balancer/form"
	"unitas/internal/fleet/traffic"
	"unitas/internal/fleet/words"
)

// serve answers a request, or has a target of some pool answer it.
func (d *door) serve(w http.ResponseWriter, r *http.Request) {
	s := d.now.Load()
	x := d.begin(w, r)
	defer x.finish()
	if s.AccessLog.Keep != traffic.KeepNone && s.AccessLog.Keep != "" {
		begun := x.since
		keep := s.keeps()
		x.line = &accesslog.Line{}
		defer func() { d.note(x, keep, begun) }()
	}
	d.turns[0].Add(1)
	if no := d.admit(s, x); no != nil {
		if no.isLimit() {
			d.refused.Add(1)
		} else {
			d.unfit.Add(1)
		}
		x.refuse(no)
		return
	}
	if s.Redirect != 0 {
		redirect(x, s.Redirect)
		return
	}
	p, no := d.route(s, x)
	if no != nil {
		x.refuse(no)
		return
	}
	p.forward(x)
}

// route finds the pool of a request.
func (d *door) route(s *doorSettings, x *exchange) (*pool, *refusal) {
	c := traffic.Chosen{Pool: s.Pool}
	if len(s.Routes) > 0 {
		c = s.Choose(asked(x.in.Host, x.asked.Path, x.in.Header, func(route int) uint64 { return d.turns[route].Add(1) }))
	}
	if x.line != nil {
		x.line.Route = c.Route
	}
	p := s.poolOf(c)
	switch {
	case p != nil:
		return p, nil
	case c.Pool == "":
		d.lost.Add(1)
		return nil, &refusal{http.StatusNotFound, "No route of the listener takes this request."}
	}
	return nil, &refusal{http.StatusServiceUnavailable, "The pool " + c.Pool + " is not there."}
}

func asked(host, path string, h http.Header, turn func(int) uint64) traffic.Asked {
	return traffic.Asked{Host: host, Path: path, Turn: turn, Header: func(name string) []string { return h[http.CanonicalHeaderKey(name)] }}
}

// poolOf is the pool of a choice: the one aside when it has a target that takes requests.
func (s *doorSettings) poolOf(c traffic.Chosen) *pool {
	if c.Split != "" {
		if p := s.pools[c.Split].pool.Load(); p != nil && p.takes() {
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
	h := x.w.Header()
	x.isLast(h)
	x.begins(http.StatusPermanentRedirect)
	h.Set("Location", "https://"+host+x.asked.Target)
	h.Set("Content-Length", "0")
	x.w.WriteHeader(x.status)
}

func inMs(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// note writes down what was served, when it is to be.
func (d *door) note(x *exchange, keep bool, begun time.Time) {
	if !keep && x.failure == "" && x.status < http.StatusInternalServerError {
		return
	}
	l := x.line
	l.At, l.Listener, l.Caller, l.Method, l.Host, l.Path, l.Protocol = begun.UTC(), d.address, x.link.address, words.Plain(x.method, 20), words.Plain(x.in.Host, 200), x.path, x.in.Proto
	l.RequestID, l.Trace = x.requestID, x.trace[3:35]
	l.Status, l.Failure, l.BytesIn, l.BytesOut, l.TotalMs = x.status, x.failure, x.came.Load(), x.sent, inMs(time.Since(begun))
	if x.pool != nil {
		l.Pool = x.pool.name
	}
	d.access.Write(l)
}

// AccessLog are the newest lines of what a listener wrote down.
func (b *Balancer) AccessLog(address string, most int) (lines []json.RawMessage, file string, err error) {
	return b.access.Last(address, most)
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
	read, err := form.Read(&http.Request{Method: cmp.Or(r.Method, http.MethodGet), Host: r.Host, RequestURI: r.Path, Header: r.Header, ProtoMajor: 1})
	if err != nil {
		return balancer.Trace{Status: http.StatusBadRequest, Why: []string{"it is refused before it is routed: " + err.Error()}}, true
	}
	a := asked(r.Host, read.Path, r.Header, func(route int) uint64 { return d.turns[route].Load() + 1 })
	c := s.Choose(a)
	out := balancer.Trace{Route: c.Route, Split: c.Split, Why: s.Explain(a, c)}
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
	if out.Split != "" && p.name != out.Split {
		out.Why = append(out.Why, "the pool "+out.Split+" has no target that takes requests, so the route's own pool has it")
	}
	t, why := p.wouldPick(d.nearby.Load(), r)
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
func (p *pool) wouldPick(n *nearby, r balancer.Trial) (t *target, why []string) {
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
		return t, append(why, "it stays at "+t.instance+" by "+string(l.spoken.Affinity.By))
	}
	t = l.pick(some, c)
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
