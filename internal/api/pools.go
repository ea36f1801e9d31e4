package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/balancer"
	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/traffic"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// ListPools lists pools.
func (s *Server) ListPools(ctx context.Context, r routes.ListPoolsRequestObject) (routes.ListPoolsResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	items, err := s.Store.Pools(ctx, p)
	if err != nil {
		return nil, err
	}
	groups, err := s.Store.GroupsByPool(ctx)
	if err != nil {
		return nil, err
	}
	listeners, err := s.Store.Listeners(ctx)
	if err != nil {
		return nil, err
	}
	items, next := cut(items, p, func(p store.Pool) store.Cursor { return store.Cursor{p.Name} })
	return routes.ListPools200JSONResponse{Items: each(items, func(p store.Pool) contract.Pool {
		to := slices.DeleteFunc(slices.Clone(listeners), func(l store.Listener) bool { return !slices.Contains(l.Pools(), p.Name) })
		return s.fromPool(p, groups[p.Name], to)
	}), Next: next}, nil
}

// pool is a pool as it is told.
func (s *Server) pool(ctx context.Context, p store.Pool) (contract.Pool, error) {
	groups, err := s.Store.GroupsByPool(ctx)
	if err != nil {
		return contract.Pool{}, err
	}
	listeners, err := s.Store.ListenersTo(ctx, p.Name)
	return s.fromPool(p, groups[p.Name], listeners), err
}

func (s *Server) fromPool(p store.Pool, groups []string, listeners []store.Listener) contract.Pool {
	stats, _ := s.Balancer.Stats(p.Name)
	listening := s.Balancer.Listening()
	out := contract.Pool{Name: p.Name, Check: p.Check, Zones: p.Zones, Algorithm: contract.Algorithm(p.Algorithm), WhenNoneHealthy: contract.WhenNoneHealthy(p.WhenNoneHealthy),
		SlowStartSeconds: secondsOf(p.SlowStart), EnoughPercent: p.Enough, Weights: p.Weights, Labels: notNil(p.Labels), Groups: append([]string{}, groups...),
		Changes: changesOf(p.Changes), Revision: p.Revision, CreatedAt: p.CreatedAt.UTC(), Requests: stats.Requests, Failures: stats.Failures,
		Shares: each(p.Shares, func(g traffic.Share) contract.GroupShare {
			return contract.GroupShare{Group: g.Group, Weight: &g.Weight, Reserve: &g.Reserve}
		}),
		Listeners: each(listeners, func(l store.Listener) contract.ListenerState { return listenerOf(p.Name, l, listening) }),
		Protocol:  contract.TargetProtocol(cmp.Or(p.Protocol, traffic.Plain)), Trust: p.Trust, ServerName: p.ServerName, Affinity: fromAffinity(p.Affinity), Eject: fromEject(p.Eject), Limits: fromPoolLimits(p.Limits),
		Targets: each(stats.Targets, func(t balancer.TargetStats) contract.Target {
			return fromTarget(t, s.Control.Standing(t.Instance, p.Check))
		}),
		Versions: each(stats.Versions, func(v balancer.VersionStats) contract.VersionTraffic {
			return contract.VersionTraffic{Version: v.Version, InFlight: v.InFlight, Windows: each(v.Windows, fromWindow)}
		}),
	}
	out.Sentence = poolSentence(out, s.Control.TakenOver(p))
	return out
}

// listenerOf is a listener as its pool tells it.
func listenerOf(pool string, l store.Listener, all []balancer.ListenerStats) contract.ListenerState {
	out := contract.ListenerState{Address: l.Address, Protocol: contract.ListenerProtocol(l.Protocol), Secure: l.Protocol == traffic.HTTPS, Routed: l.Pool != pool, Trouble: notOpenYet}
	if len(l.Certificates) > 0 {
		out.Certificate = &l.Certificates[0]
	}
	for _, have := range all {
		if have.Address == l.Address {
			out.Trouble, out.ExpiresAt = have.Trouble, optional(have.Expires)
		}
	}
	return out
}

const notOpenYet = "not opened yet"

