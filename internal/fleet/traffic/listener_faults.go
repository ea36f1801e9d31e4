package traffic

import (
	"fmt"
	"slices"
	"strings"
)

// Flaw is a setting that cannot be, by its place as a path of fields.
type Flaw struct{ Field, Text string }

// MostRoutes is how many routes a listener may have.
const MostRoutes = 200

// Faults are all that cannot be of a listener alone.
func (l *Listener) Faults() (faults []Flaw) {
	fault := func(field, format string, args ...any) {
		faults = append(faults, Flaw{field, fmt.Sprintf(format, args...)})
	}
	switch l.Protocol {
	case HTTP, HTTPS, TCP:
	default:
		fault("protocol", "%q is none of http, https and tcp", l.Protocol)
	}
	switch {
	case l.Protocol == HTTPS && len(l.Certificates) == 0:
		fault("certificates", "an https listener shows a certificate; name one")
	case l.Protocol != HTTPS && len(l.Certificates) > 0:
		fault("certificates", "only an https listener shows certificates; this one is %s", l.Protocol)
	}
	if l.MinTLS != "" && l.MinTLS != "1.2" && l.MinTLS != "1.3" {
		fault("min_tls", "%q is neither 1.2 nor 1.3", l.MinTLS)
	}
	if l.Protocol == TCP {
		switch {
		case len(l.Routes) > 0:
			fault("routes", "a tcp listener does not see requests, so it has no routes; name its pool")
		case l.Pool == "":
			fault("pool", "a tcp listener sends all to one pool; name it")
		}
		if l.HTTP2 {
			fault("http2", "a tcp listener passes on what callers speak, HTTP/2 as well; leave it out")
		}
		if l.Limits.RequestsPS > 0 || l.Limits.BodyBytes > 0 || l.Limits.Request > 0 {
			fault("limits", "a tcp listener does not see requests; limit its connections instead")
		}
	}
	if l.Protocol != TCP && l.ProxyProtocol {
		fault("proxy_protocol", "only a tcp listener tells targets who calls by the PROXY protocol; the others do in X-Forwarded-For")
	}
	if l.Redirect != 0 && (l.Protocol != HTTP || l.Redirect < 0 || l.Redirect > 65535) {
		fault("redirect", "an http listener redirects to a port from 1 to 65535 that https is spoken at")
	}
	if l.Protocol != TCP && l.Pool == "" && len(l.Routes) == 0 && l.Redirect == 0 {
		fault("pool", "it would answer everything 404: name a pool, or give it a route")
	}
	if len(l.Routes) > MostRoutes {
		fault("routes", "there are %d; give at most %d", len(l.Routes), MostRoutes)
	}
	for i := range l.Routes {
		l.Routes[i].faults(fmt.Sprintf("routes/%d", i), l.Routes[:i], fault)
	}
	l.regionFaults(fault)
	l.upgradeFaults(fault)
	switch {
	case l.AccessLog.Keep == KeepSampled && (l.AccessLog.Percent <= 0 || l.AccessLog.Percent > 100):
		fault("access_log/percent", "%g is no percentage; give from 0.01 to 100 percent", l.AccessLog.Percent)
	case l.AccessLog.Keep != KeepSampled && l.AccessLog.Percent != 0:
		fault("access_log/percent", "a percentage is for a sampled log; set keep to sampled, or leave it out")
	}
	if 0 < l.Limits.HeadBytes && l.Limits.HeadBytes < 1024 {
		fault("limits/head_bytes", "%d bytes are too few for the head of a request; give 1024 or more", l.Limits.HeadBytes)
	}
	if l.Protocol != TCP && (l.Limits.Head == 0 || l.Limits.Idle == 0) {
		fault("limits/head_seconds", "without a limit of time to send a head, and between requests, callers that do nothing hold all connections; give both")
	}
	return faults
}

