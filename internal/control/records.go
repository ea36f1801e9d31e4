package control

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"unitas/internal/clock"
	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/store"
)

// How a keeper reads the records of its group, and what it writes of them.

// load reads the records and keeps the facts that are known already.
func (k *keeper) load(ctx context.Context) error {
	k.mu.Lock()
	k.reading = k.asked
	k.mu.Unlock()
	l, err := k.ctl.Store.Load(ctx, k.name)
	if errors.Is(err, store.ErrNotFound) || (err == nil && l.Group.Epoch != k.epoch) {
		k.over = true
		return nil
	}
	if err != nil {
		return fmt.Errorf("load the group: %w", err)
	}
	var checks []health.Check
	for _, name := range l.Group.AllChecks() {
		c, err := k.ctl.library.check(ctx, name)
		if err != nil {
			return fmt.Errorf("load the check %s: %w", name, err)
		}
		checks = append(checks, c)
	}
	// All that the group may launch or send requests to is read now, so that nothing need be
	// read when the database is away.
	ports, sizes, err := k.ctl.library.ports(ctx, versionsOf(l))
	if err != nil {
		return err
	}
	if !k.loaded {
		if err := k.ctl.Machines.Fence(ctx, k.name, k.epoch); err != nil {
			return fmt.Errorf("take over the machines of the group: %w", err)
		}
		k.watching, k.offset = time.Now(), k.ctl.Clock.Offset()
		if k.times, err = k.ctl.Store.UsualTimes(ctx, l.Group.Template.Name); err != nil {
			return fmt.Errorf("load the usual times: %w", err)
		}
		if k.holds, err = k.ctl.Store.HoldTimes(ctx, k.name); err != nil {
			return fmt.Errorf("load how long hooks held: %w", err)
		}
	}
	if k.unsure != nil && l.Group.Written == k.unsure.mark { // only the answer was lost
		k.written(*k.unsure)
	}
	k.unsure = nil
	if err := k.loadPoints(ctx, &l.Group); err != nil {
		return fmt.Errorf("load what was measured: %w", err)
	}
	if k.loaded && k.group.Frozen != "" && l.Group.Frozen == "" { // a time in which nothing was decided is none that was watched
		k.watching = time.Now()
	}
	k.changeSettings(l.Group, checks)
	k.group, k.rollout, k.checks, k.ports, k.sizes = l.Group, l.Rollout, checks, ports, sizes
	if k.rollout != nil {
		k.location = Location(&k.rollout.Rollout)
	}
	k.takeIn(l.Instances)
	k.loaded, k.stale, k.fresh, k.found = true, false, true, nil
	return nil
}

// changeSettings takes the group out of pools that are not its own any more, and has
// its instances asked anew when it is judged by other checks.
func (k *keeper) changeSettings(next store.Group, checks []health.Check) {
	maps.Copy(k.closing, k.ctl.desk.leave(k.name, next.Pools))
	if !slices.Equal(k.group.Pools, next.Pools) {
		k.targets = targetsOf{}
	}
	if k.loaded && !slices.Equal(k.checks, checks) {
		for id, one := range k.kept {
			if one.watched {
				k.ctl.prober.Forget(id)
				one.watched = false
			}
		}
	}
}

// takeIn makes the view of records that were read, with what is known of the instances.
func (k *keeper) takeIn(records []store.Instance) {
	had, old, soon := k.kept, k.view.Instances, k.now().Add(clock.Apart)
	k.kept = make(map[string]*kept, len(records))
	k.view.Instances, k.view.Ledger = make([]fleet.Instance, len(records)), nil
	var fresh []string
	for i := range records {
		in := &records[i]
		in.NoLater(soon)
		one := had[in.ID]
		if one == nil {
			one = &kept{}
			fresh = append(fresh, in.ID)
			in.ForgetTraffic()
			k.recognise(in)
		} else {
			was := &old[one.at]
			in.Machine = was.Machine
			one.moved(was, &in.Instance)
			if in.State == was.State { // a person may have moved it; it is judged anew then
				in.Traffic, in.Reports = was.Traffic, was.Reports
			}
		}
		one.at, one.rest = i, *in
		k.kept[in.ID], k.view.Instances[i] = one, in.Instance
		delete(had, in.ID)
	}
	k.ctl.roster.own(k, fresh...)
	for id := range had { // those that were released
		k.forget(id)
	}
}

