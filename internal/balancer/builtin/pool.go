package builtin

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"math"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/balancer/wire"
	"unitas/internal/fleet/traffic"
)

// pool is some targets and how they are chosen.
type pool struct {
	name       string
	log        *slog.Logger
	key        []byte // of cookies
	room       *wire.Room
	most       int
	patience   time.Duration
	ledger     *ledger
	flights    *flights
	lane       atomic.Pointer[lane]
	turn       turn
	byInstance atomic.Pointer[map[string][]*target]
	requests   atomic.Int64
	failures   atomic.Int64
	untaken    atomic.Int64 // of failures: nobody took them
	retries    allowance
	asides     sync.Mutex // one is set aside at a time
	aside      *atomic.Pointer[func(instance string, nth int, why string)]

	mu       sync.Mutex    // of what follows, and of changes of the lane
	changed  chan struct{} // closed when the lane changes
	versions map[string]*version
	spoken   traffic.Targets // that the upstreams are made for
	trusted  string
	other    *http.Transport
	mute     bool // it reaches nobody
}

func (b *Balancer) newPool(name string) *pool {
	p := &pool{name: name, log: b.log, key: b.key, room: b.room, most: b.most, patience: b.patience, aside: &b.aside, ledger: b.ledger, flights: &b.flights,
		changed: make(chan struct{}), versions: map[string]*version{}}
	p.lane.Store(&lane{})
	p.byInstance.Store(&map[string][]*target{})
	return p
}

// end forgets all targets. What they have in flight goes on.
func (p *pool) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, t := range p.lane.Load().targets {
		t.end()
	}
}

// apply takes the targets over; those that stay keep their counters.
func (p *pool) apply(wanted balancer.Pool, idle func(string)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.speak(wanted)
	type place struct{ instance, address string }
	old := make(map[place]*target, len(p.lane.Load().targets))
	for _, t := range p.lane.Load().targets {
		old[place{t.instance, t.host}] = t
	}
	next := make([]*target, 0, len(wanted.Targets))
	byInstance := make(map[string][]*target, len(wanted.Targets))
	for _, w := range wanted.Targets {
		t := old[place{w.Instance, w.Address}]
		if t == nil {
			t = &target{instance: w.Instance, group: w.Group, version: w.Version, host: w.Address, region: w.Region, hash: hashOf(w.Instance), idle: idle,
				byVersion: p.version(w.Version), tallies: newTallies()}
			p.flights.take(t)
		}
		p.reach(t)
		delete(old, place{w.Instance, w.Address})
		t.weight.Store(math.Float64bits(w.Weight))
		t.last.Store(w.Last)
		if w.Open && !t.isOpen() {
			t.fresh.Store(nanos(time.Now()))
			t.answered()
		}
		t.set(w.Open, wanted.As)
		next = append(next, t)
		byInstance[w.Instance] = append(byInstance[w.Instance], t)
	}
	for _, t := range old {
		t.end()
	}
	p.byInstance.Store(&byInstance)
	p.lane.Store(newLane(wanted, next))
	close(p.changed)
	p.changed = make(chan struct{})
}

// speak makes ready how the targets are spoken to. Where that cannot be, requests fail and say so,
// and it is tried again with the next change; who is a target goes on being decided. The lock is
// held.
func (p *pool) speak(wanted balancer.Pool) {
	s := wanted.Spoken
	same := p.spoken.Protocol == s.Protocol && p.spoken.Trust == s.Trust && p.spoken.ServerName == s.ServerName && p.spoken.Limits == s.Limits && p.trusted == wanted.Trusted
	p.spoken, p.trusted = s, wanted.Trusted
	if same && !p.mute {
		return
	}
	p.other, p.mute = nil, false
	if s.Protocol != traffic.HTTP2 && s.Protocol != traffic.Secure {
		return
	}
	other, err := newTransport(wanted, p.most)
	if err != nil {
		p.log.Error("the targets of a pool cannot be spoken to", "pool", p.name, "error", err)
		err = fmt.Errorf("%w: %w", errMute, err)
		nobody := func(context.Context, string, string) (net.Conn, error) { return nil, err }
		other, p.mute = &http.Transport{DialContext: nobody, DialTLSContext: nobody}, true
	}
	p.other = other
}

// reach makes ready how one target is reached. The lock is held.
func (p *pool) reach(t *target) {
	scheme := "http"
	if p.spoken.Protocol == traffic.Secure {
		scheme = "https"
	}
	limits := limitsOf(p.spoken.Limits, p.patience)
	if have := t.upstream.Load(); have != nil && have.other == p.other && have.scheme == scheme {
		have.wire.Limit(limits)
		return
	}
	made := &upstream{other: p.other, scheme: scheme, wire: wire.NewServer(t.host, p.room, limits)}
	if had := t.upstream.Swap(made); had != nil {
		had.rest(true)
	}
}

// nextChange is closed when the lane is another than now.
func (p *pool) nextChange() <-chan struct{} {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.changed
}

// version is where the answers of a template version are counted. The lock is
// held.
func (p *pool) version(v string) *version {
	if p.versions[v] == nil {
		p.versions[v] = &version{}
	}
	return p.versions[v]
}

func (p *pool) stats() balancer.Stats {
	p.ledger.settle()
	now := time.Now()
	l := p.lane.Load()
	s := balancer.Stats{Requests: p.requests.Load(), Failures: p.failures.Load()}
	shares := l.shares(now)
	inFlight := map[string]int{}
	present := map[string]bool{}
	for _, t := range l.targets {
		ts := t.stats(p.ledger, now)
		ts.Share = shares[t]
		inFlight[t.version] += ts.InFlight
		present[t.version] = true
		s.Targets = append(s.Targets, ts)
	}
	slices.SortFunc(s.Targets, func(a, b balancer.TargetStats) int { return strings.Compare(a.Instance, b.Instance) })
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, v := range slices.Sorted(maps.Keys(p.versions)) {
		windows := p.versions[v].read(now)
		if windows[len(windows)-1].Requests == 0 && !present[v] {
			delete(p.versions, v)
			continue
		}
		s.Versions = append(s.Versions, balancer.VersionStats{Version: v, InFlight: inFlight[v], Windows: windows})
	}
	return s
}

// parts are kept for copying bodies.
var parts = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}
