package traffic

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"unitas/internal/fleet/words"
)

// Differences tells what is another in now than in s.
func (s *Sharing) Differences(now *Sharing) []string {
	var all words.Differences
	all.Note("algorithm", string(cmp.Or(s.Algorithm, RoundRobin)), string(cmp.Or(now.Algorithm, RoundRobin)))
	all.Note("when none is healthy", string(cmp.Or(s.WhenNoneHealthy, Refuse)), string(cmp.Or(now.WhenNoneHealthy, Refuse)))
	all.Note("slow start", limit(s.SlowStart), limit(now.SlowStart))
	all.Note("shares", shareWords(s.Shares), shareWords(now.Shares))
	all.Note("enough", fmt.Sprint(s.Enough, " %"), fmt.Sprint(now.Enough, " %"))
	for _, name := range slices.Sorted(maps.Keys(s.union(now))) {
		all.Note("weight of "+name, strconv.Itoa(s.weight(name)), strconv.Itoa(now.weight(name)))
	}
	return append(all, s.Targets.differences(&now.Targets)...)
}

// union is what has a weight of its own in either.
func (s *Sharing) union(o *Sharing) map[string]int {
	all := maps.Clone(s.Weights)
	if all == nil {
		all = map[string]int{}
	}
	maps.Copy(all, o.Weights)
	return all
}

func (t *Targets) differences(now *Targets) []string {
	var all words.Differences
	all.Note("protocol", string(cmp.Or(t.Protocol, Plain)), string(cmp.Or(now.Protocol, Plain)))
	all.Note("trusted by", cmp.Or(t.Trust, TrustHost), cmp.Or(now.Trust, TrustHost))
	all.Note("server name", t.ServerName, now.ServerName)
	all.Note("affinity", t.Affinity.words(), now.Affinity.words())
	all.Note("ejects", t.Eject.words(), now.Eject.words())
	a, b := t.Limits, now.Limits
	all.Note("connect limit", limit(a.Connect), limit(b.Connect))
	all.Note("first byte limit", limit(a.FirstByte), limit(b.FirstByte))
	all.Note("idle limit", limit(a.Idle), limit(b.Idle))
	all.Note("request limit", limit(a.Request), limit(b.Request))
	all.Note("body limit", sizeLimit(a.BodyBytes), sizeLimit(b.BodyBytes))
	return all
}

func shareWords(all []Share) string {
	out := make([]string, len(all))
	for i, s := range all {
		out[i] = fmt.Sprintf("%s %d", s.Group, s.Weight)
		if s.Reserve {
			out[i] += " in reserve"
		}
	}
	return strings.Join(out, " and ")
}

func (s Affinity) words() string {
	switch s.By {
	case ByCookie:
		if s.For > 0 {
			return "by a cookie for " + words.Span(s.For)
		}
		return "by a cookie"
	case ByHeader:
		return "by the header " + s.Header
	case ByAddress:
		return "by their address"
	}
	return ""
}

func (e Eject) words() string {
	var all []string
	if e.Failures > 0 {
		all = append(all, fmt.Sprintf("after %d failures in a row", e.Failures))
	}
	if e.Margin > 0 {
		all = append(all, fmt.Sprintf("with %g points more failures than the others", e.Margin))
	}
	if e.Slower > 0 {
		all = append(all, fmt.Sprintf("when %g times as slow as the others", e.Slower))
	}
	if len(all) == 0 {
		return ""
	}
	return fmt.Sprintf("%s (of %s; first for %s, at most %s)", strings.Join(all, " or "), words.Count(e.MinRequests, "request"), words.Span(e.First), words.Span(e.Max))
}

func (l *Listener) upgradeWords() string {
	return cmp.Or(strings.Join(l.MayUpgrade(), " and "), NoUpgrades[0])
}

// Differences tells what is another in now than in l.
func (l *Listener) Differences(now *Listener) []string {
	var all words.Differences
	all.Note("protocol", string(l.Protocol), string(now.Protocol))
	all.Note("pool", l.Pool, now.Pool)
	all = append(all, routeDifferences(l.Routes, now.Routes)...)
	all.Note("certificates", strings.Join(l.Certificates, " and "), strings.Join(now.Certificates, " and "))
	all.Note("min TLS", l.MinTLS, now.MinTLS)
	all.Note("HTTP/2", onOff[l.HTTP2], onOff[now.HTTP2])
	all.Note("redirect", portWord(l.Redirect), portWord(now.Redirect))
	all.Note("PROXY protocol", onOff[l.ProxyProtocol], onOff[now.ProxyProtocol])
	all.Note("region order", l.regionWords(), now.regionWords())
	all.Note("upgrades", l.upgradeWords(), now.upgradeWords())
	a, b := l.Limits, now.Limits
	all.Note("write limit", limit(a.Write), limit(b.Write))
	all.Note("head limit", limit(a.Head), limit(b.Head))
	all.Note("idle limit", limit(a.Idle), limit(b.Idle))
	all.Note("tunnel-idle limit", limit(a.TunnelIdle), limit(b.TunnelIdle))
	all.Note("request limit", limit(a.Request), limit(b.Request))
	all.Note("head size limit", sizeLimit(a.HeadBytes), sizeLimit(b.HeadBytes))
	all.Note("body limit", sizeLimit(a.BodyBytes), sizeLimit(b.BodyBytes))
	all.Note("connections of an address", countLimit(float64(a.Connections)), countLimit(float64(b.Connections)))
	all.Note("connections a second of an address", countLimit(a.ConnectionsPS), countLimit(b.ConnectionsPS))
	all.Note("requests a second of an address", countLimit(a.RequestsPS), countLimit(b.RequestsPS))
	all.Note("access log", l.AccessLog.words(), now.AccessLog.words())
	return all
}

var onOff = map[bool]string{true: "on", false: "off"}

// routeDifferences tells which routes are new and which are gone, and that what stayed is looked
// at in another order.
func routeDifferences(was, now []Route) (all []string) {
	without := func(routes, others []Route, what string) (rest []string) {
		for i := range routes {
			text := routes[i].String()
			if slices.ContainsFunc(others, func(o Route) bool { return o.String() == text }) {
				rest = append(rest, text)
			} else {
				all = append(all, fmt.Sprintf("route %d. %s %s", i+1, text, what))
			}
		}
		return rest
	}
	stayed, stays := without(was, now, "is gone"), without(now, was, "is new")
	if !slices.Equal(stayed, stays) {
		all = append(all, "the other routes in another order")
	}
	return all
}

func (l *Listener) regionWords() string {
	switch l.RegionOrder {
	case InOrder:
		return fmt.Sprintf("%s, with %d %% enough", strings.Join(l.Regions, " before "), l.Enough)
	case Measured:
		return fmt.Sprintf("measured, with %d %% enough", l.Enough)
	}
	return "alike"
}

func (l AccessLog) words() string {
	if l.Keep == KeepSampled {
		return words.Percent(l.Percent) + " % and all failures"
	}
	return string(l.Keep)
}

func portWord(port int) string {
	if port == 0 {
		return ""
	}
	return "to port " + strconv.Itoa(port)
}

// limit, sizeLimit and countLimit are "" for none.
func limit(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return words.Span(d)
}

func sizeLimit(n int64) string {
	if n == 0 {
		return ""
	}
	return words.Bytes(n)
}

func countLimit(n float64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatFloat(n, 'f', -1, 64)
}