func fromTarget(t balancer.TargetStats, standing health.Report) contract.Target {
	longest := t.Windows[len(t.Windows)-1]
	return contract.Target{Instance: t.Instance, Group: t.Group, Version: t.Version, Address: t.Address, Verdict: contract.Verdict(standing.Verdict), Why: standing.Why, Open: t.Open, SharePercent: round2(t.Share * 100),
		EjectedUntil: optional(t.Aside), EjectedWhy: text(t.AsideWhy), EjectedNth: number(t.AsideNth), Region: text(t.Region), InFlight: t.InFlight, Requests: t.Requests, Failures: t.Failures, Retried: t.Retried,
		MedianMs: round2(longest.Median), P99Ms: round2(longest.P99), Windows: each(t.Windows, fromWindow),
		WaitsFor: each(t.WaitsFor, func(r balancer.Request) contract.RequestInFlight {
			return contract.RequestInFlight{Method: r.Method, Path: r.Path, ForSeconds: secondsOf(time.Since(r.Since))}
		})}
}

func fromWindow(w balancer.Window) contract.TrafficWindow {
	return contract.TrafficWindow{Minutes: w.Minutes, Requests: w.Requests, PerSecond: round2(float64(w.Requests) / float64(w.Minutes) / 60),
		Status1xx: w.Status[1], Status2xx: w.Status[2], Status3xx: w.Status[3], Status4xx: w.Status[4], Status5xx: w.Status[5], Unanswered: w.Status[0],
		MedianMs: round2(w.Median), P95Ms: round2(w.P95), P99Ms: round2(w.P99)}
}

// poolSentence heads every page about the pool.
func poolSentence(p contract.Pool, takenOver string) string {
	open, aside, waiting, ill, leaving := 0, 0, 0, 0, 0
	for _, t := range p.Targets {
		switch {
		case t.Open && t.EjectedUntil != nil:
			aside++
		case t.Open:
			open++
		case t.Verdict == contract.VerdictUnknown:
			waiting++
		case t.Verdict == contract.VerdictUnhealthy:
			ill++
		default:
			leaving++
		}
	}
	out := fmt.Sprintf("%d of %d targets get requests", open, len(p.Targets))
	if len(p.Targets) == 0 {
		out = "No targets"
	}
	if aside > 0 {
		out += fmt.Sprintf("; %d ejected", aside)
	}
	if waiting > 0 {
		out += fmt.Sprintf("; %d without enough answers to %s yet", waiting, p.Check)
	}
	if ill > 0 {
		out += fmt.Sprintf("; %d unhealthy by %s", ill, p.Check)
	}
	if leaving > 0 {
		out += fmt.Sprintf("; %d closed", leaving)
	}
	if open+aside == 0 && len(p.Targets) > 0 && p.WhenNoneHealthy == contract.TryAll {
		out = "No target is healthy, so those that are ill are tried, as the pool's setting wants" + strings.TrimPrefix(out, fmt.Sprintf("0 of %d targets get requests", len(p.Targets)))
	}
	if takenOver != "" {
		out += "; " + takenOver
	}
	for _, l := range p.Listeners {
		if l.Trouble != "" {
			out += fmt.Sprintf("; %s: %s", l.Address, l.Trouble)
		}
	}
	return out + "."
}

// CreatePool makes a pool and opens its listeners.
func (s *Server) CreatePool(ctx context.Context, r routes.CreatePoolRequestObject) (routes.CreatePoolResponseObject, error) {
	b := r.Body
	p := store.Pool{Name: b.Name, Listeners: toListeners(b.Name, some(b.Listeners, nil)), Check: b.Check, Zones: some(b.Zones, nil), Labels: some(b.Labels, nil),
		Sharing: traffic.Sharing{Algorithm: traffic.Algorithm(given(b.Algorithm)),
			WhenNoneHealthy: traffic.WhenNoneHealthy(given(b.WhenNoneHealthy)), SlowStart: givenFor(b.SlowStartSeconds),
			Shares: toShares(some(b.Shares, nil)), Enough: given(b.EnoughPercent), Weights: some(b.Weights, nil),
			Targets: toTargets(traffic.Targets{}, targetsGiven{b.Protocol, b.Trust, b.ServerName, b.Affinity, b.Eject, b.Limits})}}
	p, err := s.Store.AddPool(ctx, s.now(), actor(ctx), p, func(r store.Reader) error { return s.goodPool(ctx, r, store.Pool{}, p) })
	if err != nil {
		return nil, about("pool", b.Name, err)
	}
	out, err := s.pool(ctx, p)
	if given(r.Params.DryRun) {
		return routes.CreatePool200JSONResponse(out), err
	}
	return routes.CreatePool201JSONResponse(out), err
}

