package api

import (
	"time"

	"unitas/api/contract"
	"unitas/internal/fleet/traffic"
)

// How the targets of a pool are spoken to, between contract and core.

// targetsGiven is what somebody said of it.
type targetsGiven struct {
	protocol   *contract.TargetProtocol
	trust      *string
	serverName *string
	affinity   *contract.Affinity
	eject      *contract.Eject
	limits     *contract.PoolLimits
}

// toTargets puts what was given over what was.
func toTargets(t traffic.Targets, g targetsGiven) traffic.Targets {
	t.Protocol, t.Trust, t.ServerName = traffic.TargetProtocol(some(g.protocol, contract.TargetProtocol(t.Protocol))), some(g.trust, t.Trust), some(g.serverName, t.ServerName)
	if t.Protocol == traffic.Plain {
		t.Protocol = ""
	}
	if t.Protocol != traffic.Secure && g.trust == nil && g.serverName == nil {
		t.Trust, t.ServerName = "", ""
	}
	if s := g.affinity; s != nil {
		t.Affinity = traffic.Affinity{By: traffic.By(s.By), Header: some(s.Header, ""), For: durationOf(s.ForSeconds, 0)}
		if t.Affinity.By == traffic.ByNone {
			t.Affinity = traffic.Affinity{}
		}
	}
	if e := g.eject; e != nil {
		usual := t.Eject
		switch {
		case *e == (contract.Eject{}):
			usual = traffic.UsualEject
		case usual == (traffic.Eject{}):
			usual = traffic.Eject{MinRequests: traffic.UsualEject.MinRequests, First: traffic.UsualEject.First, Max: traffic.UsualEject.Max}
		}
		t.Eject = traffic.Eject{Failures: some(e.Failures, usual.Failures), Margin: some(e.MarginPercent, usual.Margin), Slower: some(e.Slower, usual.Slower),
			MinRequests: some(e.MinRequests, usual.MinRequests), First: durationOf(e.ForSeconds, usual.First), Max: durationOf(e.MaxSeconds, usual.Max)}
		if t.Eject.Failures == 0 && t.Eject.Margin == 0 && t.Eject.Slower == 0 {
			t.Eject = traffic.Eject{}
		}
	}
	if l := g.limits; l != nil {
		was := t.Limits
		t.Limits = traffic.PoolLimits{Connect: durationOf(l.ConnectSeconds, was.Connect), FirstByte: durationOf(l.FirstByteSeconds, was.FirstByte), Idle: durationOf(l.IdleSeconds, was.Idle),
			Request: durationOf(l.RequestSeconds, was.Request), BodyBytes: some(l.BodyBytes, was.BodyBytes)}
	}
	return t
}

func inSecondsOf(d time.Duration) *float64 {
	s := secondsOf(d)
	return &s
}

func fromAffinity(s traffic.Affinity) contract.Affinity {
	if s.By == "" {
		return contract.Affinity{By: string(traffic.ByNone)}
	}
	out := contract.Affinity{By: string(s.By), Header: text(s.Header)}
	if s.For > 0 {
		out.ForSeconds = inSecondsOf(s.For)
	}
	return out
}

func fromEject(e traffic.Eject) contract.Eject {
	if e == (traffic.Eject{}) {
		return contract.Eject{Failures: new(int), MarginPercent: new(float64), Slower: new(float64)}
	}
	return contract.Eject{Failures: &e.Failures, MarginPercent: &e.Margin, Slower: &e.Slower, MinRequests: &e.MinRequests, ForSeconds: inSecondsOf(e.First), MaxSeconds: inSecondsOf(e.Max)}
}

func fromPoolLimits(l traffic.PoolLimits) contract.PoolLimits {
	return contract.PoolLimits{ConnectSeconds: inSecondsOf(l.Connect), FirstByteSeconds: inSecondsOf(l.FirstByte), IdleSeconds: inSecondsOf(l.Idle),
		RequestSeconds: inSecondsOf(l.Request), BodyBytes: &l.BodyBytes}
}
