package traffic

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Protocol is what a listener speaks.
type Protocol string

// The protocols: requests in clear, requests with TLS, connections of any protocol.
const (
	HTTP  Protocol = "http"
	HTTPS Protocol = "https"
	TCP   Protocol = "tcp"
)

// Listener is an address that takes requests or connections, and what becomes of them.
type Listener struct {
	Address  string   `json:"-"`
	Protocol Protocol `json:"kind"`
	// Pool gets what no route takes; with none such a request is answered 404.
	Pool   string  `json:"-"`
	Routes []Route `json:"routes,omitempty"`
	// Certificates are their names; a caller gets the first that is for the server name it
	// asks for, and the first of all when none is.
	Certificates []string `json:"certificates,omitempty"`
	// MinTLS is the oldest version that is spoken, 1.2 or 1.3.
	MinTLS string `json:"least_tls,omitempty"`
	// HTTP2 is offered by https, and understood by http from callers that know of it.
	HTTP2 bool `json:"http2"`
	// Redirect sends every request to https at this port; 0 does not.
	Redirect int `json:"redirect,omitempty"`
	// ProxyProtocol has each connection to a target begin with a PROXY header (version 2).
	ProxyProtocol bool           `json:"tell,omitempty"`
	Regions       []string       `json:"nearby,omitempty"` // regions, the nearest first
	RegionOrder   RegionOrder    `json:"near,omitempty"`
	Enough        int            `json:"enough,omitempty"` // percent of a region that must be healthy
	Limits        ListenerLimits `json:"limits"`
	AccessLog     AccessLog      `json:"log"`
	// Upgrades are the protocols that a caller may have a connection changed to: names as the
	// Upgrade field has them, or "none". With none given UsualUpgrades are.
	Upgrades []string `json:"upgrades,omitempty"`
}

// UsualUpgrades are those of a listener of which nobody said otherwise; NoUpgrades are none.
var (
	UsualUpgrades = []string{"websocket"}
	NoUpgrades    = []string{"none"}
)

// MayUpgrade are the protocols that a caller may have a connection changed to.
func (l *Listener) MayUpgrade() []string {
	switch {
	case l.Protocol == TCP || slices.Equal(l.Upgrades, NoUpgrades):
		return nil
	case len(l.Upgrades) == 0:
		return UsualUpgrades
	}
	return l.Upgrades
}

// RegionOrder is how the order of regions is known.
type RegionOrder string

// The ways: every region alike, as Nearby says, or by how long connections take to be made.
const (
	Alike    RegionOrder = ""
	InOrder  RegionOrder = "in-order"
	Measured RegionOrder = "measured"
)

// ListenerLimits bound what a caller may take; 0 is without that limit.
type ListenerLimits struct {
	Head       time.Duration `json:"head"`    // to send the head of a request
	Idle       time.Duration `json:"idle"`    // between requests, and between two parts of a body
	TunnelIdle time.Duration `json:"quiet"`   // without a byte either way: of tcp, and of a protocol that was switched to
	Request    time.Duration `json:"request"` // a whole request with its answer
	// Write is for how long a caller may take nothing of what is written to it; Idle when 0.
	Write time.Duration `json:"write,omitempty"`
	// HeadBytes and BodyBytes are of a request.
	HeadBytes int64 `json:"head_bytes"`
	BodyBytes int64 `json:"body_bytes"`
	// Connections a caller's address may have at once, and open a second; and Requests it
	// may make a second. Of each as many as in a second may come at once.
	Connections   int     `json:"connections"`
	ConnectionsPS float64 `json:"connections_per_second"`
	RequestsPS    float64 `json:"requests_per_second"`
}

// Taking is for how long a caller may take nothing of what is written to it; 0 for ever.
func (l *ListenerLimits) Taking() time.Duration {
	if l.Write > 0 {
		return l.Write
	}
	return l.Idle
}

// UsualListenerLimits are those of a listener of which nobody said otherwise.
var UsualListenerLimits = ListenerLimits{Head: 30 * time.Second, Idle: 2 * time.Minute, TunnelIdle: time.Hour, HeadBytes: 64 << 10}