func toListeners(pool string, all []contract.PoolListener) []store.Listener {
	return each(all, func(l contract.PoolListener) store.Listener {
		return store.NewListener(l.Address, pool, some(l.Certificate, ""))
	})
}

func toShares(all []contract.GroupShare) []traffic.Share {
	return each(all, func(g contract.GroupShare) traffic.Share {
		return traffic.Share{Group: g.Group, Weight: given(g.Weight), Reserve: given(g.Reserve)}
	})
}

// goodPool reports everything that no field says alone. A certificate that was
// there before may be broken now; the listener says so and goes on.
func (s *Server) goodPool(ctx context.Context, r store.Reader, was, p store.Pool) error {
	var faults []fieldFault
	fault := func(pointer, format string, args ...any) {
		faults = append(faults, fieldFault{pointer, fmt.Sprintf(format, args...)})
	}
	for i, l := range p.Listeners {
		at := fmt.Sprintf("/listeners/%d", i)
		if why := faultOfAddress(l.Address); why != "" {
			fault(at+"/address", "%s", why)
		}
		if slices.IndexFunc(p.Listeners, func(o store.Listener) bool { return o.Address == l.Address }) != i {
			fault(at+"/address", "%s is named twice", l.Address)
		}
		whose, err := takenBy(ctx, r, p.Name, l.Address)
		if err != nil {
			return err
		}
		if whose != "" {
			fault(at+"/address", "%s %s", l.Address, whose)
		}
		had := slices.IndexFunc(was.Listeners, func(o store.Listener) bool {
			return o.Address == l.Address && slices.Equal(o.Certificates, l.Certificates)
		})
		if had >= 0 {
			p.Listeners[i].Key = was.Listeners[had].Key
		} else if len(l.Certificates) > 0 {
			if why := s.Certificates.Fault(l.Certificates[0]); why != "" {
				fault(at+"/certificate", "%s", why)
			}
		}
	}
	if t := p.Trust; t != was.Trust && t != "" && t != traffic.TrustHost && t != traffic.TrustAnyone {
		if why := s.Certificates.Fault(t); why != "" {
			fault("/trust", "%s; or give host or anyone", why)
		}
	}
	if _, err := r.Check(ctx, p.Check); errors.Is(err, store.ErrNotFound) {
		fault("/check", "there is no check %s; make it first with: unitas check create %s", p.Check, p.Check)
	} else if err != nil {
		return err
	}
	for i, z := range p.Zones {
		if !slices.Contains(s.Places.Zones(), z) {
			fault("/zones/"+strconv.Itoa(i), "there is no zone %q; there are %s", z, strings.Join(s.Places.Zones(), ", "))
		}
	}
	for i, share := range p.Shares {
		if _, err := r.Group(ctx, share.Group); errors.Is(err, store.ErrNotFound) && !slices.Contains(was.Shares, share) {
			fault(fmt.Sprintf("/shares/%d/group", i), "there is no group %s", share.Group)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.Weights)) {
		if _, had := was.Weights[name]; had {
			continue
		}
		why, err := strangerTo(ctx, r, p.Name, name)
		if err != nil {
			return err
		}
		if why != "" {
			fault("/weights/"+name, "%s", why)
		}
	}
	if field, err := p.Sharing.Validate(); err != nil {
		fault("/"+field, "%s", err)
	}
	if len(faults) > 0 {
		return invalidFields(faults)
	}
	return nil
}

