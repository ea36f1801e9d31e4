package control

import (
	"context"
	"errors"
	"fmt"
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

// keeper drives one group. Its fields below the mailbox belong to its own
// goroutine; everybody else tells it facts.
type keeper struct {
	name string
	ctl  *Control

	poked chan struct{}
	mu    sync.Mutex
	inbox []func(*keeper)
	known map[string]fleet.Instance // facts for whoever asks
	// overdue are those that did not come up in their time.
	overdue map[string]bool
	all     []store.Instance // the same as a list with their records
	usual   Usual
	stuck   Stuck
	// asked counts how often the records were to be read again, and read how many of
	// these were done when all was published.
	asked, read int

	reading int // of asked, by the last load

	// epoch is that of the lease the group is kept under, 0 before it was read.
	epoch atomic.Int64
	found map[string]machine.Fact // what ran when the lease was taken; for the first load

	group      store.Group
	rollout    *store.Rollout
	instances  []store.Instance
	checks     []health.Check
	times      []time.Duration // from order to serving, of the last instances
	loaded     bool
	watching   time.Time // since when, without a gap
	stale      bool      // the records are to be read again
	over       bool      // the group is gone or another replica's
	complained time.Time // of a decision that could not be written
	noted      []fleet.Entry
	dirty      map[string]bool // instances whose reports are to be written
	busy       map[string]bool // instances with a driver call under way
	watched    map[string]bool // instances that are probed
	shown      targetsOf
}

func newKeeper(c *Control, name string, found map[string]machine.Fact) *keeper {
	return &keeper{
		name: name, ctl: c, found: found, poked: make(chan struct{}, 1), stale: true,
		dirty: map[string]bool{}, busy: map[string]bool{}, watched: map[string]bool{},
	}
}

// tell hands a fact over; the keeper takes it in before it decides next.
func (k *keeper) tell(fact func(*keeper)) {
	k.mu.Lock()
	k.inbox = append(k.inbox, fact)
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
	k.tell(func(k *keeper) { k.stale = true })
}

// run keeps the group until it is gone, another replica has it, or the
// context ends.
func (k *keeper) run(ctx context.Context) {
	timer := time.NewTimer(0)
	defer timer.Stop()
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
		if now.Before(notBefore) {
			timer.Reset(notBefore.Sub(now))
			continue
		}
		again, err := k.turn(ctx)
		if err != nil {
			k.failedTurn(ctx, err)
			again = time.Now().Add(retryAfter)
		} else {
			k.setStuck(Stuck{})
		}
		notBefore = time.Now().Add(decideGap)
		if again.IsZero() {
			timer.Stop()
			continue
		}
		timer.Reset(max(time.Until(again), decideGap))
	}
}

func (k *keeper) takeFacts() {
	k.mu.Lock()
	inbox := k.inbox
	k.inbox = nil
	k.mu.Unlock()
	for _, fact := range inbox {
		fact(k)
	}
}

// turn decides once, writes the decision and carries it out. It returns when
// to look again.
func (k *keeper) turn(ctx context.Context) (again time.Time, err error) {
	if k.stale {
		if err := k.load(ctx); err != nil || k.over {
			return time.Time{}, err
		}
	}
	now := time.Now().UTC().Truncate(time.Microsecond) // as the database keeps it
	d := fleet.Decide(now, k.view(now))
	k.ctl.metrics.decided(time.Since(now), &d)
	if !d.Quiet() || len(k.noted) > 0 || len(k.dirty) > 0 {
		switch err := k.commit(ctx, now, &d); {
		case errors.Is(err, store.ErrStale):
			k.stale = true
			return now, nil
		case err != nil:
			return time.Time{}, err
		}
	}
	k.showTargets()
	k.publish()
	if k.carryOut(ctx) {
		return now, nil
	}
	k.over = d.Finished
	return d.Again, nil
}