// NewListener is one with usual settings that sends all to a pool; with a certificate it speaks
// https.
func NewListener(address, pool, certificate string) Listener {
	l := Listener{Address: address, Pool: pool, Protocol: HTTP, Limits: UsualListenerLimits, AccessLog: AccessLog{Keep: KeepFailures}}
	if certificate != "" {
		l.Protocol, l.Certificates, l.HTTP2 = HTTPS, []string{certificate}, true
	}
	return l
}

// Kept says which requests are in the access log.
type Kept string

// All of them, a percentage, those that failed (5xx, or no whole answer), or none.
const (
	KeepAll      Kept = "all"
	KeepSampled  Kept = "sampled"
	KeepFailures Kept = "failures"
	KeepNone     Kept = "none"
)

// storedSampled is what KeepSampled is called where it is stored: its name of before.
const storedSampled = "share"

// MarshalText writes it as it is stored.
func (k Kept) MarshalText() ([]byte, error) {
	if k == KeepSampled {
		k = storedSampled
	}
	return []byte(k), nil
}

// UnmarshalText reads it as it is stored.
func (k *Kept) UnmarshalText(text []byte) error {
	if *k = Kept(text); *k == storedSampled {
		*k = KeepSampled
	}
	return nil
}

// AccessLog is which requests a listener writes a line of.
type AccessLog struct {
	Keep    Kept    `json:"keep"`
	Percent float64 `json:"percent,omitempty"` // of KeepSampled; failures are kept all the same
}

// Route sends the requests that are for it to a pool.
type Route struct {
	// Hosts that it takes, whole or as *.NAME; none takes any.
	Hosts []string `json:"hosts,omitempty"`
	// Path is how the path begins, by whole parts: /fares takes /fares and /fares/7. ""
	// takes any.
	Path    string  `json:"path,omitempty"`
	Headers []Field `json:"headers,omitempty"` // all of them
	Pool    string  `json:"pool"`
	Split   *Split  `json:"divert,omitempty"`
}

// Field is a header that a request has; of any value when it is "".
type Field struct {
	Name  string `json:"name"`
	Value string `json:"value,omitempty"`
}

// Split sends a part of a route's requests to another pool, while that one has a target.
type Split struct {
	Pool    string  `json:"pool"`
	Percent float64 `json:"percent,omitempty"`
	Header  *Field  `json:"header,omitempty"`
}

// Asked is what a route looks at of a request.
type Asked struct {
	Host, Path string
	Header     func(name string) []string
	// Turn counts the requests of the route, from 1.
	Turn func(route int) uint64
}

// Chosen is where a request goes.
type Chosen struct {
	Route int    // from 1; 0 when none took it
	Pool  string // "" when nobody does
	Split string // the pool that it is to go to first, or ""
}

// Choose finds the first route that takes a request.
func (l *Listener) Choose(a Asked) Chosen {
	host := ""
	for i := range l.Routes {
		r := &l.Routes[i]
		if len(r.Hosts) > 0 && host == "" {
			host = HostName(a.Host)
		}
		if r.takes(host, &a) {
			c := Chosen{Route: i + 1, Pool: r.Pool}
			if r.Split != nil && r.Split.takes(i+1, &a) {
				c.Split = r.Split.Pool
			}
			return c
		}
	}
	return Chosen{Pool: l.Pool}
}

func (r *Route) takes(host string, a *Asked) bool {
	return (len(r.Hosts) == 0 || slices.ContainsFunc(r.Hosts, func(h string) bool { return IsHost(h, host) })) &&
		isUnder(r.Path, a.Path) && !slices.ContainsFunc(r.Headers, func(f Field) bool { return !f.in(a) })
}

func (s *Split) takes(route int, a *Asked) bool {
	if s.Header != nil && s.Header.in(a) {
		return true
	}
	if s.Percent <= 0 {
		return false
	}
	// As evenly in time as may be: the n. goes when the whole number of n parts grows.
	const whole = 1e6
	n, part := a.Turn(route)%whole, uint64(s.Percent/100*whole+0.5)
	return (n+1)*part/whole > n*part/whole
}

func (f *Field) in(a *Asked) bool {
	values := a.Header(f.Name)
	return len(values) > 0 && (f.Value == "" || slices.Contains(values, f.Value))
}

// isUnder reports whether a path begins with a prefix, by whole parts.
func isUnder(prefix, path string) bool {
	prefix = strings.TrimSuffix(prefix, "/")
	rest, ok := strings.CutPrefix(path, prefix)
	return ok && (rest == "" || rest[0] == '/' || prefix == "")
}

