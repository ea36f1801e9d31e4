package control

import (
	"context"
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// What a keeper tells whoever asks: its instances with the facts that are in no
// record, how long they usually take, and whether it is stuck.

// shown is what a keeper knows, at one moment. It does not change.
type shown struct {
	group fleet.Group
	all   []store.Instance
	place map[string]int // in all, by instance
	usual fleet.Usual
	holds map[string]fleet.Usual
	// seen is what the gates of the rollout have seen, and of which rollout.
	seen      []gate.Comparison
	seenFor   int64
	seenSince time.Time
	// asks are the metrics that rules and gates go by.
	asks []metric.Name
	// sizing is what rules go by, and states what is kept of them.
	sizing fleet.Sizing
	ports  map[fleet.Version]int
	sizes  map[fleet.Version]size
	// offset is that of the clock that its times are by.
	offset time.Duration
	// read is how many of the changes that the keeper was told of were read.
	read int
}

// instance is one of those that are shown, or nil.
func (s *shown) instance(id string) *store.Instance {
	if s == nil {
		return nil
	}
	if i, ok := s.place[id]; ok {
		return &s.all[i]
	}
	return nil
}

// seenOf is what the gates of a rollout have seen, nil when its record says it.
func (s *shown) seenOf(ro *fleet.Rollout) []gate.Comparison {
	if s == nil || s.seenFor != ro.ID || !s.seenSince.Equal(ro.Resumed) || !ro.Compares() {
		return nil
	}
	return s.seen
}

// publish makes what is known now known to whoever asks, when it is another than before.
func (k *keeper) publish() {
	if !k.fresh {
		return
	}
	k.fresh = false
	s := &shown{group: k.group.Group, all: make([]store.Instance, len(k.view.Instances)), usual: Usually(k.times), holds: k.holdsUsually(), offset: k.offset, read: k.reading,
		sizing: fleet.Sizing{Points: pointsNow(k.view.Sizing.Points), Times: k.view.Sizing.Times, Foreseen: k.view.Sizing.Foreseen}, ports: k.ports, sizes: k.sizes, asks: k.asks(),
		seen: k.view.Seen, seenFor: k.comparing.rollout, seenSince: k.comparing.resumed}
	had := k.shown.Load()
	same := had != nil && len(had.all) == len(s.all)
	for i := range k.view.Instances {
		id := k.view.Instances[i].ID
		s.all[i] = k.record(k.kept[id])
		same = same && had.all[i].ID == id
	}
	if same {
		s.place = had.place
	} else {
		s.place = make(map[string]int, len(s.all))
		for i := range s.all {
			s.place[s.all[i].ID] = i
		}
	}
	k.shown.Store(s)
}

// instancesNow are all instances of the group, unless a person changed a record that
// was not read again yet.
func (k *keeper) instancesNow() ([]store.Instance, bool) {
	s := k.shown.Load()
	k.mu.Lock()
	defer k.mu.Unlock()
	if s == nil || s.read != k.asked {
		return nil, false
	}
	return s.all, true
}

// Stuck is since when decisions about a group cannot be written, and why; zero when
// they can.
type Stuck struct {
	Since time.Time
	Why   string
}

func (k *keeper) stuckNow() Stuck {
	if s := k.stuck.Load(); s != nil {
		return *s
	}
	return Stuck{}
}

// failedTurn notes that a decision could not be written, for whoever asks, and says it
// in the log at first and once a minute.
func (k *keeper) failedTurn(ctx context.Context, err error) {
	k.stale = true
	if ctx.Err() != nil {
		return
	}
	s := Stuck{Since: k.now(), Why: words.Plain(store.Explain(err), words.Outside)}
	if had := k.stuck.Load(); had != nil {
		s.Since = had.Since
	}
	k.stuck.Store(&s)
	if time.Since(k.complained) >= time.Minute {
		k.complained = time.Now()
		k.ctl.warn(k.name, "a decision was not carried through; it is made again every second", err)
	}
}

// usual is how long instances of the group take; zero when that is not known yet.
func (k *keeper) usual() fleet.Usual {
	if s := k.shown.Load(); s != nil {
		return s.usual
	}
	return fleet.Usual{}
}

// Usually is what took these times usually: median and 95th percentile (nearest rank).
func Usually(times []time.Duration) fleet.Usual {
	n := len(times)
	if n == 0 {
		return fleet.Usual{}
	}
	sorted := slices.Sorted(slices.Values(times))
	return fleet.Usual{Median: sorted[n/2], Slow: sorted[min((95*n+99)/100, n)-1]}
}

// noteHolds takes in for how long the hooks held an instance that leaves them.
func (k *keeper) noteHolds(was, now *fleet.Instance) {
	if now.State == was.State || (was.State != fleet.HeldIn && was.State != fleet.HeldOut) {
		return
	}
	for _, t := range now.Tickets {
		if t.Answered() && !t.Opened.Before(was.Since) {
			times := append(k.holds[t.Hook], t.Closed.Sub(t.Opened))
			k.holds[t.Hook] = times[max(0, len(times)-50):]
		}
	}
}

func (k *keeper) holdsUsually() map[string]fleet.Usual {
	all := make(map[string]fleet.Usual, len(k.group.Hooks))
	for _, h := range k.group.Hooks {
		all[h.Name] = Usually(k.holds[h.Name])
	}
	return all
}

// askHowFar adds what checks were answered so far that have no verdict yet: why an
// instance is not healthy is told by these.
func (k *keeper) askHowFar(in *fleet.Instance) {
	for _, c := range k.checks {
		if in.Report(c.Name).Verdict != health.Unknown {
			continue
		}
		if r, ok := k.ctl.prober.Standing(in.ID, c.Name); ok && r.Verdict != health.Healthy {
			_, _ = in.HearVerdict(r)
		}
	}
}
