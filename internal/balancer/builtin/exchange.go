package builtin

import (
	"context"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer/accesslog"
	"unitas/internal/balancer/form"
)

// exchange is one request from its arrival to the end of its answer. It is admitted (admit.go),
// routed (route.go), tried at targets (attempt.go) and answered (answer.go), and what became of it
// is put down to somebody (account.go).
type exchange struct {
	door  *door
	link  *link // that it came on
	page  int   // of the ledger
	w     http.ResponseWriter
	in    *http.Request
	ctx   context.Context // of the request, ended as well when it takes too long
	asked form.Request
	// upgrade are the protocols that it may switch to, "" for none.
	upgrade  string
	body     *keptBody // nil without one
	patience *patience // nil when nobody is waited for but by the connection
	pool     *pool     // that has it in the end

	// In flight at a target, under the page's lock but for the exchange itself.
	target      *target
	since       time.Time
	next, prior *exchange

	method, path string // as they are shown
	requestID    string
	trace        string                                  // W3C Trace Context
	line         *accesslog.Line                         // what is written down of it; nil when nothing is
	status       int                                     // of the answer; 0 before it began
	sent         int64                                   // bytes of the answer's body
	came         atomic.Int64                            // bytes of the request's body
	failure      string                                  // why it is no whole answer
	headed       atomic.Bool                             // a target has answered
	ask          atomic.Pointer[context.CancelCauseFunc] // gives the present attempt up

	speak  sync.Mutex // of what is written before the answer, by whoever
	spoken bool       // the answer began
}

// begin has a request come.
func (d *door) begin(w http.ResponseWriter, r *http.Request) *exchange {
	l := r.Context().Value(linkKey{}).(*link)
	x := &exchange{door: d, link: l, page: l.page, w: w, in: r, ctx: r.Context(), since: time.Now(), method: r.Method}
	x.identify()
	x.keepBody()
	if r.ProtoMajor == 1 {
		l.awaits.Store(x.body == nil)
	}
	return x
}

// finish ends the exchange: the server has the connection again. What of the body is still to come
// is not waited for; a caller of HTTP/1.1 can send nothing more on its connection.
func (x *exchange) finish() {
	x.patience.stop()
	if x.in.ProtoMajor == 1 {
		x.link.awaits.Store(false)
	}
	if x.body == nil {
		return
	}
	whole := x.body.isWhole()
	x.body.stop()
	if !whole && x.in.ProtoMajor == 1 {
		x.link.linger()
	}
}

// wait bounds for how long caller and target are waited for.
func (x *exchange) wait(target targetLimits) {
	caller := &x.door.now.Load().Limits
	if x.body == nil && x.in.ProtoMajor == 1 && target == (targetLimits{}) {
		return
	}
	p := &patience{late: x.late}
	if x.body != nil {
		p.limit(forBody, caller.Idle)
	}
	if x.in.ProtoMajor > 1 {
		p.limit(forTaking, caller.Taking())
	}
	p.limit(forHead, target.head)
	p.limit(forPart, target.part)
	p.limit(forRoom, target.part)
	x.patience = p
}

// targetLimits are for how long a target is waited for; 0 for ever.
type targetLimits struct{ head, part time.Duration }

// late ends what waits for one who did not come in time.
func (x *exchange) late(w wait) {
	switch w {
	case forBody:
		x.body.close(errSlowBody)
	case forTaking:
		_ = http.NewResponseController(x.w).SetWriteDeadline(time.Unix(1, 0))
	case forHead:
		x.giveUp(errLateHead)
	case forPart, forRoom:
		x.giveUp(errLatePart)
	}
}

// lateness is what ends a request that took longer than it may.
type lateness string

func (l lateness) Error() string { return string(l) }

// Timeout makes it one for whoever looks.
func (l lateness) Timeout() bool { return true }

const (
	errLate     = lateness("the request took longer than it may")
	errLateHead = lateness("the target did not answer in time")
	errLatePart = lateness("the target said nothing more in time")
)

// bound ends the exchange's request when it takes too long, by the shorter of the limits of
// listener and pool, or when its target is given up.
func (x *exchange) bound(limits ...time.Duration) (free func()) {
	least := time.Duration(0)
	for _, l := range limits {
		if l > 0 && (least == 0 || l < least) {
			least = l
		}
	}
	if least == 0 {
		return func() {}
	}
	x.ctx, free = context.WithTimeoutCause(x.ctx, least-time.Since(x.since), errLate)
	return free
}

// giveUp ends the present attempt.
func (x *exchange) giveUp(why error) {
	if cancel := x.ask.Load(); cancel != nil {
		(*cancel)(why)
	}
}

// hasGone reports whether the caller went away, as far as is known. The server of HTTP/1.1
// takes every end of a body for it, though who sent a bad one can still be told.
func (x *exchange) hasGone() bool {
	return x.in.Context().Err() != nil && (x.in.ProtoMajor > 1 || x.body.fault() == nil)
}

// enter has a target have the request.
func (x *exchange) enter(t *target) {
	x.target, x.since = t, time.Now()
	if x.body != nil {
		x.body.to.Store(&t.tallies[x.page])
	}
	x.pool.ledger.begin(x)
}

// leave says that it has it no more.
func (x *exchange) leave() {
	t := x.target
	x.pool.ledger.end(x)
	x.target = nil
	t.leave(x.page)
}
