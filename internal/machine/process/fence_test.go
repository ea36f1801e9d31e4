package process

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/machine"
)

// second is another service on the same directory.
func (y *yard) second() *yard {
	y.t.Helper()
	other := &yard{t: y.t}
	other.reopen(filepath.Dir(y.Dir))
	return other
}

func under(id string, epoch int64) machine.Order {
	return machine.Order{ID: id, Group: "timetable", Epoch: epoch}
}

// TestDeposedServiceIsRefused: whatever a service asks under the lease it had before
// another got it is refused, and changes nothing.
func TestDeposedServiceIsRefused(t *testing.T) {
	old := newYard(t)
	ctx := context.Background()
	runs, fresh := old.spec("timetable-001", "sleep 1000"), old.spec("timetable-002", "sleep 1000")
	old.ids = append(old.ids, runs.ID, fresh.ID)
	if err := errors.Join(old.Fence(ctx, "timetable", 1), old.Driver.Launch(ctx, under(runs.ID, 1), runs)); err != nil {
		t.Fatal(err)
	}
	next := old.second()
	if err := next.Fence(ctx, "timetable", 2); err != nil {
		t.Fatal(err)
	}
	pid := next.pid(runs.ID)
	for what, err := range map[string]error{
		"to fence":  old.Fence(ctx, "timetable", 1),
		"to launch": old.Driver.Launch(ctx, under(fresh.ID, 1), fresh),
		"to stop":   old.Driver.Stop(ctx, under(runs.ID, 1), 0),
		"to halt":   old.Driver.Halt(ctx, under(runs.ID, 1), 0),
		"to wake":   old.Driver.Wake(ctx, under(runs.ID, 1)),
	} {
		if !errors.Is(err, machine.ErrDeposed) {
			t.Errorf("a deposed service asks %s: %v", what, err)
		}
	}
	if _, err := os.Stat(old.dir(fresh.ID)); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("it made a machine: %v", err)
	}
	if next.pid(runs.ID) != pid {
		t.Error("it touched a machine")
	}
	if err := next.Driver.Launch(ctx, under(fresh.ID, 2), fresh); err != nil {
		t.Errorf("the next one is refused: %v", err)
	}
	if err := next.Driver.Stop(ctx, under(runs.ID, 2), 0); err != nil {
		t.Errorf("the next one is refused: %v", err)
	}
}

// TestAMachineStartedAgainSurvivesItsFormerEnd: a service that comes late to clean up
// after a machine finds another one in its place, and leaves it alone.
func TestAMachineStartedAgainSurvivesItsFormerEnd(t *testing.T) {
	y := newYard(t)
	ctx := context.Background()
	spec := y.launch("timetable-001", "sleep 1000")
	former := y.machines[spec.ID].id
	if err := y.Stop(ctx, spec.ID, 0); err != nil {
		t.Fatal(err)
	}
	if err := y.Launch(ctx, spec); err != nil {
		t.Fatal(err)
	}
	pid := y.pid(spec.ID)
	y.second().endRest(spec.ID, former)
	facts, err := y.List(ctx)
	if err != nil || len(facts) != 1 || facts[0].State != fleet.MachineRunning || y.pid(spec.ID) != pid {
		t.Errorf("of the machine is left %+v: %v", facts, err)
	}
}

// TestOneServiceAtATime: two services start the same machine at once, and there is one.
func TestOneServiceAtATime(t *testing.T) {
	one := newYard(t)
	two := one.second()
	spec := one.spec("timetable-001", "exec sleep 1000")
	one.ids = append(one.ids, spec.ID)
	done := make(chan error, 2)
	for _, y := range []*yard{one, two} {
		go func() { done <- y.Launch(context.Background(), spec) }()
	}
	for range 2 {
		if err := <-done; err != nil {
			t.Error(err)
		}
	}
	// One that is becoming another program has no mark for a moment, and its shell may have a child.
	// Two machines would stay two.
	limit := time.After(10 * time.Second)
	for {
		found := marked(one.dir(spec.ID))
		if len(found) == 1 {
			if raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", found[0].PID)); err == nil && strings.HasPrefix(string(raw), "sleep") {
				break
			}
		}
		select {
		case <-limit:
			t.Fatalf("%d processes bear its mark", len(found))
		case <-time.After(time.Millisecond):
		}
	}
	if found := marked(one.dir(spec.ID)); len(found) != 1 {
		t.Errorf("%d processes bear its mark", len(found))
	}
}

// TestAHeldMachineIsSaid: a service that stopped in the middle of an act holds nobody up
// for ever, and nothing is done beside it.
func TestAHeldMachineIsSaid(t *testing.T) {
	y := newYard(t)
	spec := y.spec("timetable-001", "sleep 1000")
	release, err := y.hold(context.Background(), machine.Order{ID: spec.ID})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	if err := y.second().Launch(ctx, spec); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("beside it: %v", err)
	}
	if err := release(); err != nil {
		t.Fatal(err)
	}
	if left, _ := filepath.Glob(y.own("locks", "*")); len(left) != 0 {
		t.Errorf("locks are left: %v", left)
	}
}

// TestALostZoneIsLostForAll: a drill of one service keeps every service from launching
// there, kills what any of them started, and ends with the service.
func TestALostZoneIsLostForAll(t *testing.T) {
	one := newYard(t)
	spec := one.launch("timetable-001", "exec sleep 1000")
	two := one.second()
	if err := two.LoseZone(spec.Zone, true); err != nil {
		t.Fatal(err)
	}
	if f := one.fact(); f.State != fleet.MachineStopped {
		t.Errorf("of the other's machine is said %+v", f)
	}
	next := one.spec("timetable-002", "exec sleep 1000")
	one.ids = append(one.ids, next.ID)
	if err := one.Launch(context.Background(), next); err == nil {
		t.Error("the other service launches in a lost zone")
	}
	if err := one.LoseZone(spec.Zone, true); err == nil {
		t.Error("it is lost twice")
	}
	if err := two.LoseZone(spec.Zone, false); err != nil {
		t.Fatal(err)
	}
	if err := one.Launch(context.Background(), next); err != nil {
		t.Errorf("after it: %v", err)
	}
}

// TestALateCleaner: who clears up after a machine's former process lets its next one be.
func TestALateCleaner(t *testing.T) {
	y := newYard(t)
	spec := y.launch("timetable-001", "echo up; exec sleep 1000")
	y.log(spec.ID, "up")
	rec, err := y.read(spec.ID)
	if err != nil {
		t.Fatal(err)
	}
	former := *rec.Process
	former.Started--
	y.endRest(spec.ID, former)
	if err := syscall.Kill(rec.Process.PID, 0); err != nil || len(marked(y.dir(spec.ID))) != 1 {
		t.Errorf("the next one is gone: %v", err)
	}
	y.endRest(spec.ID, *rec.Process)
	if f := y.fact(); f.State != fleet.MachineStopped {
		t.Errorf("the driver says %+v", f)
	}
}
