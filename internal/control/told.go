package control

import (
	"context"
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// What a keeper tells whoever asks: its instances with the facts that are in no
// record, how long they usually take, and whether it is stuck.

// instancesNow are all instances of the group, unless a person changed a record that
// was not read again yet.
func (k *keeper) instancesNow() ([]store.Instance, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.all, k.all != nil && k.read == k.asked
}

// Stuck is since when decisions about a group cannot be written, and why; zero when
// they can.
type Stuck struct {
	Since time.Time
	Why   string
}

func (k *keeper) setStuck(s Stuck) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.stuck = s
}

func (k *keeper) stuckNow() Stuck {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.stuck
}

// failedTurn notes that a decision could not be written, for whoever asks, and says it
// in the log at first and once a minute.
func (k *keeper) failedTurn(ctx context.Context, err error) {
	k.stale = true
	if ctx.Err() != nil {
		return
	}
	s := Stuck{Since: time.Now().UTC(), Why: words.Plain(store.Explain(err), words.Outside)}
	if had := k.stuckNow(); !had.Since.IsZero() {
		s.Since = had.Since
	}
	k.setStuck(s)
	if time.Since(k.complained) >= time.Minute {
		k.complained = time.Now()
		k.ctl.warn(k.name, "a decision was not carried through; it is made again every second", err)
	}
}

// facts are what the keeper knows besides the records.
func (k *keeper) facts() (map[string]fleet.Instance, Usual) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.known, k.usual
}

// isOverdue reports whether an instance did not come up in its time.
func (k *keeper) isOverdue(id string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.overdue[id]
}

// publish makes the facts known to whoever asks.
func (k *keeper) publish() {
	known := make(map[string]fleet.Instance, len(k.instances))
	overdue := map[string]bool{}
	now := time.Now()
	for i := range k.instances {
		in := &k.instances[i]
		known[in.ID] = in.Instance
		if k.group.IsOverdue(now, &in.Instance) {
			overdue[in.ID] = true
		}
	}
	usual := k.usually()
	k.mu.Lock()
	defer k.mu.Unlock()
	k.known, k.overdue, k.usual, k.read = known, overdue, usual, k.reading
	k.all = append(make([]store.Instance, 0, len(k.instances)), k.instances...)
}

// Usual is how long instances of a group take from order to serving, by the last
// that came up: median and 95th percentile (nearest rank); 0 when none did.
type Usual struct{ Median, Slow time.Duration }

func (k *keeper) usually() Usual {
	n := len(k.times)
	if n == 0 {
		return Usual{}
	}
	sorted := slices.Sorted(slices.Values(k.times))
	return Usual{Median: sorted[n/2], Slow: sorted[min((95*n+99)/100, n)-1]}
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
