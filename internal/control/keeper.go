package control

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/say"
	"unitas/internal/machine"
	"unitas/internal/store"
)

const (
	// decideGap lies between two decisions about one group, however much
	// happens in it; what happens meanwhile is decided together.
	decideGap = 100 * time.Millisecond
	// retryAfter a database or driver that failed.
	retryAfter = time.Second
	// stopGrace is how long a machine may take to end when it is asked to.
	stopGrace = 5 * time.Second
)

// keeper drives one group under one lease. Its fields below the line belong to its own
// goroutine; everybody else tells it facts, and asks what it published.
type keeper struct {
	name  string
	ctl   *Control
	epoch int64 // of the lease
	stop  context.CancelFunc

	poked chan struct{}
	mu    sync.Mutex
	inbox []fact
	// asked counts how often the records were to be read again.
	asked int

	shown atomic.Pointer[shown]
	stuck atomic.Pointer[Stuck]
	acts  atomic.Int64  // driver calls under way
	gone  chan struct{} // closed when it keeps the group no more
	// awaits is set while targets were closed that the balancer may not know of yet.
	awaits atomic.Bool

	// ———

	found map[string]machine.Fact // what ran when the lease was taken; for the first load

	group      store.Group
	rollout    *store.Rollout
	view       fleet.View
	kept       map[string]*kept // by instance of the view
	checks     []health.Check
	ports      map[fleet.Version]int
	times      []time.Duration // from order to serving, of the last instances
	loaded     bool
	reading    int           // of asked, by the last load
	watching   time.Time     // since when, without a gap
	offset     time.Duration // of the clock that the records are by
	stale      bool          // the records are to be read again
	fresh      bool          // something is to be published
	urgent     bool          // what is awaited came, and is decided on at once
	over       bool          // the group is gone or another replica's
	complained time.Time     // of a decision that could not be written
	noted      []fleet.Entry
	dirty      []string // instances whose reports are to be written
	drawn      []int64  // numbers of addresses for instances to come
	unsure     *attempt
	comparing  comparing
	dates      map[string]*dates // of calendars, by rule
	foreseen   time.Time         // when was looked last what the same hour of the week needed
	sizes      map[fleet.Version]size
	location   *time.Location             // of the rollout's hours
	errands    map[ticketKey]*errand      // that are to be told of open tickets
	holds      map[string][]time.Duration // for how long each hook held the last instances
	targets    targetsOf                  // as the desk was told
	closing    map[string]int64           // what the balancer is to know before targets count as closed
}

// kept is what a keeper knows of an instance besides the core's record of it.
type kept struct {
	at      int            // its place in the view
	rest    store.Instance // all of its record but what stands in the view
	busy    bool           // a driver call is under way
	watched bool           // it is probed
	dirty   bool           // its reports are to be written
	// quiet are the other replicas that have none of its requests since it was closed.
	quiet map[string]bool
}

// moved forgets what others said of a drain once the instance is in another state, or in
// the same one anew.
func (o *kept) moved(was, now *fleet.Instance) {
	if !now.Since.Equal(was.Since) {
		o.quiet = nil
	}
}

// attempt is a commit whose answer was lost: it may have been written.
type attempt struct {
	mark   string
	noted  int
	drawn  int
	dirty  int
	offset time.Duration
}

func newKeeper(c *Control, name string, epoch int64, found map[string]machine.Fact) *keeper {
	return &keeper{
		name: name, ctl: c, epoch: epoch, found: found, poked: make(chan struct{}, 1), gone: make(chan struct{}), stale: true, stop: func() {},
		kept: map[string]*kept{}, closing: map[string]int64{}, errands: map[ticketKey]*errand{}, holds: map[string][]time.Duration{}, dates: map[string]*dates{},
	}
}

// tell hands a fact over; the keeper takes it in before it decides next.
func (k *keeper) tell(f fact) {
	k.mu.Lock()
	k.inbox = append(k.inbox, f)
	k.mu.Unlock()
	select {
	case k.poked <- struct{}{}:
	default:
	}
}

func (k *keeper) reloadNow() {
	k.mu.Lock()
	k.asked++
	k.mu.Unlock()
	k.tell(ofRecords{})
}

// run keeps the group until it is gone, another replica has it, or the
// context ends.
func (k *keeper) run(ctx context.Context) {
	timer := time.NewTimer(0)
	defer timer.Stop()
	defer func() { // whoever keeps it next begins anew what is under way
		for _, e := range k.errands {
			if e.stop != nil {
				e.stop()
			}
		}
	}()
	var notBefore time.Time
	for !k.over {
		select {
		case <-ctx.Done():
			return
		case <-k.poked:
			k.takeFacts()
			k.showTargets()
		case <-timer.C:
			k.takeFacts()
		}
		now := time.Now()
		if now.Before(notBefore) && !k.urgent {
			timer.Reset(notBefore.Sub(now))
			continue
		}
		k.urgent = false
		again, err := k.turn(ctx)
		if err != nil {
			k.failedTurn(ctx, err)
			again = k.now().Add(retryAfter)
		} else {
			k.stuck.Store(nil)
		}
		notBefore = time.Now().Add(decideGap)
		if again.IsZero() {
			timer.Stop()
			continue
		}
		timer.Reset(max(again.Sub(k.now()), decideGap))
	}
}

func (k *keeper) takeFacts() {
	k.mu.Lock()
	inbox := k.inbox
	k.inbox = nil
	k.mu.Unlock()
	for _, f := range inbox {
		k.take(f)
	}
}

