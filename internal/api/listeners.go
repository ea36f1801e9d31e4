package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/balancer"
	"unitas/internal/fleet"
	"unitas/internal/fleet/traffic"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// ListListeners lists them.
func (s *Server) ListListeners(ctx context.Context, _ routes.ListListenersRequestObject) (routes.ListListenersResponseObject, error) {
	all, err := s.Store.Listeners(ctx)
	listening := s.Balancer.Listening()
	return routes.ListListeners200JSONResponse{Items: each(all, func(l store.Listener) contract.Listener { return fromListener(l, listening) })}, err
}

// GetListener reads one.
func (s *Server) GetListener(ctx context.Context, r routes.GetListenerRequestObject) (routes.GetListenerResponseObject, error) {
	l, err := s.Store.Listener(ctx, r.Address)
	if err != nil {
		return nil, about("listener", r.Address, err)
	}
	return routes.GetListener200JSONResponse{Body: fromListener(l, s.Balancer.Listening()), Headers: routes.GetListener200ResponseHeaders{ETag: etag(l.Revision)}}, nil
}

// CreateListener makes one.
func (s *Server) CreateListener(ctx context.Context, r routes.CreateListenerRequestObject) (routes.CreateListenerResponseObject, error) {
	b := r.Body
	l := store.NewListener(b.Address, "", "")
	l.Protocol, l.MinTLS = traffic.Protocol(given(b.Protocol)), given(b.MinTls)
	l.HTTP2 = l.Protocol == traffic.HTTPS
	putListener(&l, listenerGiven{b.Pool, b.Routes, b.Certificates, b.Http2, b.Redirect, b.ProxyProtocol, b.RegionOrder, b.Limits, b.Upgrades, b.AccessLog})
	l, err := s.Store.AddListener(ctx, s.now(), actor(ctx), l, func(r store.Reader) error { return s.goodListener(ctx, r, store.Listener{}, l) })
	if errors.Is(err, store.ErrExists) {
		return nil, invalid("/address", "there is a listener at %s already; change it with: unitas listener set %s", b.Address, b.Address)
	}
	if err != nil {
		return nil, about("listener", b.Address, err)
	}
	out := fromListener(l, s.Balancer.Listening())
	if given(r.Params.DryRun) {
		return routes.CreateListener200JSONResponse(out), nil
	}
	return routes.CreateListener201JSONResponse(out), nil
}

