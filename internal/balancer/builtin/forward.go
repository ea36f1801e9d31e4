package builtin

import (
	"context"
	"io"
	"net/http"
	"net/http/httptrace"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
)

// RoundTrip sends a request to a target, and to another when the first did not take
// it. A request of which something was sent may have done its work, or be what ended
// the target: it is sent to one other at most, when its method promises that twice is
// like once and the pool's retries allow it.
func (p *pool) RoundTrip(r *http.Request) (*http.Response, error) {
	p.requests.Add(1)
	p.retries.earn()
	var kept *keptBody
	if r.Body != nil && r.Body != http.NoBody {
		kept = &keptBody{ReadCloser: r.Body}
		r.Body = kept
	}
	var sent atomic.Bool
	r = r.WithContext(httptrace.WithClientTrace(r.Context(), &httptrace.ClientTrace{WroteHeaders: func() { sent.Store(true) }}))
	var tried []*target
	again := false // after something was sent
	for {
		t := p.pick(r.Context(), tried)
		if t == nil {
			return nil, errNobody
		}
		now := t.begin(r.Method, r.URL.Path)
		r.URL.Host = t.host
		res, err := p.transport.RoundTrip(r)
		took := time.Since(now.Since)
		if err == nil {
			p.count(t, r.URL.Path, now.Since.Add(took), res.StatusCode, took)
			if kept != nil {
				kept.to.Store(t.flight)
				t.flight.in.Add(kept.read.Swap(0))
			}
			res.Body = follow(res.Body, t, now)
			return res, nil
		}
		t.end(now)
		if r.Context().Err() != nil {
			return nil, err
		}
		p.setAside(t, time.Now())
		used := kept != nil && kept.used.Load()
		if used || len(tried) == mostTried || (sent.Load() && (again || !repeatable(r.Method) || !p.retries.take())) {
			p.count(t, r.URL.Path, now.Since.Add(took), 0, took)
			return nil, err
		}
		again = sent.Load()
		t.retried.Add(1)
		tried = append(tried, t)
	}
}

// mostTried is how many targets may refuse a request that was not sent yet.
const mostTried = 16

// knownWithin is how long a request waits for targets that are not known yet.
const knownWithin = 2 * time.Second

// pick takes the target for a request, or returns nil. While the targets of the pool
// are not known it waits for a moment.
func (p *pool) pick(ctx context.Context, tried []*target) *target {
	l := p.lane.Load()
	if t := l.pick(&p.turn, tried); t != nil || l.known {
		return t
	}
	limit := time.NewTimer(knownWithin)
	defer limit.Stop()
	for {
		change := p.nextChange()
		l := p.lane.Load()
		if t := l.pick(&p.turn, tried); t != nil || l.known {
			return t
		}
		select {
		case <-change:
		case <-limit.C:
			return nil
		case <-ctx.Done():
			return nil
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
func (p *pool) count(t *target, path string, at time.Time, status int, took time.Duration) {
	t.requests.Add(1)
	t.answers.add(at, status, took)
	t.byVersion.add(at, status, took)
	t.byVersion.paths.add(path, status)
	t.flight.answered.Add(1)
	if h := t.flight.histogram.Load(); h != nil && status != 0 {
		h[bucketOf(took)].Add(1)
	}
	if status == 0 || status >= 500 {
		t.failures.Add(1)
		t.flight.failed.Add(1)
	}
	if status >= 500 {
		p.failures.Add(1)
	}
	if status != 0 {
		t.answered()
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

// oneContinue keeps a target's "100 Continue" from being passed on: the server says
// it by itself when the body is wanted, which is when the target said so.
func oneContinue(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Expect") != "" {
			w = withoutContinue{w}
		}
		next.ServeHTTP(w, r)
	})
}

type withoutContinue struct{ http.ResponseWriter }

func (w withoutContinue) WriteHeader(status int) {
	if status != http.StatusContinue {
		w.ResponseWriter.WriteHeader(status)
	}
}

// Unwrap lets the proxy flush and switch protocols.
func (w withoutContinue) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// keptBody is a request body that survives being closed by a failed attempt,
// and knows whether anything was read from it.
type keptBody struct {
	io.ReadCloser
	used atomic.Bool
	read atomic.Int64           // before it was known who answers
	to   atomic.Pointer[flight] // who does
}

func (b *keptBody) Read(p []byte) (int, error) {
	b.used.Store(true)
	n, err := b.ReadCloser.Read(p)
	if to := b.to.Load(); to != nil {
		to.in.Add(int64(n) + b.read.Swap(0))
	} else {
		b.read.Add(int64(n))
	}
	return n, err
}

// Close leaves the body open: the server closes it when the request is over.
func (b *keptBody) Close() error { return nil }

// follow ends the request of the target when the answer's body is done with.
func follow(body io.ReadCloser, t *target, now *balancer.Request) io.ReadCloser {
	f := followed{ReadCloser: body, t: t, now: now, over: new(atomic.Bool)}
	if both, ok := body.(io.ReadWriteCloser); ok { // a switched protocol
		return followedBoth{f, both}
	}
	return f
}

type followed struct {
	io.ReadCloser
	t    *target
	now  *balancer.Request
	over *atomic.Bool
}

func (f followed) Read(p []byte) (int, error) {
	n, err := f.ReadCloser.Read(p)
	f.t.flight.out.Add(int64(n))
	return n, err
}

func (f followed) Close() error {
	err := f.ReadCloser.Close()
	if f.over.CompareAndSwap(false, true) {
		f.t.end(f.now)
	}
	return err
}

type followedBoth struct {
	followed
	w io.Writer
}

func (f followedBoth) Write(p []byte) (int, error) { return f.w.Write(p) }