// errNoLease is why nothing is decided while the database does not answer for too long.
var errNoLease = errors.New("the lease of the group ran out, since the database did not answer; it is taken again as soon as it does")

// turn decides once, writes the decision and carries it out. It returns when
// to look again.
func (k *keeper) turn(ctx context.Context) (again time.Time, err error) {
	if k.stale {
		if err := k.load(ctx); err != nil || k.over {
			return time.Time{}, err
		}
	}
	if !k.ctl.term.holds() {
		return time.Time{}, errNoLease
	}
	if err := k.followClock(ctx); err != nil {
		return k.staleOr(err)
	}
	now := k.now()
	k.calendars(now)
	k.foresees(ctx, now)
	d := k.decide(now)
	if !d.Quiet() || len(k.noted) > 0 || len(k.dirty) > 0 {
		if err := k.commit(ctx, now, k.offset, &d); err != nil {
			return k.staleOr(err)
		}
		k.ctl.metrics.written(&d)
	}
	k.showTargets()
	k.publish()
	if k.carryOut() {
		return now, nil
	}
	k.over = d.Finished
	return d.Again, nil
}

// staleOr has the records read again at once where they changed meanwhile.
func (k *keeper) staleOr(err error) (again time.Time, _ error) {
	if errors.Is(err, store.ErrStale) {
		k.stale = true
		return k.now(), nil
	}
	return time.Time{}, err
}

// decide asks the core. Since when the group is watched is told by the present clock,
// whatever it was set to meanwhile. What checks were answered that have no verdict yet is
// shown to the core for as long as it decides.
func (k *keeper) decide(now time.Time) fleet.Decision {
	begun := time.Now()
	k.view.Group, k.view.Prices, k.view.Watched = k.group.Group, k.group.Prices, now.Add(-time.Since(k.watching))
	k.view.Group.Watched = k.view.Watched // for who looks at what it shows
	k.view.Rollout = nil
	if k.rollout != nil {
		k.view.Rollout, k.view.Location = &k.rollout.Rollout, k.location
	}
	k.compare(now)
	k.keepLedger()
	were := map[int][]health.Report{}
	for i := range k.view.Instances {
		if in := &k.view.Instances[i]; in.State == fleet.Settling {
			were[i] = in.Reports
			k.askHowFar(in)
		}
	}
	d := fleet.Decide(now, k.view)
	for i, reports := range were {
		k.view.Instances[i].Reports = reports
	}
	k.ctl.metrics.decided(time.Since(begun), &d)
	return d
}

func (k *keeper) keepLedger() {
	if !k.view.Ledger.Fits(&k.view) {
		k.view.Ledger = fleet.NewLedger(&k.view)
	}
}

// spoil notes that the reports of an instance are to be written.
func (k *keeper) spoil(id string) {
	if one := k.kept[id]; !one.dirty {
		one.dirty = true
		k.dirty = append(k.dirty, id)
	}
}

// edit lets f change what is known of an instance, if there is one.
func (k *keeper) edit(id string, f func(in *fleet.Instance)) {
	one := k.kept[id]
	if one == nil {
		return
	}
	f(&k.view.Instances[one.at])
	if k.view.Ledger.Fits(&k.view) {
		k.view.Ledger.Note(&k.view, one.at)
	}
	k.fresh = true
}

// record is all of the record of an instance.
func (k *keeper) record(one *kept) store.Instance {
	rec := one.rest
	rec.Instance = k.view.Instances[one.at]
	return rec
}

// commit writes the decision and takes it over; from then on the records are by a clock with
// the offset.
func (k *keeper) commit(ctx context.Context, now time.Time, offset time.Duration, d *fleet.Decision) error {
	changed, drawn, err := k.records(ctx, d)
	if err != nil {
		return err
	}
	tried := attempt{mark: rand.Text(), noted: len(k.noted), drawn: drawn, dirty: len(k.dirty), offset: offset}
	entries := append(slices.Clip(k.noted), d.Entries...)
	err = k.ctl.Store.Commit(ctx, now, store.Commit{
		Group: k.name, Epoch: k.epoch, Generation: k.group.Generation, Changed: changed, Mark: tried.mark,
		Book: d.Group, Rollout: d.Rollout, Finished: d.Finished, Entries: entries, Shift: offset - k.offset,
	})
	if err != nil {
		switch {
		case errors.Is(err, store.ErrStale):
		case errors.Is(err, store.ErrExists): // an address came round
			k.drawn = nil
		default:
			k.unsure = &tried
		}
		return err
	}
	for _, e := range entries {
		k.ctl.Log.Info(say.Line(k.name, e), "kind", e.Kind, "group", k.name, "because", say.Because(e.Cause))
	}
	k.written(tried)
	k.group.Generation++
	if d.Group != nil {
		k.group.Group = *d.Group
	}
	if d.Rollout != nil {
		k.rollout.Rollout = *d.Rollout
		if d.Rollout.State.Ended() {
			k.rollout = nil
		}
	}
	k.takeOver(changed)
	k.fresh = true
	return nil
}

// written takes off the books what a commit wrote.
func (k *keeper) written(a attempt) {
	k.noted = slices.Clone(k.noted[a.noted:])
	k.drawn = k.drawn[a.drawn:]
	for _, id := range k.dirty[:a.dirty] {
		if one := k.kept[id]; one != nil {
			one.dirty = false
		}
	}
	k.dirty = slices.Clone(k.dirty[a.dirty:])
	k.movePoints(a.offset - k.offset)
	k.offset = a.offset
	k.unsure = nil
}
