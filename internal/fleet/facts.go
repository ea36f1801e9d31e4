package fleet

import (
	"fmt"
	"slices"

	"unitas/internal/fleet/health"
	"unitas/internal/fleet/words"
)

// maxWhy is how long the reason of a fact may be; it can name several answers.
const maxWhy = 5 * words.Outside

// HearMachine takes in what a driver says of the machine. What is said of a former
// one is not heard. That a machine ended is final, whatever is heard late; only that it
// is cleared comes after.
func (i *Instance) HearMachine(m Machine) {
	if m.Launch != 0 && m.Launch != i.Launch {
		return
	}
	final := i.Machine.State == MachineCleared || (i.Machine.State == MachineStopped && m.State != MachineCleared)
	if m.State != MachineUnknown && !final {
		m.Why = words.Plain(m.Why, maxWhy)
		i.Machine = m
	}
}

// HearVerdict takes in the verdict of a check, and returns the journal entry
// when it is another than before. It counts while the instance settles or
// serves. Not ready is not ill: while it settles a bad verdict leaves it
// unknown, and what came back is kept for whoever asks.
func (i *Instance) HearVerdict(r health.Report) (e Entry, changed bool) {
	if !i.State.Asked() {
		return Entry{}, false
	}
	if i.State == Settling && r.Verdict == health.Unhealthy {
		r.Verdict = health.Unknown
	}
	r.Why = words.Plain(r.Why, maxWhy)
	was := i.Report(r.Check).Verdict
	reports := slices.DeleteFunc(slices.Clone(i.Reports), func(o health.Report) bool { return o.Check == r.Check })
	i.Reports = append(reports, r)
	if r.Verdict == was {
		return Entry{}, false
	}
	return Entry{
		Kind: "verdict." + string(r.Verdict), Instance: i.ID, Version: i.Version, Zone: i.Zone, Was: string(was), Cause: checked(r),
	}, true
}

// asideIsIll is the how manyth time in a row that a pool sets an instance aside it is taken to be
// ill by [HealTraffic].
const asideIsIll = 3

// SetAside is what [HealTraffic] is told when a pool sets an instance aside for the nth time in a row,
// or, with 0, when it was well again for as long as it was away. heard is false when that says
// nothing of it.
func SetAside(nth int, why string) (r health.Report, heard bool) {
	r = health.Report{Check: string(HealTraffic), Verdict: health.Healthy}
	if nth >= asideIsIll {
		r.Verdict, r.Why = health.Unhealthy, fmt.Sprintf("ejected %d times in a row: %s", nth, why)
	}
	return r, nth == 0 || nth >= asideIsIll
}

// ForgetTraffic forgets what [HealTraffic] was told: the balancer of a service that begins has set nobody
// aside, and says nothing when it would have ended.
func (i *Instance) ForgetTraffic() {
	i.Reports = slices.DeleteFunc(slices.Clone(i.Reports), func(r health.Report) bool { return r.Check == string(HealTraffic) })
}

// Serves reports whether the instance is in service and does some good there:
// not every check of the group's pools finds it ill. What the healing check says
// takes away no traffic; it counts where there is no pool.
func (g *Group) Serves(in *Instance) bool {
	if in.State != Serving {
		return false
	}
	for _, check := range g.Checks {
		if in.verdict(check) != health.Unhealthy {
			return true
		}
	}
	return len(g.Checks) == 0 && !g.needsHealing(in)
}

// verdict is what the named check says of the instance.
func (i *Instance) verdict(check string) health.Verdict {
	for k := range i.Reports {
		if i.Reports[k].Check == check {
			return i.Reports[k].Verdict
		}
	}
	return health.Unknown
}

// TakesRequests reports whether a pool that asks the check may send the instance
// new requests: it is in service, that check finds it healthy, and its machine is
// not known to have ended. What other checks say is no business of the pool's.
func (i *Instance) TakesRequests(check string) bool {
	return i.State == Serving && i.verdict(check) == health.Healthy && i.Machine.State != MachineStopped
}

// Ill reports whether some check finds the instance ill.
func (i *Instance) Ill() bool {
	return slices.ContainsFunc(i.Reports, func(r health.Report) bool { return r.Verdict == health.Unhealthy })
}

// needsHealing reports whether an instance in service is ill by the healing check.
func (g *Group) needsHealing(in *Instance) bool {
	check := g.Heal.Check()
	return check != "" && in.State == Serving && in.verdict(check) == health.Unhealthy
}

// isFormer reports whether a check is none of the group's.
func (g *Group) isFormer(check string) bool {
	return !slices.Contains(g.Checks, check) && check != g.Heal.Check()
}

// AllChecks are those that must find an instance healthy before it serves: of
// the group's pools, and the healing check.
func (g *Group) AllChecks() []string {
	if c := g.Heal.Check(); c != "" && g.Heal != HealTraffic && !slices.Contains(g.Checks, c) {
		return append(slices.Clone(g.Checks), c)
	}
	return g.Checks
}
