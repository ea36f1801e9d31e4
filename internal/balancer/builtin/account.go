package builtin

import (
	"context"
	"errors"
	"net/http"
	"syscall"
	"time"

	"unitas/internal/balancer/accesslog"
	"unitas/internal/balancer/wire"
	"unitas/internal/caught"
)

// blame is who the end of an attempt is put down to.
type blame uint8

const (
	nobody blame = iota // it went well
	theCaller
	theTarget
	ourselves
)

// fate is what became of an attempt. It is decided once, at the attempt's end, and ejection, gates,
// counts, retries and the log go by it.
type fate struct {
	by     blame
	status int    // that the target answered with; 0 for no whole answer
	why    string // it is no good one, for people
	// begun is set when the target may have had something of the request.
	begun bool
	// refuses is set when the target is to be left alone for a while at once: it takes no
	// connections, or ends them.
	refuses bool
	// tell is what the caller is told when nobody else is asked; nil when nobody hears it.
	tell *refusal
}

// fateOf decides who is to blame that there is no answer.
func (x *exchange) fateOf(err error) fate {
	var failed *wire.Error
	if !errors.As(err, &failed) {
		failed = wire.Failed(wire.Sending, true, err)
	}
	f := fate{begun: failed.Sent, why: whyFailed(failed)}
	gone := x.hasGone()
	var ours *caught.Panic
	switch fault := x.body.fault(); {
	case errors.As(err, &ours):
		f.by, f.why, f.tell = ourselves, "a fault of the service", &refusal{http.StatusInternalServerError, "The service failed with this request."}
		return f
	case fault != nil && !gone: // for the server that is the caller's end as well
		f.by, f.why, f.tell = theCaller, fault.Error(), faultOfBody(fault)
		return f
	case gone:
		f.by, f.why = theCaller, errGone
		return f
	case errors.Is(context.Cause(x.ctx), errLate) && x.body != nil && x.body.waiting.Load():
		f.by, f.why, f.tell = theCaller, errSlowBody.Error(), faultOfBody(errSlowBody)
		x.body.close(errSlowBody)
		return f
	case failed.At == wire.Connecting && isShortage(err), errors.Is(err, errUnsendable), errors.Is(err, errMute):
		f.by, f.why, f.tell = ourselves, "the service cannot reach targets: "+failed.Err.Error(), &refusal{http.StatusBadGateway, "The service cannot reach a target."}
		return f
	}
	f.by = theTarget
	// One that is late may be well: only how it answers sets it aside.
	f.refuses = !failed.Late || failed.At == wire.Connecting
	if failed.Late {
		f.tell = &refusal{http.StatusGatewayTimeout, "The target did not answer in time."}
	} else {
		f.tell = &refusal{http.StatusBadGateway, "The target closed the connection without an answer."}
	}
	return f
}

const errGone = "the caller went away"

// isShortage reports whether something is wanting here, and not there.
func isShortage(err error) bool {
	for _, short := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOMEM, syscall.ENOBUFS, syscall.EADDRNOTAVAIL} {
		if errors.Is(err, short) {
			return true
		}
	}
	return false
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

// faultOfBody is what a caller is told of its body.
func faultOfBody(fault error) *refusal {
	switch fault {
	case errSlowBody:
		return &refusal{http.StatusRequestTimeout, "The body of the request did not come."}
	case errLongBody:
		return &refusal{http.StatusRequestEntityTooLarge, "The body is longer than it may be."}
	}
	return badRequest(fault.Error())
}

// longAnswer is how long an answer lasts until it is counted as it stands: what goes on for hours
// would be counted by nobody for hours.
const longAnswer = 10 * time.Second

// account puts the end of an attempt where it belongs. last is set when no other target is asked:
// then it is the pool's as well.
func (a *attempt) account(f fate, last bool) {
	x, t, p := a.x, a.t, a.x.pool
	switch f.by {
	case nobody, theTarget:
		a.count(f.status, last)
		if f.refuses {
			p.setAside(t, time.Now(), f.why)
		}
		if !last {
			t.retried.Add(1)
		}
	case theCaller:
		if f.status != 0 { // it was answered all the same
			a.count(f.status, last)
		}
	case ourselves:
		p.missed()
	}
	if x.line != nil {
		x.line.Attempts[len(x.line.Attempts)-1].Why = f.why
	}
}

// untook counts a request or connection that no target was there for, or took.
func (p *pool) untook() {
	p.missed()
	p.untaken.Add(1)
}

// missed counts a request that no target is to blame for.
func (p *pool) missed() {
	p.requests.Add(1)
	p.failures.Add(1)
}

// count adds an answer of the attempt's target, or the lack of one, to all that is told of it. An
// answer that was counted while it went on is counted again when it breaks off, as one more.
func (a *attempt) count(status int, last bool) {
	if a.counted && status != 0 {
		return
	}
	t := a.t
	if a.counted {
		a.x.pool.failures.Add(1)
	}
	a.x.pool.ledger.note(a.x.page, entry{pool: a.x.pool, target: t, path: a.x.path, at: time.Now(), took: a.first, status: status, last: last && !a.counted})
	a.counted = true
	if isFailure(status) {
		t.inARow.Add(1)
		t.scars.add(time.Now())
	} else if t.inARow.Load() != 0 {
		t.inARow.Store(0)
	}
}

// isFailure reports whether a status is one that a target is judged by; 0 is no whole answer.
func isFailure(status int) bool { return status == 0 || status >= 500 }

// tried notes an attempt that began.
func (a *attempt) tried() {
	l := a.x.line
	if l == nil {
		return
	}
	l.Target, l.Group, l.Version = a.t.instance, a.t.group, a.t.version
	l.Attempts = append(l.Attempts, accesslog.Attempt{Target: a.t.instance, TookMs: inMs(a.first)})
}