// recognise adds to the record of an instance that is new here what its machine is.
func (k *keeper) recognise(in *store.Instance) {
	digest := cmp.Or(in.Overrides.Digest, k.sizes[in.Version].digest)
	f, ok := k.found[in.ID]
	switch {
	case k.loaded: // the sweep will say
	case ok && in.State.Counts() && in.Owed() != fleet.Launch && f.Digest != "" && digest != "" && f.Digest != digest:
		in.Machine = fleet.Machine{State: fleet.MachineStopped, Why: fmt.Sprintf("its machine has the image %.19s, and its record says %.19s", f.Digest, digest)}
	case ok && in.State.Counts() && in.Owed() != fleet.Launch && f.Template != "" && (f.Template != in.Version.String() || f.Launch != in.Launch):
		// The records are of another time than the machines: a database that was restored.
		in.Machine = fleet.Machine{State: fleet.MachineStopped, Why: fmt.Sprintf("its machine is that of %s, launch %d, and its record says %s, launch %d", f.Template, f.Launch, in.Version, in.Launch)}
	case ok:
		in.HearMachine(fleet.Machine{State: f.State, Why: f.Why, Launch: f.Launch})
	case in.Owed() != fleet.Launch && in.Owed() != fleet.Stop && in.Owed() != fleet.Rest:
		in.Machine = notFound
	}
}

// forget ends that the keeper has to do with instances.
func (k *keeper) forget(ids ...string) {
	mine := k.ctl.roster.disown(k, ids...)
	k.ctl.prober.Forget(mine...)
	k.ctl.desk.forget(mine...)
}

// records are the rows to write: those that the decision changes, with an
// address for each new one, and those with a new verdict. drawn is how many of the
// numbers at hand they take.
func (k *keeper) records(ctx context.Context, d *fleet.Decision) (out []store.Instance, drawn int, err error) {
	decided := make(map[string]bool, len(d.Changed))
	for _, in := range d.Changed {
		decided[in.ID] = true
		rec := store.Instance{Group: k.name, Overrides: k.group.Overrides}
		if one := k.kept[in.ID]; one != nil {
			rec = one.rest
		} else {
			drawn++
		}
		rec.Instance = *in
		out = append(out, rec)
	}
	for _, id := range k.dirty {
		if one := k.kept[id]; one != nil && !decided[id] {
			out = append(out, k.record(one))
		}
	}
	if drawn > len(k.drawn) {
		more, err := k.ctl.Store.NextAddresses(ctx, drawn-len(k.drawn), k.ctl.Machines.Numbers())
		if err != nil {
			return nil, 0, fmt.Errorf("draw addresses: %w", err)
		}
		k.drawn = append(k.drawn, more...)
	}
	next := k.drawn
	for i := range out {
		if out[i].Address != "" {
			continue
		}
		out[i].AddressNumber, next = next[0], next[1:]
		if out[i].Address, err = k.ctl.Machines.Address(out[i].Zone, out[i].AddressNumber); err != nil {
			return nil, 0, err
		}
	}
	return out, drawn, nil
}

// takeOver takes records over that were written.
func (k *keeper) takeOver(changed []store.Instance) {
	var fresh, gone []string
	for _, rec := range changed {
		one := k.kept[rec.ID]
		if one == nil {
			one = &kept{at: len(k.view.Instances)}
			k.kept[rec.ID] = one
			k.view.Instances = append(k.view.Instances, rec.Instance)
			fresh = append(fresh, rec.ID)
		}
		had := &k.view.Instances[one.at]
		if rec.Launch != had.Launch { // it gets a fresh machine
			one.watched = false
			k.ctl.prober.Forget(rec.ID)
			k.ctl.desk.forget(rec.ID)
		}
		if had.Served.IsZero() && !rec.Served.IsZero() {
			k.times = append(k.times, rec.Served.Sub(rec.Ordered))
			k.times = k.times[max(0, len(k.times)-50):]
		}
		k.noteHolds(had, &rec.Instance)
		one.moved(had, &rec.Instance)
		*had, one.rest = rec.Instance, rec
		k.view.Ledger.Note(&k.view, one.at)
		if rec.State == fleet.Gone {
			gone = append(gone, rec.ID)
		}
	}
	k.ctl.roster.own(k, fresh...)
	if len(gone) == 0 {
		return
	}
	ins := k.view.Instances
	k.view.Ledger.Keep(func(i int) bool { return ins[i].State != fleet.Gone })
	k.view.Instances = slices.DeleteFunc(ins, func(in fleet.Instance) bool { return in.State == fleet.Gone })
	for i := range k.view.Instances {
		k.kept[k.view.Instances[i].ID].at = i
	}
	for _, id := range gone {
		delete(k.kept, id)
	}
	k.forget(gone...)
}