// load reads the records and keeps the facts that are known already.
func (k *keeper) load(ctx context.Context) error {
	k.mu.Lock()
	k.reading = k.asked
	k.mu.Unlock()
	l, err := k.ctl.Store.Load(ctx, k.name)
	had := k.epoch.Load()
	if errors.Is(err, store.ErrNotFound) || (err == nil && had != 0 && l.Group.Epoch != had) {
		k.over = true
		return nil
	}
	if err != nil {
		return fmt.Errorf("load the group: %w", err)
	}
	var checks []health.Check
	for _, name := range l.Group.AllChecks() {
		c, err := k.ctl.check(ctx, name)
		if err != nil {
			return fmt.Errorf("load the check %s: %w", name, err)
		}
		checks = append(checks, c)
	}
	k.epoch.Store(l.Group.Epoch)
	if err := k.readTemplates(ctx, l); err != nil {
		return err
	}
	if !k.loaded {
		k.watching = time.Now()
		if k.times, err = k.ctl.Store.UsualTimes(ctx, l.Group.Template.Name); err != nil {
			return fmt.Errorf("load the usual times: %w", err)
		}
	}
	for i := range l.Instances {
		k.recall(&l.Instances[i])
	}
	k.letGo(l.Instances)
	k.leave(l.Group, checks)
	k.group, k.rollout, k.instances, k.checks = l.Group, l.Rollout, l.Instances, checks
	k.loaded, k.stale, k.found = true, false, nil
	return nil
}

// letGo forgets those that were released.
func (k *keeper) letGo(still []store.Instance) {
	for i := range k.instances {
		id := k.instances[i].ID
		if slices.ContainsFunc(still, func(in store.Instance) bool { return in.ID == id }) {
			continue
		}
		k.ctl.disown(k, id)
		k.ctl.prober.Forget(id)
		delete(k.watched, id)
		delete(k.busy, id)
		delete(k.dirty, id)
	}
}

// leave takes the group out of pools that are not its own any more, and has
// its instances asked anew when it is judged by other checks.
func (k *keeper) leave(next store.Group, checks []health.Check) {
	left := slices.DeleteFunc(slices.Clone(k.group.Pools), func(p string) bool { return slices.Contains(next.Pools, p) })
	if len(left) > 0 {
		k.ctl.desk.set(k.name, left, targetsOf{})
	}
	if !slices.Equal(k.group.Pools, next.Pools) {
		k.shown = targetsOf{}
	}
	if k.loaded && !slices.Equal(k.checks, checks) {
		for id := range k.watched {
			k.ctl.prober.Forget(id)
		}
		clear(k.watched)
	}
}

// readTemplates reads all that the group may launch or send requests to, so
// that nothing need be read when the database is away.
func (k *keeper) readTemplates(ctx context.Context, l store.Loaded) error {
	versions := []fleet.Version{l.Group.Template}
	if l.Rollout != nil {
		versions = append(versions, l.Rollout.From, l.Rollout.To)
	}
	for i := range l.Instances {
		versions = append(versions, l.Instances[i].Version)
	}
	for _, v := range versions {
		if _, err := k.ctl.template(ctx, v); err != nil {
			return fmt.Errorf("load the template %s: %w", v, err)
		}
	}
	return nil
}

// recall adds to a record read again what is known of the instance.
func (k *keeper) recall(in *store.Instance) {
	if had := k.find(in.ID); had != nil {
		in.Machine = had.Machine
		if in.State == had.State { // a person may have moved it; it is judged anew then
			in.Traffic, in.Reports = had.Traffic, had.Reports
		}
		return
	}
	k.ctl.own(k, in.ID)
	f, ok := k.found[in.ID]
	switch {
	case k.loaded: // the sweep will say
	case ok:
		in.HearMachine(fleet.Machine{State: f.State, Why: f.Why, Launch: f.Launch})
	case in.Owed() != fleet.Launch && in.Owed() != fleet.Stop && in.Owed() != fleet.Rest:
		in.Machine = fleet.Machine{State: fleet.MachineStopped, Why: "its machine was not found"}
	}
}

func (k *keeper) find(id string) *store.Instance {
	for i := range k.instances {
		if k.instances[i].ID == id {
			return &k.instances[i]
		}
	}
	return nil
}

// view is the group as it is known at the time now. Since when it is watched is told by
// the present clock, whatever it was set to meanwhile.
func (k *keeper) view(now time.Time) fleet.View {
	v := fleet.View{Group: k.group.Group, Prices: k.group.Prices, Watched: now.Add(-time.Since(k.watching)), Instances: store.Bare(k.instances)}
	if k.rollout != nil {
		v.Rollout = &k.rollout.Rollout
	}
	for i := range v.Instances {
		if in := &v.Instances[i]; in.State == fleet.Settling {
			k.askHowFar(in)
		}
	}
	return v
}