// ChangeListener changes one.
func (s *Server) ChangeListener(ctx context.Context, r routes.ChangeListenerRequestObject) (routes.ChangeListenerResponseObject, error) {
	b := r.Body
	revision, err := ifMatch(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	l, err := s.Store.ChangeListener(ctx, s.now(), actor(ctx), r.Address, revision, func(reader store.Reader, l *store.Listener) (fleet.Cause, error) {
		was := *l
		was.Routes = slices.Clone(l.Routes)
		if b.Protocol != nil && *b.Protocol != contract.ListenerProtocol(l.Protocol) {
			l.Protocol = traffic.Protocol(*b.Protocol)
			l.HTTP2 = l.Protocol == traffic.HTTPS
		}
		l.MinTLS = some(b.MinTls, l.MinTLS)
		putListener(l, listenerGiven{b.Pool, b.Routes, b.Certificates, b.Http2, b.Redirect, b.ProxyProtocol, b.RegionOrder, b.Limits, b.Upgrades, b.AccessLog})
		return fleet.Asked(some(b.Reason, "")), s.goodListener(ctx, reader, was, *l)
	})
	if err != nil {
		return nil, about("listener", r.Address, err)
	}
	return routes.ChangeListener200JSONResponse(fromListener(l, s.Balancer.Listening())), nil
}

// DeleteListener closes one.
func (s *Server) DeleteListener(ctx context.Context, r routes.DeleteListenerRequestObject) (routes.DeleteListenerResponseObject, error) {
	revision, err := ifMatch(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := s.Store.DeleteListener(ctx, s.now(), actor(ctx), r.Address, revision); err != nil {
		return nil, about("listener", r.Address, err)
	}
	return routes.DeleteListener204Response{}, nil
}

// listenerGiven is what somebody said of a listener.
type listenerGiven struct {
	pool          *string
	routes        *[]contract.Route
	certificates  *[]string
	http2         *bool
	redirect      *int
	proxyProtocol *bool
	regionOrder   *contract.RegionOrder
	limits        *contract.ListenerLimits
	upgrades      *[]string
	accessLog     *contract.AccessLog
}

// putListener puts what was given over what was.
func putListener(l *store.Listener, g listenerGiven) {
	l.Pool, l.HTTP2, l.Redirect, l.ProxyProtocol = some(g.pool, l.Pool), some(g.http2, l.HTTP2), some(g.redirect, l.Redirect), some(g.proxyProtocol, l.ProxyProtocol)
	if g.certificates != nil && !slices.Equal(*g.certificates, l.Certificates) {
		l.Certificates, l.Key = *g.certificates, ""
	}
	if g.routes != nil {
		l.Routes = each(*g.routes, toRoute)
	}
	if n := g.regionOrder; n != nil {
		l.RegionOrder, l.Regions, l.Enough = traffic.RegionOrder(n.How), some(n.Regions, nil), some(n.EnoughPercent, 50)
		if n.How == "alike" {
			l.RegionOrder, l.Enough = traffic.Alike, 0
		}
	}
	switch {
	case g.upgrades != nil && len(*g.upgrades) == 0:
		l.Upgrades = traffic.NoUpgrades
	case g.upgrades != nil:
		l.Upgrades = *g.upgrades
	case l.Protocol == traffic.TCP:
		l.Upgrades = nil // it has no such setting
	}
	if o := g.accessLog; o != nil {
		l.AccessLog = traffic.AccessLog{Keep: traffic.Kept(o.Keep), Percent: some(o.Percent, 0)}
	}
	if v := g.limits; v != nil {
		was := l.Limits
		l.Limits = traffic.ListenerLimits{Head: durationOf(v.HeaderSeconds, was.Head), Idle: durationOf(v.IdleSeconds, was.Idle), TunnelIdle: durationOf(v.TunnelIdleSeconds, was.TunnelIdle), Write: durationOf(v.WriteSeconds, was.Write),
			Request: durationOf(v.RequestSeconds, was.Request), HeadBytes: some(v.HeaderBytes, was.HeadBytes), BodyBytes: some(v.BodyBytes, was.BodyBytes),
			Connections: some(v.Connections, was.Connections), ConnectionsPS: some(v.ConnectionsPerSecond, was.ConnectionsPS), RequestsPS: some(v.RequestsPerSecond, was.RequestsPS)}
	}
}

func toRoute(r contract.Route) traffic.Route {
	out := traffic.Route{Hosts: some(r.Hosts, nil), Path: some(r.Path, ""), Headers: each(some(r.Headers, nil), toField), Pool: r.Pool}
	if a := r.Split; a != nil {
		out.Split = &traffic.Split{Pool: a.Pool, Percent: some(a.Percent, 0)}
		if a.Header != nil {
			f := toField(*a.Header)
			out.Split.Header = &f
		}
	}
	return out
}

func toField(h contract.HeaderMatch) traffic.Field {
	return traffic.Field{Name: http.CanonicalHeaderKey(h.Name), Value: some(h.Value, "")}
}

func fromField(f traffic.Field) contract.HeaderMatch {
	return contract.HeaderMatch{Name: f.Name, Value: text(f.Value)}
}

func fromRoute(r traffic.Route) contract.Route {
	out := contract.Route{Path: text(r.Path), Pool: r.Pool}
	if len(r.Hosts) > 0 {
		out.Hosts = &r.Hosts
	}
	if len(r.Headers) > 0 {
		headers := each(r.Headers, fromField)
		out.Headers = &headers
	}
	if a := r.Split; a != nil {
		out.Split = &contract.RouteSplit{Pool: a.Pool}
		if a.Percent > 0 {
			out.Split.Percent = &a.Percent
		}
		if a.Header != nil {
			h := fromField(*a.Header)
			out.Split.Header = &h
		}
	}
	return out
}

func fromListener(l store.Listener, all []balancer.ListenerStats) contract.Listener {
	v := l.Limits
	out := contract.Listener{Address: l.Address, Protocol: contract.ListenerProtocol(l.Protocol), Pool: l.Pool, Routes: each(l.Routes, fromRoute), Certificates: append([]string{}, l.Certificates...),
		MinTls: cmp.Or(l.MinTLS, "1.2"), Http2: l.HTTP2, Redirect: l.Redirect, ProxyProtocol: l.ProxyProtocol, RegionOrder: contract.RegionOrder{How: cmp.Or(string(l.RegionOrder), "alike")},
		Limits: contract.ListenerLimits{HeaderSeconds: inSecondsOf(v.Head), IdleSeconds: inSecondsOf(v.Idle), TunnelIdleSeconds: inSecondsOf(v.TunnelIdle), WriteSeconds: inSecondsOf(v.Write), RequestSeconds: inSecondsOf(v.Request),
			HeaderBytes: &v.HeadBytes, BodyBytes: &v.BodyBytes, Connections: &v.Connections, ConnectionsPerSecond: &v.ConnectionsPS, RequestsPerSecond: &v.RequestsPS},
		Upgrades: append([]string{}, l.MayUpgrade()...), AccessLog: contract.AccessLog{Keep: cmp.Or(string(l.AccessLog.Keep), string(traffic.KeepNone))}, Trouble: notOpenYet, Reached: []contract.RegionReached{},
		Changes: changesOf(l.Changes), Revision: l.Revision, CreatedAt: l.CreatedAt.UTC()}
	if l.AccessLog.Percent > 0 {
		out.AccessLog.Percent = &l.AccessLog.Percent
	}
	if len(out.Upgrades) == 0 && l.Protocol != traffic.TCP {
		out.Upgrades = traffic.NoUpgrades
	}
	if l.RegionOrder != traffic.Alike {
		out.RegionOrder.EnoughPercent = &l.Enough
		if len(l.Regions) > 0 {
			out.RegionOrder.Regions = &l.Regions
		}
	}
	for _, have := range all {
		if have.Address != l.Address {
			continue
		}
		out.Trouble, out.ExpiresAt, out.Connections = have.Trouble, optional(have.Expires), have.Connections
		out.Requests, out.Refused, out.Malformed, out.Unrouted, out.AccessLogLost, out.Spill = have.Requests, have.Refused, have.Malformed, have.Unrouted, have.Unwritten, have.Spill
		out.Reached = each(have.Order, func(r traffic.Reached) contract.RegionReached {
			return contract.RegionReached{Region: r.Region, TookMs: round2(float64(r.Took.Microseconds()) / 1000)}
		})
	}
	out.Sentence = listenerSentence(&l.Listener, out)
	return out
}

// listenerSentence heads what is told of a listener.
func listenerSentence(l *traffic.Listener, c contract.Listener) string {
	to := "to " + l.Pool
	switch {
	case l.Redirect != 0:
		to = fmt.Sprintf("to https at port %d", l.Redirect)
	case len(l.Routes) > 0 && l.Pool == "":
		to = fmt.Sprintf("by %s, and answers the rest 404", words.Count(len(l.Routes), "route"))
	case len(l.Routes) > 0:
		to = fmt.Sprintf("by %s, and the rest to %s", words.Count(len(l.Routes), "route"), l.Pool)
	}
	out := fmt.Sprintf("Sends %s %s", map[bool]string{true: "connections", false: "requests"}[l.Protocol == traffic.TCP], to)
	if c.Spill != "" {
		out += "; " + c.Spill
	}
	if c.Trouble != "" {
		out = "Not as it should be: " + c.Trouble + ". " + out
	}
	return out + "."
}

// faultOfAddress says why an address cannot be listened on, or "".
func faultOfAddress(address string) string {
	host, port, err := net.SplitHostPort(address)
	if err != nil || net.ParseIP(host) == nil {
		return fmt.Sprintf("%q is not an address with a port; give one such as 127.0.0.1:8000", address)
	}
	if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 {
		return fmt.Sprintf("%q is not a port from 1 to 65535", port)
	}
	return ""
}

// goodListener reports everything that no field says alone.
func (s *Server) goodListener(ctx context.Context, r store.Reader, was, l store.Listener) error {
	var faults []fieldFault
	fault := func(pointer, format string, args ...any) {
		faults = append(faults, fieldFault{pointer, fmt.Sprintf(format, args...)})
	}
	if was.Address == "" {
		if why := faultOfAddress(l.Address); why != "" {
			fault("/address", "%s", why)
		}
	}
	for _, f := range l.Faults() {
		fault("/"+f.Field, "%s", f.Text)
	}
	for i, name := range l.Certificates {
		if slices.Contains(was.Certificates, name) {
			continue // it may be broken now; the listener says so and goes on
		}
		if why := s.Certificates.Fault(name); why != "" {
			fault("/certificates/"+strconv.Itoa(i), "%s", why)
		}
	}
	for i, name := range l.Regions {
		if _, ok := s.Places.Region(name); !ok {
			fault("/near/regions/"+strconv.Itoa(i), "there is no region %s; there are %s", words.Plain(name, 80), s.Places.Names())
		}
	}
	known := map[string]bool{"": true}
	there := func(pointer, pool string) error {
		if _, looked := known[pool]; !looked {
			_, err := r.Pool(ctx, pool)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return err
			}
			known[pool] = err == nil
		}
		if !known[pool] {
			fault(pointer, "there is no pool %s; make it first with: unitas pool create %s --check NAME", words.Plain(pool, 80), words.Plain(pool, 80))
		}
		return nil
	}
	if err := there("/pool", l.Pool); err != nil {
		return err
	}
	for i, route := range l.Routes {
		at := "/routes/" + strconv.Itoa(i)
		if err := there(at+"/pool", route.Pool); err != nil {
			return err
		}
		if route.Split != nil {
			if err := there(at+"/split/pool", route.Split.Pool); err != nil {
				return err
			}
		}
	}
	if len(faults) > 0 {
		return invalidFields(faults)
	}
	return nil
}

// ListAccessLog returns the newest lines of a listener's log.
func (s *Server) ListAccessLog(ctx context.Context, r routes.ListAccessLogRequestObject) (routes.ListAccessLogResponseObject, error) {
	if _, err := s.Store.Listener(ctx, r.Address); err != nil {
		return nil, about("listener", r.Address, err)
	}
	lines, file, err := s.Balancer.AccessLog(r.Address, given(r.Params.Limit))
	if err != nil {
		return nil, err
	}
	out := routes.ListAccessLog200JSONResponse{Items: []map[string]any{}, File: file}
	for _, raw := range lines {
		line := map[string]any{}
		if json.Unmarshal(raw, &line) == nil {
			out.Items = append(out.Items, line)
		}
	}
	return out, nil
}

// TryRequest tells where a request would go.
func (s *Server) TryRequest(ctx context.Context, r routes.TryRequestRequestObject) (routes.TryRequestResponseObject, error) {
	b := r.Body
	to, err := url.Parse(b.Url)
	if err != nil || to.Host == "" || (to.Scheme != "http" && to.Scheme != "https") {
		return nil, invalid("/url", "%q is not a URL; give one such as http://timetable.saltmere.example:8000/sailings", words.Plain(b.Url, 200))
	}
	all, err := s.Store.Listeners(ctx)
	if err != nil {
		return nil, err
	}
	address, err := listenerFor(all, to, some(b.Listener, ""))
	if err != nil {
		return nil, err
	}
	h := http.Header{}
	for _, one := range some(b.Headers, nil) {
		h.Add(one.Name, some(one.Value, ""))
	}
	path := to.RequestURI() // as it would be written
	trace, ok := s.Balancer.Try(address, balancer.Trial{Method: http.MethodGet, Host: to.Host, Path: path, Header: h, Caller: given(b.Caller)})
	if !ok {
		return nil, &problem{status: http.StatusConflict, kind: "not-open", detail: fmt.Sprintf("The listener %s is not open at this service.", address)}
	}
	out := routes.TryRequest200JSONResponse{Listener: address, Route: trace.Route, Pool: trace.Pool, Split: text(trace.Split), Status: trace.Status, Why: trace.Why}
	if t := trace.Target; t != nil {
		out.Target, out.Group, out.Version, out.Address = &t.Instance, &t.Group, &t.Version, &t.Address
	}
	return out, nil
}

// listenerFor is the one that a URL comes to.
func listenerFor(all []store.Listener, to *url.URL, named string) (string, error) {
	var there []string
	port := to.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[to.Scheme]
	}
	var fit []string
	for _, l := range all {
		there = append(there, l.Address)
		if l.Address == named || l.Address == to.Host {
			return l.Address, nil
		}
		if _, p, _ := net.SplitHostPort(l.Address); p == port && l.Protocol != traffic.TCP {
			fit = append(fit, l.Address)
		}
	}
	switch {
	case named != "":
		return "", invalid("/listener", "there is no listener %s; there are %s", words.Plain(named, 100), cmp.Or(strings.Join(there, ", "), "none"))
	case len(fit) == 1:
		return fit[0], nil
	case len(fit) > 1:
		return "", invalid("/listener", "several listen at port %s (%s); say which one is meant", port, strings.Join(fit, ", "))
	}
	return "", invalid("/url", "nothing listens for requests at port %s; there are %s", port, cmp.Or(strings.Join(there, ", "), "no listeners"))
}
