package builtin

import (
	"context"
	"errors"
	"io"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer/served"
	"unitas/internal/fleet/traffic"
)

// exchange is one request from its arrival to the end of its answer.
type exchange struct {
	door *door
	link *link // that it came on
	page int   // of the ledger
	w    http.ResponseWriter
	in   *http.Request
	body *keptBody // nil without one
	pool *pool     // that has it in the end

	// In flight at a target, under the page's lock but for the exchange itself.
	target      *target
	since       time.Time
	next, prior *exchange

	method, path string
	requestID    string
	trace        string       // W3C Trace Context
	line         *served.Line // what is written down of it; nil when nothing is
	status       int          // of the answer; 0 before it began
	sent         int64        // bytes of the answer's body
	came         atomic.Int64 // bytes of the request's body
	wrote        time.Time    // when the caller's patience began anew
	failure      string       // why it is no whole answer

	mu   sync.Mutex
	over bool // the server has the connection again
}

// finish says that the server has the connection again. Whoever sends the body may not know yet.
func (x *exchange) finish() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.over = true
}

// readUntil limits how long the caller is waited for, while the exchange lasts.
func (x *exchange) readUntil(t time.Time) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if !x.over {
		_ = http.NewResponseController(x.w).SetReadDeadline(t)
	}
}

// errLate is what ends a request that took longer than it may.
var errLate = errors.New("the request took longer than it may")

// bound ends the exchange's request when it takes too long, by the shorter of the limits of
// listener and pool.
func (x *exchange) bound(r *http.Request, limits ...time.Duration) (*http.Request, func()) {
	least := time.Duration(0)
	for _, l := range limits {
		if l > 0 && (least == 0 || l < least) {
			least = l
		}
	}
	if least == 0 {
		return r, func() {}
	}
	ctx, cancel := context.WithTimeoutCause(r.Context(), least-time.Since(x.since), errLate)
	return r.WithContext(ctx), cancel
}

// begin has a target have the request.
func (x *exchange) begin(t *target) {
	x.target, x.since = t, time.Now()
	if x.body != nil {
		x.body.to.Store(&t.tallies[x.page])
	}
	x.pool.ledger.begin(x)
}

// end says that it has it no more.
func (x *exchange) end() {
	t := x.target
	x.pool.ledger.end(x)
	x.target = nil
	t.leave(x.page)
}

// patience is how long a caller may take over a part of a body, from now on.
const renewPatience = time.Second

// willWrite gives the caller its time to take what is written next.
func (x *exchange) willWrite(now time.Time) {
	idle := x.door.now.Load().Limits.Idle
	at := &x.wrote
	if x.in.ProtoMajor == 1 {
		at = &x.link.wrote // it is the connection's
	}
	if idle > 0 && now.Sub(*at) >= renewPatience {
		*at = now
		_ = http.NewResponseController(x.w).SetWriteDeadline(now.Add(idle + renewPatience))
	}
}

// keptBody is a request body that survives being closed by a failed attempt, and ends where it
// is too long.
type keptBody struct {
	io.ReadCloser
	x    *exchange
	left int64                 // that may come; below 0 without a bound
	to   atomic.Pointer[tally] // of who has it
	over atomic.Pointer[error]
	read time.Time // when the caller's patience began anew
	out  *http.Request
}

// Why a body ends before its end.
var (
	errLongBody = errors.New("the body is longer than it may be")
	errSlowBody = errors.New("the caller was too slow with the body")
)

// attempt is the body as one target has it. Only one has it at a time, and one that read from it
// is the last.
type attempt struct {
	*keptBody
	state atomic.Int32
}

// Of an attempt: nothing was read, something was, nothing may be read any more.
const (
	unread = iota
	begun
	revoked
)

var errRevoked = errors.New("the body goes to another target")

// Read reads, unless the body was taken back.
func (a *attempt) Read(p []byte) (int, error) {
	if !a.state.CompareAndSwap(unread, begun) && a.state.Load() == revoked {
		return 0, errRevoked
	}
	return a.keptBody.Read(p)
}

// takeBack has the body go to another target, unless something was read.
func (a *attempt) takeBack() bool { return a == nil || a.state.CompareAndSwap(unread, revoked) }

func (b *keptBody) Read(p []byte) (int, error) {
	if over := b.over.Load(); over != nil {
		return 0, *over
	}
	if idle := b.x.door.now.Load().Limits.Idle; idle > 0 {
		if now := time.Now(); now.Sub(b.read) >= renewPatience {
			b.read = now
			b.x.readUntil(now.Add(idle + renewPatience))
		}
	}
	n, err := b.ReadCloser.Read(p)
	if to := b.to.Load(); to != nil {
		to.in.Add(int64(n))
	}
	b.x.came.Add(int64(n))
	if b.left >= 0 {
		if b.left -= int64(n); b.left < 0 {
			b.over.Store(&errLongBody)
			return 0, errLongBody
		}
	}
	switch {
	case err == io.EOF:
		b.over.Store(&err)
		if !b.read.IsZero() {
			b.x.readUntil(time.Time{})
		}
		if b.out != nil && b.out.Trailer == nil { // some that nobody announced
			b.out.Trailer = b.x.in.Trailer
		}
	case err != nil && isLate(err):
		b.over.Store(&errSlowBody)
		err = errSlowBody
	}
	return n, err
}

// fault is why the body ended before its end; nil when it did not, or the caller went away.
func (b *keptBody) fault() error {
	if b == nil || b.over.Load() == nil || b.isWhole() {
		return nil
	}
	return *b.over.Load()
}

// isWhole reports whether all of it was read.
func (b *keptBody) isWhole() bool {
	over := b.over.Load()
	return over != nil && *over == io.EOF
}

// Close leaves the body open: the server closes it when the request is over.
func (b *keptBody) Close() error { return nil }

func isLate(err error) bool {
	var t interface{ Timeout() bool }
	return errors.As(err, &t) && t.Timeout()
}

// keepBody wraps the body of a request, when it has one.
func (x *exchange) keepBody(most int64) {
	r := x.in
	if r.Body == nil || r.Body == http.NoBody || r.ContentLength == 0 {
		return
	}
	if most <= 0 {
		most = -1
	}
	x.body = &keptBody{ReadCloser: r.Body, x: x, left: most}
	if r.ProtoMajor == 1 {
		// A target may answer before it has read all; HTTP/2 needs no word for it.
		_ = http.NewResponseController(x.w).EnableFullDuplex()
	}
}

// narrow makes the bound of the body the pool's, when that is less.
func (x *exchange) narrow(l traffic.PoolLimits) {
	if x.body != nil && l.BodyBytes > 0 && (x.body.left < 0 || l.BodyBytes < x.body.left) {
		x.body.left = l.BodyBytes
	}
}

// isLast says that the connection ends with this answer, when something of the request is still
// to come: what comes after would be taken for a request, or not at all.
func (x *exchange) isLast(h http.Header) {
	if x.body != nil && x.in.ProtoMajor == 1 && !x.body.isWhole() {
		h.Set("Connection", "close")
	}
}
