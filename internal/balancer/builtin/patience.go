package builtin

import (
	"sync"
	"time"

	"unitas/internal/caught"
)

// wait is somebody that an exchange waits for.
type wait int

const (
	forBody   wait = iota // a part of the request's body, from the caller
	forTaking             // the caller takes a part of the answer (HTTP/2: of HTTP/1.1 the connection knows)
	forHead               // the head of the answer, from the target, once it has the whole request
	forPart               // a part of the answer, from the target
	forRoom               // the target takes a part of the request's body
	waits
)

// patience is for how long each side of an exchange is waited for: the one place in which that is
// limited, but for the whole request, which its context bounds, and for writes to connections. What
// moves in either direction begins the waits for parts anew, so that one who has nothing to say
// is not cut while the other speaks. The zero value waits for ever; methods of nil do nothing.
type patience struct {
	late func(w wait) // called at most once for each wait, in a goroutine of its own

	mu     sync.Mutex
	limits [waits]time.Duration // 0 for ever
	since  [waits]time.Time     // zero where nobody is waited for
	moved  time.Time
	timer  *time.Timer
	armed  bool
	fires  time.Time // when it is armed
	ended  bool
}

// limit sets a limit before anything is waited for; the shorter of two counts.
func (p *patience) limit(w wait, most time.Duration) {
	if most > 0 && (p.limits[w] == 0 || most < p.limits[w]) {
		p.limits[w] = most
	}
}

// begin waits from now on.
func (p *patience) begin(w wait) {
	if p == nil || p.limits[w] == 0 {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.ended {
		return
	}
	now := time.Now()
	p.since[w] = now
	if at := now.Add(p.limits[w]); !p.armed || at.Before(p.fires) {
		p.arm(now, p.limits[w])
	}
}

func (p *patience) arm(now time.Time, in time.Duration) {
	p.armed, p.fires = true, now.Add(in)
	if p.timer == nil {
		p.timer = time.AfterFunc(in, caught.Func("the limits of a request", p.look))
		return
	}
	p.timer.Reset(in)
}

// end waits no more; something moved.
func (p *patience) end(w wait) {
	if p == nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.since[w] = time.Time{}
	p.moved = time.Now()
}

// stop ends all waits.
func (p *patience) stop() {
	if p == nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ended = true
	if p.timer != nil {
		p.timer.Stop()
	}
}

// look tells who is late, and sets the timer to who may be next.
func (p *patience) look() {
	now := time.Now()
	var late []wait
	p.mu.Lock()
	p.armed = false
	next := time.Duration(0)
	for w := range waits {
		since := p.since[w]
		if since.IsZero() || p.ended {
			continue
		}
		if w != forHead && w != forTaking && p.moved.After(since) {
			since = p.moved
		}
		left := p.limits[w] - now.Sub(since)
		if left <= 0 {
			p.since[w] = time.Time{}
			late = append(late, w)
		} else if next == 0 || left < next {
			next = left
		}
	}
	if next > 0 {
		p.arm(now, next)
	}
	p.mu.Unlock()
	for _, w := range late {
		p.late(w)
	}
}