// takenBy says whose listener an address is that a pool wants, or "".
func takenBy(ctx context.Context, r store.Reader, pool, address string) (whose string, err error) {
	l, err := r.Listener(ctx, address)
	switch {
	case errors.Is(err, store.ErrNotFound), err == nil && l.Pool == pool:
		return "", nil
	case err != nil:
		return "", err
	case l.Pool == "":
		return "is a listener of its own; see: unitas listener show " + address, nil
	}
	return "is the listener of the pool " + l.Pool, nil
}

// strangerTo says why an instance can have no weight in a pool, or "".
func strangerTo(ctx context.Context, r store.Reader, pool, instance string) (why string, err error) {
	in, err := r.Instance(ctx, instance)
	if errors.Is(err, store.ErrNotFound) || (err == nil && in.State == fleet.Gone) {
		return fmt.Sprintf("there is no instance %s", words.Plain(instance, 100)), nil
	}
	if err != nil {
		return "", err
	}
	g, err := r.Group(ctx, in.Group)
	if err == nil && !slices.Contains(g.Pools, pool) {
		why = fmt.Sprintf("%s is of the group %s, which is not in the pool %s", instance, in.Group, pool)
	}
	return why, err
}

// ChangePool changes a pool.
func (s *Server) ChangePool(ctx context.Context, r routes.ChangePoolRequestObject) (routes.ChangePoolResponseObject, error) {
	b := r.Body
	revision, err := ifMatch(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	p, err := s.Store.ChangePool(ctx, s.now(), actor(ctx), r.Name, revision, func(reader store.Reader, p *store.Pool) (fleet.Cause, error) {
		was := *p
		if b.Listeners != nil {
			p.Listeners = toListeners(p.Name, *b.Listeners)
		}
		if b.Shares != nil {
			p.Shares = toShares(*b.Shares)
		}
		p.Check, p.Zones, p.Labels = some(b.Check, p.Check), some(b.Zones, p.Zones), some(b.Labels, p.Labels)
		p.Algorithm = traffic.Algorithm(some(b.Algorithm, contract.Algorithm(p.Algorithm)))
		p.WhenNoneHealthy = traffic.WhenNoneHealthy(some(b.WhenNoneHealthy, contract.WhenNoneHealthy(p.WhenNoneHealthy)))
		p.SlowStart, p.Enough, p.Weights = durationOf(b.SlowStartSeconds, p.SlowStart), some(b.EnoughPercent, p.Enough), some(b.Weights, p.Weights)
		p.Targets = toTargets(p.Targets, targetsGiven{b.Protocol, b.Trust, b.ServerName, b.Affinity, b.Eject, b.Limits})
		return fleet.Asked(some(b.Reason, "")), s.goodPool(ctx, reader, was, *p)
	})
	if errors.Is(err, store.ErrExists) {
		return nil, invalid("/listeners", "another listener has one of these addresses")
	}
	if err != nil {
		return nil, about("pool", r.Name, err)
	}
	out, err := s.pool(ctx, p)
	return routes.ChangePool200JSONResponse(out), err
}

// DeletePool removes a pool that no group is in.
func (s *Server) DeletePool(ctx context.Context, r routes.DeletePoolRequestObject) (routes.DeletePoolResponseObject, error) {
	revision, err := ifMatch(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := s.Store.DeletePool(ctx, s.now(), actor(ctx), r.Name, revision); err != nil {
		return nil, about("pool", r.Name, err)
	}
	return routes.DeletePool204Response{}, nil
}

// GetPool reads one pool.
func (s *Server) GetPool(ctx context.Context, r routes.GetPoolRequestObject) (routes.GetPoolResponseObject, error) {
	p, err := s.Store.Pool(ctx, r.Name)
	if err != nil {
		return nil, about("pool", r.Name, err)
	}
	out, err := s.pool(ctx, p)
	return routes.GetPool200JSONResponse{Body: out, Headers: routes.GetPool200ResponseHeaders{ETag: etag(p.Revision)}}, err
}
