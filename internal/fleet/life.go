package fleet

// State is where an instance is in its life.
type State string

// The states of an instance, in order; Parked and Lost stand aside.
const (
	Ordered  State = "ordered"  // recorded; its machine is asked for
	Booting  State = "booting"  // its machine was accepted and starts
	HeldIn   State = "held"     // its machine runs, and a launch hook holds it
	Settling State = "settling" // its machine runs; it is not healthy yet
	Serving  State = "serving"  // it was healthy and is a target of its pools
	Resting  State = "resting"  // no requests; its machine halts for a picture of its files and comes back
	Parked   State = "parked"   // kept running by a person; no requests, not counted
	Draining State = "draining" // no new requests; those in flight finish
	HeldOut  State = "held-out" // a retire hook holds it; shown as held
	Leaving  State = "leaving"  // its machine is being stopped
	Gone     State = "gone"     // nothing of it is left but this record
	Lost     State = "lost"     // its machine vanished; what is left is cleared
)

// Act is what the world is owed for an instance.
type Act string

// The acts. Each is idempotent by instance id and launch.
const (
	Nothing Act = ""
	Launch  Act = "launch" // ask the driver for its machine
	Open    Act = "open"   // send it requests from every pool of the group
	Close   Act = "close"  // send it no new requests; count those in flight
	Rest    Act = "rest"   // send it no new requests; then halt its machine and wake it
	Stop    Act = "stop"   // take it from its pools; stop and clear its machine
)

// life is what holds of an instance in one state.
type life struct {
	state   State
	kind    string // of the journal entry about entering it
	counts  bool   // for the group's size
	comesUp bool   // has still to become healthy
	asked   bool   // its checks are asked, and their verdicts count
	busy    bool   // may have requests in flight, so that it drains before it leaves
	owed    Act
}

// lives has a row for each state; the commonest first.
var lives = [...]life{
	{Serving, "instance.serving", true, false, true, true, Open},
	{Ordered, "instance.ordered", true, true, false, false, Launch},
	{Booting, "instance.booting", true, true, false, false, Launch}, // that it was accepted does not say that it was begun
	{HeldIn, "instance.held", true, true, false, false, Nothing},
	{Settling, "instance.settling", true, true, true, false, Nothing},
	{Draining, "instance.draining", false, false, false, true, Close},
	{HeldOut, "instance.held", false, false, false, false, Nothing},
	{Leaving, "instance.leaving", false, false, false, false, Stop},
	{Gone, "instance.gone", false, false, false, false, Nothing},
	{Lost, "instance.lost", false, false, false, false, Stop},
	{Resting, "instance.resting", true, false, false, true, Rest},
	{Parked, "instance.parked", false, false, false, true, Nothing},
}

func (s State) life() *life {
	for k := range lives {
		if lives[k].state == s {
			return &lives[k]
		}
	}
	return &life{state: s}
}

// Shown is the state as people see it.
func (s State) Shown() string {
	if s == HeldOut {
		return string(HeldIn)
	}
	return string(s)
}

// Counts reports whether an instance in this state counts for the group's
// size: those on their way out do not.
func (s State) Counts() bool { return s.life().counts }

// ComingUp reports whether the instance has still to become healthy.
func (s State) ComingUp() bool { return s.life().comesUp }

// Asked reports whether checks are asked about an instance in this state.
func (s State) Asked() bool { return s.life().asked }

// Counts reports whether the instance counts for the group's size. One that is
// to have a fresh machine does all the while.
func (i *Instance) Counts() bool {
	return i.State.Counts() || (i.Renew && i.State != Parked && i.State != Gone)
}

// Owed is what the world is owed for the instance in its present state,
// whatever was done before. It is how a restarted service picks up its work.
func (i *Instance) Owed() Act { return i.State.life().owed }

// Unpaid is what of that is still to be done, by what is known: the one way in which the
// live service and the rehearsal come to act.
func (i *Instance) Unpaid() Act {
	switch owed := i.Owed(); {
	case owed == Launch && i.Machine.State != MachineUnknown,
		owed == Close && i.Traffic.Closed,
		owed == Stop && i.Machine.State == MachineCleared:
		return Nothing
	default:
		return owed
	}
}

// out is the state in which an instance begins its way out, decided or asked:
// through a drain when requests may be in flight, at once otherwise.
func (g *Group) out(in *Instance) State {
	if in.State.life().busy && len(g.Checks) > 0 {
		return Draining
	}
	return g.afterDrain(in)
}

// afterDrain is where an instance goes once it has no requests: to the retire hooks when
// its machine runs.
func (g *Group) afterDrain(in *Instance) State {
	if in.Up.IsZero() || in.Machine.State == MachineStopped || in.Machine.State == MachineCleared || in.State == HeldOut || !g.hasHooks(AtRetire) {
		return Leaving
	}
	return HeldOut
}