// commit writes the decision and takes it over.
func (k *keeper) commit(ctx context.Context, now time.Time, d *fleet.Decision) error {
	changed, err := k.records(ctx, d)
	if err != nil {
		return err
	}
	err = k.ctl.Store.Commit(ctx, now, store.Commit{
		Group: k.name, Epoch: k.group.Epoch, Generation: k.group.Generation, Changed: changed,
		Book: d.Group, Rollout: d.Rollout, Finished: d.Finished, Entries: append(slices.Clip(k.noted), d.Entries...),
	})
	if err != nil {
		return err
	}
	for _, e := range append(slices.Clip(k.noted), d.Entries...) {
		k.ctl.Log.Info(say.Line(k.name, e), "kind", e.Kind, "group", k.name, "because", say.Because(e.Cause))
	}
	k.ctl.metrics.written(d)
	k.noted = nil
	clear(k.dirty)
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
	for _, in := range changed {
		k.takeOver(in)
	}
	k.instances = slices.DeleteFunc(k.instances, func(in store.Instance) bool {
		if in.State == fleet.Gone {
			k.ctl.disown(k, in.ID)
			delete(k.busy, in.ID)
		}
		return in.State == fleet.Gone
	})
	return nil
}

// records are the rows to write: those that the decision changes, with an
// address for each new one, and those with a new verdict.
func (k *keeper) records(ctx context.Context, d *fleet.Decision) ([]store.Instance, error) {
	var out []store.Instance
	fresh := 0
	for _, in := range d.Changed {
		rec := store.Instance{Instance: *in, Group: k.name}
		if had := k.find(in.ID); had != nil {
			rec = *had
			rec.Instance = *in
		} else {
			fresh++
		}
		out = append(out, rec)
	}
	for id := range k.dirty {
		decided := slices.ContainsFunc(d.Changed, func(in *fleet.Instance) bool { return in.ID == id })
		if in := k.find(id); in != nil && !decided {
			out = append(out, *in)
		}
	}
	if fresh == 0 {
		return out, nil
	}
	for i := range out {
		if out[i].Address == "" {
			out[i].Overrides = k.group.Overrides
		}
	}
	numbers, err := k.ctl.Store.NextAddresses(ctx, fresh)
	if err != nil {
		return nil, fmt.Errorf("draw addresses: %w", err)
	}
	for i := range out {
		if out[i].Address != "" {
			continue
		}
		out[i].AddressNumber = numbers[0]
		numbers = numbers[1:]
		if out[i].Address, err = k.ctl.Machines.Address(out[i].Zone, out[i].AddressNumber); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (k *keeper) takeOver(in store.Instance) {
	had := k.find(in.ID)
	if had == nil {
		k.ctl.own(k, in.ID)
		k.instances = append(k.instances, in)
		return
	}
	if in.Launch != had.Launch { // it gets a fresh machine
		delete(k.watched, in.ID)
		k.ctl.prober.Forget(in.ID)
		k.ctl.desk.forget(in.ID)
	}
	if had.Served.IsZero() && !in.Served.IsZero() {
		k.times = append(k.times, in.Served.Sub(in.Ordered))
		k.times = k.times[max(0, len(k.times)-50):]
	}
	*had = in
}

// missing loses the machines that ran before the list was made and are not on it.
func (k *keeper) missing(listed time.Time, found map[string]bool) {
	for i := range k.instances {
		in := &k.instances[i]
		if !found[in.ID] && !in.Up.IsZero() && in.Up.Before(listed) && in.Machine.State == fleet.MachineRunning && !k.busy[in.ID] {
			in.Machine = fleet.Machine{State: fleet.MachineStopped, Why: "its machine was not found"}
		}
	}
}

// hear takes in what the driver said of a machine.
func (k *keeper) hear(f machine.Fact) {
	if in := k.find(f.ID); in != nil {
		in.HearMachine(fleet.Machine{State: f.State, Why: f.Why, Launch: f.Launch})
	}
}

// verdict takes in a changed verdict, to be written with the next decision.
func (k *keeper) verdict(id string, r health.Report) {
	in := k.find(id)
	if in == nil {
		return
	}
	if e, changed := in.HearVerdict(r); changed {
		k.dirty[id] = true
		k.noted = append(k.noted, e)
	}
}
