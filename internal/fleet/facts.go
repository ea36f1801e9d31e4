package fleet

import (
	"fmt"
	"slices"

	"unitas/internal/fleet/health"
)

// HearMachine takes in what a driver says of the machine. That a machine ended
// is final, whatever is heard late; only that it is cleared comes after.
func (i *Instance) HearMachine(m Machine) {
	final := i.Machine.State == MachineCleared || (i.Machine.State == MachineStopped && m.State != MachineCleared)
	if m.State != MachineUnknown && !final {
		i.Machine = m
	}
}

// HearVerdict takes in the verdict of a check, and returns the journal entry
// when it is another than before. It counts while the instance settles or
// serves. Not ready is not ill: while it settles a bad verdict leaves it
// unknown, and what came back is kept for whoever asks.
func (i *Instance) HearVerdict(r health.Report) (e Entry, changed bool) {
	if i.State != Settling && i.State != Serving {
		return Entry{}, false
	}
	if i.State == Settling && r.Verdict == health.Unhealthy {
		r.Verdict = health.Unknown
	}
	was := i.Report(r.Check).Verdict
	reports := slices.DeleteFunc(slices.Clone(i.Reports), func(o health.Report) bool { return o.Check == r.Check })
	i.Reports = append(reports, r)
	if r.Verdict == was {
		return Entry{}, false
	}
	return Entry{
		Kind: "verdict." + string(r.Verdict), Instance: i.ID,
		Text:    fmt.Sprintf("%s is %s, and was %s.", i.ID, r.Verdict, was),
		Because: r.Check + " " + r.Why,
	}, true
}

// Serves reports whether the instance is in service and no check finds it ill.
func (i *Instance) Serves() bool { return i.State == Serving && !i.ill() }

// TakesRequests reports whether its pools may send it new requests: it serves,
// and its machine is not known to have ended.
func (i *Instance) TakesRequests() bool { return i.Serves() && i.Machine.State != MachineStopped }

func (i *Instance) ill() bool {
	return slices.ContainsFunc(i.Reports, func(r health.Report) bool { return r.Verdict == health.Unhealthy })
}

// AllChecks are those that must find an instance healthy before it serves: of
// the group's pools, and the healing check.
func (g *Group) AllChecks() []string {
	if c := g.Heal.Check(); c != "" && !slices.Contains(g.Checks, c) {
		return append(slices.Clone(g.Checks), c)
	}
	return g.Checks
}
