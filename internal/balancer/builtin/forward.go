package builtin

import (
	"errors"
	"io"
	"net"
	"net/http"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
)

// RoundTrip sends a request to a target, and to another when the first did not
// take it and it is safe to send it again.
func (p *pool) RoundTrip(r *http.Request) (*http.Response, error) {
	p.requests.Add(1)
	var kept *keptBody
	if r.Body != nil && r.Body != http.NoBody {
		kept = &keptBody{ReadCloser: r.Body}
		r.Body = kept
	}
	var tried []*target
	for {
		t := p.lane.Load().pick(&p.turn, tried)
		if t == nil {
			return nil, errNobody
		}
		now := t.begin(r.Method, r.URL.Path)
		r.URL.Host = t.host
		res, err := p.transport.RoundTrip(r)
		took := time.Since(now.Since)
		if err == nil {
			p.count(t, now.Since.Add(took), res.StatusCode, took)
			res.Body = follow(res.Body, t, now)
			return res, nil
		}
		t.end(now)
		if r.Context().Err() != nil {
			return nil, err
		}
		t.setAside(time.Now())
		if !repeatable(r, kept, err) {
			p.count(t, now.Since.Add(took), 0, took)
			return nil, err
		}
		t.retried.Add(1)
		tried = append(tried, t)
		if len(tried) > 16 {
			return nil, errNobody
		}
	}
}

// count adds an answer, or the lack of one, to all that is told of the target.
func (p *pool) count(t *target, at time.Time, status int, took time.Duration) {
	t.requests.Add(1)
	t.answers.add(at, status, took)
	t.byVersion.add(at, status, took)
	if status == 0 || status >= 500 {
		t.failures.Add(1)
	}
	if status >= 500 {
		p.failures.Add(1)
	}
	if status != 0 {
		t.answered()
	}
}

// repeatable reports whether a request without an answer may be sent again: it
// never left, or its method promises that twice is like once (RFC 9110,
// section 9.2.2), and none of its body is used up.
func repeatable(r *http.Request, body *keptBody, err error) bool {
	if body != nil && body.used.Load() {
		return false
	}
	var op *net.OpError
	if errors.As(err, &op) && op.Op == "dial" {
		return true
	}
	switch r.Method {
	case http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodTrace, http.MethodPut, http.MethodDelete:
		return true
	}
	return false
}

// keptBody is a request body that survives being closed by a failed attempt,
// and knows whether anything was read from it.
type keptBody struct {
	io.ReadCloser
	used atomic.Bool
}

func (b *keptBody) Read(p []byte) (int, error) {
	b.used.Store(true)
	return b.ReadCloser.Read(p)
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
