package builtin

import (
	"context"
	"errors"
	"io"
	"net/http"
	"sync/atomic"
	"time"

	"unitas/internal/balancer/wire"
	"unitas/internal/fleet/traffic"
)

// forward sends a request to a target, and to another when the first did not take
// it. A request of which something was sent may have done its work, or be what ended
// the target: it is sent to one other at most, when its method promises that twice is
// like once and the pool's retries allow it.
func (p *pool) forward(x *exchange) {
	p.retries.earn()
	l := p.lane.Load()
	x.pool = p
	if most := l.spoken.Limits.BodyBytes; most > 0 && x.in.ContentLength > most {
		x.refuse(http.StatusRequestEntityTooLarge, tooLong(most))
		return
	}
	x.narrow(l.spoken.Limits)
	in, free := x.bound(x.in, l.spoken.Limits.Request, x.door.now.Load().Limits.Request)
	defer free()
	out := x.outbound(in, l.spoken.Speak == traffic.Plain || l.spoken.Speak == "")
	c := choice{turn: &p.turn, page: x.page}
	again := false // after something was sent
	for {
		t, stay := p.pick(in.Context(), x, &c)
		if t == nil {
			p.requests.Add(1)
			p.failures.Add(1)
			if len(c.tried) > 0 {
				x.refuse(http.StatusBadGateway, "No target took the request.")
				return
			}
			x.refuse(http.StatusServiceUnavailable, "No target is healthy.")
			return
		}
		x.begin(t)
		out.URL.Host = t.host
		var body *attempt
		if x.body != nil {
			body = &attempt{keptBody: x.body}
			out.Body = body
		}
		res, err := t.upstream.Load().ask(out, x.early)
		now := time.Now()
		took := now.Sub(x.since)
		if err == nil {
			p.count(t, x.page, x.path, now, res.StatusCode, took)
			if stay {
				p.setCookie(x.w.Header(), t.instance, l.spoken.Stay, x.link.secure)
			}
			x.tried(t, took, "")
			x.answer(res)
			return
		}
		x.end()
		var failed *wire.Error
		errors.As(err, &failed)
		if fault := x.body.fault(); fault != nil { // for the server that is the caller's end as well
			x.tried(t, took, fault.Error())
			x.refuseBody(fault)
			return
		}
		if why := context.Cause(in.Context()); why != nil && !errors.Is(why, errLate) {
			x.failure = "the caller went away"
			x.tried(t, took, x.failure)
			return
		}
		used := !body.takeBack()
		why := whyFailed(failed)
		x.tried(t, took, why)
		late := failed.Late || context.Cause(in.Context()) != nil
		if !late || failed.At == wire.Connecting {
			p.setAside(t, now, why)
		}
		if used || len(c.tried) == mostTried || context.Cause(in.Context()) != nil ||
			(failed.Sent && (again || !repeatable(x.method) || !p.retries.take())) {
			p.count(t, x.page, x.path, now, 0, took)
			p.failures.Add(1)
			if late {
				x.refuse(http.StatusGatewayTimeout, "The target did not answer in time.")
			} else {
				x.refuse(http.StatusBadGateway, "The target closed the connection without an answer.")
			}
			return
		}
		again = failed.Sent
		t.retried.Add(1)
		c.tried = append(c.tried, t)
	}
}

// whyFailed is for people.
func whyFailed(e *wire.Error) string {
	switch {
	case e.At == wire.Connecting && e.Late:
		return "no connection in time"
	case e.At == wire.Connecting:
		return "no connection"
	case e.Late:
		return "no answer in time"
	case e.At == wire.Answering:
		return "a broken answer"
	}
	return "no answer"
}

// mostTried is how many targets may refuse a request that was not sent yet.
const mostTried = 16

// knownWithin is how long a request waits for targets that are not known yet.
const knownWithin = 2 * time.Second

