package builtin

import (
	"context"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"unitas/internal/balancer/wire"
	"unitas/internal/fleet/traffic"
)

// attempt is a request at one target.
type attempt struct {
	x       *exchange
	t       *target
	out     *http.Request
	body    *reading // nil without one
	since   time.Time
	first   time.Duration // to the head of the answer, or until it failed
	counted bool
	free    func()
}

// forward sends a request to a target, and to another when the first did not take
// it. A request of which something was sent may have done its work, or be what ended
// the target: it is sent to one other at most, when its method promises that twice is
// like once and the pool's retries allow it.
func (p *pool) forward(x *exchange) {
	p.retries.earn()
	l := p.lane.Load()
	x.pool = p
	limits := &l.spoken.Limits
	if no := x.fits(&l.spoken); no != nil {
		x.refuse(no)
		return
	}
	defer x.bound(limits.Request, x.door.now.Load().Limits.Request)()
	x.wait(targetLimits{limits.FirstByte, limits.Idle})
	c := choice{turn: &p.turn, page: x.page}
	again := false // after something was sent
	for {
		t, stay := p.pick(x.ctx, x, &c)
		if t == nil {
			p.untook()
			x.refuse(nobodyTakes(len(c.tried)))
			return
		}
		a := x.attempt(t)
		res, err := a.ask()
		if err == nil {
			if stay {
				p.setCookie(x.w.Header(), t.instance, l.spoken.Affinity, x.link.secure)
			}
			f := a.answer(res)
			a.account(f, true)
			a.end()
			if f.by != nobody {
				x.failure = f.why
				x.refuse(f.tell)
			}
			return
		}
		f := x.fateOf(err)
		goesOn := f.by == theTarget && x.ctx.Err() == nil && x.body.isReplayable() && len(c.tried) < mostTried &&
			(!f.begun || (!again && isRepeatable(x.method) && p.retries.take()))
		a.account(f, !goesOn)
		a.end()
		if !goesOn {
			x.failure = f.why
			x.refuse(f.tell)
			return
		}
		again = again || f.begun
		c.tried = append(c.tried, t)
	}
}

// fits is why a request cannot go to the targets of a pool, whoever they are; nil when it can.
func (x *exchange) fits(s *traffic.Targets) *refusal {
	if most := s.Limits.BodyBytes; most > 0 && x.in.ContentLength > most {
		return &refusal{http.StatusRequestEntityTooLarge, tooLong(most)}
	}
	x.body.narrow(s.Limits.BodyBytes)
	if x.upgrade != "" && s.Protocol == traffic.HTTP2 {
		return badRequest("it asks for another protocol, and the pool's targets speak HTTP/2, which knows no such change")
	}
	if speaks := s.Protocol; speaks != traffic.Plain && speaks != "" && !isWritten(x.asked.Target) {
		return badRequest("its path cannot be written to targets that speak " + string(speaks))
	}
	return nil
}

// isWritten reports whether the transports of net/http write a target as it is: what begins with
// two slashes they take for a host, but for one that they would write themselves.
func isWritten(target string) bool {
	if !strings.HasPrefix(target, "//") {
		return true
	}
	path, query, asks := strings.Cut(target, "?")
	u := &url.URL{RawPath: path, RawQuery: query, ForceQuery: asks}
	var err error
	u.Path, err = url.PathUnescape(path)
	return err == nil && u.EscapedPath() == path
}

func nobodyTakes(tried int) *refusal {
	if tried > 0 {
		return &refusal{http.StatusBadGateway, "No target took the request."}
	}
	return &refusal{http.StatusServiceUnavailable, "No target is healthy."}
}

// attempt has a target have the request.
func (x *exchange) attempt(t *target) *attempt {
	x.enter(t)
	a := &attempt{x: x, t: t, since: x.since, free: func() {}}
	ctx := x.ctx
	if x.patience != nil && x.patience.limits[forHead]+x.patience.limits[forPart] > 0 {
		var cancel context.CancelCauseFunc
		ctx, cancel = context.WithCancelCause(ctx)
		x.ask.Store(&cancel)
		a.free = func() { cancel(context.Canceled) }
	}
	a.out = x.outbound(ctx, t)
	if x.body != nil {
		a.body = x.body.read(a.out)
		a.out.Body, a.out.GetBody = a.body, a.body.again
	}
	return a
}

// ask sends the request and returns the head of the answer. Where a connection that rested was
// ended by the target, which nobody can know before, it is asked again on a fresh one.
func (a *attempt) ask() (*http.Response, error) {
	x := a.x
	up := a.t.upstream.Load()
	if a.body == nil {
		x.patience.begin(forHead)
	}
	res, err := up.ask(x, a.out, true)
	if rested(err) && (!err.(*wire.Error).Sent || isRepeatable(x.method)) && x.body.isReplayable() {
		if a.body != nil {
			a.body = x.body.read(a.out)
			a.out.Body = a.body
		}
		res, err = up.ask(x, a.out, false)
	}
	a.first = time.Since(a.since)
	x.patience.end(forHead)
	if err == nil {
		x.headed.Store(true)
	} else {
		x.patience.end(forRoom)
		x.body.takeBack()
	}
	a.tried()
	return res, err
}

func rested(err error) bool {
	e, ok := err.(*wire.Error)
	return ok && e.Rested
}

// end says that the target has the request no more.
func (a *attempt) end() {
	a.free()
	a.x.leave()
}

// mostTried is how many targets may refuse a request that was not sent yet.
const mostTried = 16

// isRepeatable reports whether a method promises that twice is like once (RFC 9110,
// section 9.2.2). It is the one list that retries go by.
func isRepeatable(method string) bool {
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodTrace, http.MethodPut, http.MethodDelete:
		return true
	}
	return false
}

// knownWithin is how long a request waits for targets that are not known yet.
const knownWithin = 2 * time.Second

// pick takes the target for a request, or returns nil. While the targets of the pool
// are not known it waits for a moment. stay is set when the caller is to be told whom it has.
func (p *pool) pick(ctx context.Context, x *exchange, c *choice) (t *target, stay bool) {
	nearby := x.door.nearby.Load()
	look := func() (*target, bool, bool) {
		l := p.lane.Load()
		some, _ := l.within(nearby, x.since)
		t, stay := p.stays(some, c, caller{x.link.address, x.in.Header})
		if t == nil {
			t = l.pick(some, c)
		}
		return t, stay, t != nil || l.known
	}
	t, stay, done := look()
	if done {
		return t, stay
	}
	limit := time.NewTimer(knownWithin)
	defer limit.Stop()
	for {
		change := p.nextChange()
		if t, stay, done := look(); done {
			return t, stay
		}
		select {
		case <-change:
		case <-limit.C:
			return nil, false
		case <-ctx.Done():
			return nil, false
		}
	}
}

// allowance bounds the retries of a pool to a tenth of its requests, with ten in
// hand. The zero value has all ten.
type allowance struct{ spent atomic.Int64 } // in tenths of a retry; 0 to 100

func (a *allowance) earn() {
	if n := a.spent.Load(); n > 0 {
		a.spent.CompareAndSwap(n, n-1) // one that is missed is made good by the next
	}
}

func (a *allowance) take() bool {
	for {
		n := a.spent.Load()
		if n+10 > 100 {
			return false
		}
		if a.spent.CompareAndSwap(n, n+10) {
			return true
		}
	}
}