func (l *Listener) upgradeFaults(fault func(field, format string, args ...any)) {
	if l.Protocol == TCP && len(l.Upgrades) > 0 {
		fault("upgrades", "a tcp listener passes on whatever callers speak; leave it out")
		return
	}
	for i, name := range l.Upgrades {
		at := fmt.Sprintf("upgrades/%d", i)
		switch {
		case strings.EqualFold(name, "h2c"):
			fault(at, "h2c is never passed on, for what follows would go past routes and limits; let callers speak HTTP/2 by prior knowledge, with http2")
		case name == NoUpgrades[0] && len(l.Upgrades) > 1:
			fault(at, "none stands alone; name protocols, or none")
		case strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-._/") != "" || name == "":
			fault(at, "%q is no name of a protocol; give one such as websocket", name)
		case slices.IndexFunc(l.Upgrades, func(o string) bool { return strings.EqualFold(o, name) }) != i:
			fault(at, "%s is named twice", name)
		}
	}
}

func (l *Listener) regionFaults(fault func(field, format string, args ...any)) {
	switch l.RegionOrder {
	case Alike:
		if len(l.Regions) > 0 {
			fault("region_order/regions", "an order of regions is for in-order; set how to in-order, or leave it out")
		}
		return
	case InOrder:
		if len(l.Regions) == 0 {
			fault("region_order/regions", "name the regions, the nearest first")
		}
	case Measured:
		if len(l.Regions) > 0 {
			fault("region_order/regions", "the order is measured; leave the regions out, or set how to in-order")
		}
	default:
		fault("region_order/how", "%q is none of alike, in-order and measured", l.RegionOrder)
	}
	if l.Enough < 1 || l.Enough > 100 {
		fault("region_order/enough_percent", "%d is no share; give from 1 to 100 percent", l.Enough)
	}
	for i, r := range l.Regions {
		if slices.Index(l.Regions, r) != i {
			fault(fmt.Sprintf("region_order/regions/%d", i), "the region %s is named twice", r)
		}
	}
}

func (r *Route) faults(at string, before []Route, fault func(field, format string, args ...any)) {
	if r.Pool == "" {
		fault(at+"/pool", "name the pool that it sends to")
	}
	for k, h := range r.Hosts {
		if name := strings.TrimPrefix(h, "*."); name == "" || strings.ContainsAny(name, "*:/ ") || h != strings.ToLower(h) || strings.HasSuffix(h, ".") {
			fault(fmt.Sprintf("%s/hosts/%d", at, k), "%q is not a host; give a name in small letters without a port, such as fares.saltmere.example or *.saltmere.example", h)
		}
	}
	if r.Path != "" && (r.Path[0] != '/' || strings.ContainsAny(r.Path, "?#* ")) {
		fault(at+"/path", "%q is not how a path begins; give one such as /fares, without a star or a query", r.Path)
	}
	if s := r.Split; s != nil {
		switch {
		case s.Pool == "":
			fault(at+"/split/pool", "name the pool that a part goes to")
		case s.Percent == 0 && s.Header == nil:
			fault(at+"/split", "say which part goes to %s: a percentage, those with a header, or both", s.Pool)
		}
	}
	for k := range before {
		if b := &before[k]; b.coversAll(r) {
			fault(at, "route %d takes everything that this one does, and is asked first; put this one before it, or take it away", k+1)
			return
		}
	}
}

// coversAll reports whether a route takes whatever another does, as far as that is plain.
func (r *Route) coversAll(o *Route) bool {
	hosts := len(r.Hosts) == 0 || (len(o.Hosts) > 0 && !slices.ContainsFunc(o.Hosts, func(h string) bool {
		return !slices.ContainsFunc(r.Hosts, func(name string) bool { return name == h || (!strings.HasPrefix(h, "*.") && IsHost(name, h)) })
	}))
	return hosts && isUnder(r.Path, o.Path) && !slices.ContainsFunc(r.Headers, func(f Field) bool {
		return !slices.ContainsFunc(o.Headers, func(g Field) bool { return strings.EqualFold(f.Name, g.Name) && (f.Value == "" || f.Value == g.Value) })
	})
}