// pick takes the target for a request, or returns nil. While the targets of the pool
// are not known it waits for a moment. stay is set when the caller is to be told whom it has.
func (p *pool) pick(ctx context.Context, x *exchange, c *choice) (t *target, stay bool) {
	near := x.door.near.Load()
	look := func() (*target, bool, bool) {
		l := p.lane.Load()
		some, _ := l.within(near, x.since)
		t, stay := p.stays(some, c, caller{x.link.address, x.in.Header})
		if t == nil {
			t = some.pick(c)
		}
		if t == nil && some != l {
			t = l.pick(c)
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

// count adds an answer, or the lack of one, to all that is told of the target.
func (p *pool) count(t *target, page int, path string, at time.Time, status int, took time.Duration) {
	p.ledger.note(page, entry{p, t, path, at, took, status})
	if status != 0 {
		t.answered()
	}
	if status == 0 || status >= 500 {
		t.inARow.Add(1)
	} else if t.inARow.Load() != 0 {
		t.inARow.Store(0)
	}
}

// repeatable reports whether a method promises that twice is like once (RFC 9110,
// section 9.2.2).
func repeatable(method string) bool {
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodTrace, http.MethodPut, http.MethodDelete:
		return true
	}
	return false
}

// early passes on an answer that comes before the last, but for "100 Continue": the server says
// that by itself when the body is wanted, which is when the target said so.
func (x *exchange) early(status int, h http.Header) error {
	if status == http.StatusContinue || !x.in.ProtoAtLeast(1, 1) {
		return nil
	}
	out := x.w.Header()
	inbound(out, h)
	x.w.WriteHeader(status)
	for name := range h {
		delete(out, name)
	}
	return nil
}

// answer passes an answer on as it comes, and ends the exchange.
func (x *exchange) answer(res *http.Response) {
	t := x.target
	defer x.end()
	defer res.Body.Close()
	if res.StatusCode == http.StatusSwitchingProtocols {
		x.switchTo(res)
		return
	}
	h := x.w.Header()
	inbound(h, res.Header)
	if _, typed := h["Content-Type"]; !typed {
		h["Content-Type"] = nil // none is guessed
	}
	x.isLast(h)
	announced := len(res.Trailer)
	for name := range res.Trailer {
		h.Add("Trailer", name)
	}
	x.status = res.StatusCode
	x.willWrite(x.since)
	x.w.WriteHeader(res.StatusCode)
	if res.Body != http.NoBody {
		x.copy(res, t)
	}
	x.trailers(h, res.Trailer, announced)
}

// copy passes the body on, each part as it comes. One that breaks off is broken off to the
// caller as well: nothing else tells it that this is not all.
func (x *exchange) copy(res *http.Response, t *target) {
	out := &t.tallies[x.page].out
	flush := http.NewResponseController(x.w).Flush
	if ready, ok := res.Body.(interface{ Ready() bool }); (!ok || !ready.Ready()) && (res.ContentLength != 0) {
		_ = flush()
	}
	buf := parts.Get().(*[]byte)
	defer parts.Put(buf)
	for {
		n, err := res.Body.Read(*buf)
		if n > 0 {
			out.Add(int64(n))
			x.sent += int64(n)
			x.willWrite(time.Now())
			if _, err := x.w.Write((*buf)[:n]); err != nil {
				x.failure = "the caller went away"
				panic(http.ErrAbortHandler)
			}
			if err == nil && x.sent != res.ContentLength {
				_ = flush()
			}
		}
		if err == io.EOF {
			return
		}
		if err != nil {
			_ = flush()
			x.failure = "the target broke off its answer"
			if x.in.Context().Err() != nil {
				x.failure = "the caller went away"
			} else {
				t.inARow.Add(1)
			}
			panic(http.ErrAbortHandler)
		}
	}
}

// trailers passes on the fields after the body.
func (x *exchange) trailers(h, all http.Header, announced int) {
	if len(all) == 0 {
		return
	}
	for name, values := range all {
		if len(all) != announced {
			name = http.TrailerPrefix + name
		}
		h[name] = values
	}
	_ = http.NewResponseController(x.w).Flush()
}
