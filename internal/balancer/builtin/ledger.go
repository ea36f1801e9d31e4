package builtin

import (
	"math/bits"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
)

// Requests are counted without a lock or a cache line that cores share: every connection has a
// page of the ledger to itself and a few others, and what is on a page is entered where it
// belongs when the page is full or somebody reads.

// line is the size of a cache line with the one that is fetched beside it, in bytes.
const line = 128

// pagesOf is how many pages there are: a power of two, several for each core.
var pagesOf = 1 << bits.Len(uint(4*runtime.GOMAXPROCS(0)-1))

// ledger is what was answered and what is in flight.
type ledger struct {
	pages []page
	next  atomic.Uint32 // page of a connection
}

// entriesOf is how many answers a page holds.
const entriesOf = 64

type page struct {
	mu      sync.Mutex
	n       int
	entries [entriesOf]entry
	first   *exchange // in flight, the newest first
	_       [line]byte
}

// entry is one answer, or the lack of one.
type entry struct {
	pool   *pool
	target *target
	path   string
	at     time.Time
	took   time.Duration
	status int
	last   bool // no other target was asked, so that it is the pool's as well
}

func newLedger() *ledger { return &ledger{pages: make([]page, pagesOf)} }

// turn is the page of the next connection.
func (l *ledger) turn() int { return int(l.next.Add(1)) & (len(l.pages) - 1) }

// begin notes that an exchange is in flight.
func (l *ledger) begin(x *exchange) {
	p := &l.pages[x.page]
	p.mu.Lock()
	x.next, x.prior = p.first, nil
	if p.first != nil {
		p.first.prior = x
	}
	p.first = x
	p.mu.Unlock()
}

// end notes that it is not any more.
func (l *ledger) end(x *exchange) {
	p := &l.pages[x.page]
	p.mu.Lock()
	if x.prior != nil {
		x.prior.next = x.next
	} else {
		p.first = x.next
	}
	if x.next != nil {
		x.next.prior = x.prior
	}
	x.next, x.prior = nil, nil
	p.mu.Unlock()
}

// note counts an answer.
func (l *ledger) note(at int, e entry) {
	p := &l.pages[at]
	p.mu.Lock()
	defer p.mu.Unlock()
	p.entries[p.n] = e
	if p.n++; p.n == entriesOf {
		p.enter()
	}
}

// enter puts what is on the page where it belongs. The lock is held, so that who reads after
// finds all of it.
func (p *page) enter() {
	n := p.n
	p.n = 0 // whatever fails, it is entered once
	for i := range n {
		p.entries[i].enter()
		p.entries[i] = entry{}
	}
}

// settle enters all that is on any page.
func (l *ledger) settle() {
	for i := range l.pages {
		l.pages[i].settle()
	}
}

func (p *page) settle() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.enter()
}

// enter adds an answer to all that is told of its target.
func (e *entry) enter() {
	t := e.target
	t.requests.Add(1)
	t.answers.add(e.at, e.status, e.took)
	t.byVersion.add(e.at, e.status, e.took)
	t.byVersion.paths.add(e.path, e.status, e.at)
	t.conduct.add(e.status, e.took)
	t.flight.answered.Add(1)
	if h := t.flight.histogram.Load(); h != nil && e.status != 0 {
		h[bucketOf(e.took)].Add(1)
	}
	failed := isFailure(e.status)
	if failed {
		t.failures.Add(1)
		t.flight.failed.Add(1)
	}
	if e.last {
		e.pool.requests.Add(1)
		if failed {
			e.pool.failures.Add(1)
		}
	}
}

// of are the oldest exchanges that a target has, at most so many.
func (l *ledger) of(t *target, most int) []balancer.Request {
	var all []balancer.Request
	for i := range l.pages {
		p := &l.pages[i]
		p.mu.Lock()
		for x := p.first; x != nil; x = x.next {
			if x.target == t {
				all = append(all, balancer.Request{Method: x.method, Path: x.path, Since: x.since})
			}
		}
		p.mu.Unlock()
	}
	return oldest(all, most)
}

// tally is what one page's connections have at a target. Each is a cache line of its own.
type tally struct {
	inFlight atomic.Int64
	in, out  atomic.Int64 // bytes of bodies
	_        [line - 24]byte
}

// tallies are those of all pages.
type tallies []tally

func newTallies() tallies { return make(tallies, pagesOf) }

// inFlight counts over all pages. After a target was closed it misses nothing: what it counted
// before has not left from another page.
func (t tallies) inFlight() (n int64) {
	for i := range t {
		n += t[i].inFlight.Load()
	}
	return n
}

func (t tallies) bytes() (in, out int64) {
	for i := range t {
		in += t[i].in.Load()
		out += t[i].out.Load()
	}
	return in, out
}