// HostName is a host as routes and certificates name it: in small letters, without a port
// and without the dot at its end.
func HostName(host string) string {
	if i := strings.LastIndexByte(host, ':'); i >= 0 && !strings.HasSuffix(host, "]") {
		host = host[:i]
	}
	return strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
}

// IsHost reports whether a host is of a name; *.NAME is of all that have one part more.
func IsHost(name, host string) bool {
	if under, ok := strings.CutPrefix(name, "*."); ok {
		part, rest, _ := strings.Cut(host, ".")
		return part != "" && rest == under
	}
	return name == host
}

// String is the route as people write it.
func (r *Route) String() string {
	var parts []string
	if len(r.Hosts) > 0 {
		parts = append(parts, strings.Join(r.Hosts, " or "))
	}
	if r.Path != "" {
		parts = append(parts, r.Path)
	}
	for _, f := range r.Headers {
		parts = append(parts, "header "+f.String())
	}
	if len(parts) == 0 {
		parts = append(parts, "anything")
	}
	out := strings.Join(parts, ", ") + " → " + r.Pool
	if s := r.Split; s != nil {
		var of []string
		if s.Percent > 0 {
			of = append(of, strconv.FormatFloat(s.Percent, 'f', -1, 64)+" %")
		}
		if s.Header != nil {
			of = append(of, "with header "+s.Header.String())
		}
		out += fmt.Sprintf(" (%s → %s)", strings.Join(of, " and those "), s.Pool)
	}
	return out
}

func (f *Field) String() string {
	if f.Value == "" {
		return f.Name
	}
	return f.Name + "=" + f.Value
}

// Explain tells, route by route, why a request goes where [Listener.Choose] sends it.
func (l *Listener) Explain(a Asked, c Chosen) (lines []string) {
	host := HostName(a.Host)
	for i := range l.Routes {
		r := &l.Routes[i]
		if c.Route != i+1 {
			lines = append(lines, fmt.Sprintf("route %d (%s) does not take it: %s", i+1, r, r.whyNot(host, &a)))
			continue
		}
		lines = append(lines, fmt.Sprintf("route %d (%s) takes it", i+1, r))
		switch {
		case c.Split != "" && r.Split.Header != nil && r.Split.Header.in(&a):
			lines = append(lines, fmt.Sprintf("it is split off to %s, for it has the header %s", c.Split, r.Split.Header))
		case c.Split != "":
			lines = append(lines, fmt.Sprintf("it is split off to %s, as one of %s %%", c.Split, strconv.FormatFloat(r.Split.Percent, 'f', -1, 64)))
		case r.Split != nil:
			lines = append(lines, fmt.Sprintf("it is not split off to %s", r.Split.Pool))
		}
		return lines
	}
	switch {
	case l.Pool == "":
		return append(lines, "no route takes it, and the listener has no pool for what none takes: answered 404")
	case len(l.Routes) > 0:
		return append(lines, "no route takes it: the listener's own pool "+l.Pool+" does")
	}
	return append(lines, "the listener has no routes: all goes to "+l.Pool)
}

func (r *Route) whyNot(host string, a *Asked) string {
	if len(r.Hosts) > 0 && !slices.ContainsFunc(r.Hosts, func(h string) bool { return IsHost(h, host) }) {
		return fmt.Sprintf("the host is %q", host)
	}
	if !isUnder(r.Path, a.Path) {
		return fmt.Sprintf("the path is %q", a.Path)
	}
	for _, f := range r.Headers {
		if !f.in(a) {
			if values := a.Header(f.Name); len(values) > 0 && f.Value != "" {
				return fmt.Sprintf("its header %s is %q", f.Name, strings.Join(values, ", "))
			}
			return "it has no header " + f.Name
		}
	}
	return "it does"
}

// Pools are those that it may send to, each once.
func (l *Listener) Pools() (all []string) {
	add := func(pool string) {
		if pool != "" && !slices.Contains(all, pool) {
			all = append(all, pool)
		}
	}
	for _, r := range l.Routes {
		add(r.Pool)
		if r.Split != nil {
			add(r.Split.Pool)
		}
	}
	add(l.Pool)
	return all
}
