package api

import (
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"sync"
)

// hosts are the names by which a service is meant: its addresses, the name of its URL, and those that it
// was given. A page of another name that leads here (a name server can say anything) is not the console.
type hosts struct {
	any   bool // it listens on all addresses
	names map[string]bool
	log   *slog.Logger

	mu   sync.Mutex
	told map[string]bool
}

// mostTold is of how many foreign names is told.
const mostTold = 20

func newHosts(listen, address string, names []string, log *slog.Logger) *hosts {
	h := &hosts{names: map[string]bool{}, told: map[string]bool{}, log: log}
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		host = listen
	}
	ip, err := netip.ParseAddr(host)
	h.any = host == "" || (err == nil && ip.IsUnspecified())
	h.names[plainHost(host)] = true
	if h.any || host == "localhost" || (err == nil && ip.IsLoopback()) {
		for _, own := range []string{"localhost", "127.0.0.1", "::1"} {
			h.names[own] = true
		}
	}
	if u, err := url.Parse(address); err == nil && u.Host != "" {
		h.names[plainHost(u.Host)] = true
	}
	for _, name := range names {
		h.names[plainHost(name)] = true
	}
	return h
}

// plainHost is a host without a port, brackets or a dot at its end.
func plainHost(host string) string {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.Trim(host, "[]")
	if ip, err := netip.ParseAddr(host); err == nil {
		return ip.Unmap().WithZone("").String()
	}
	return strings.ToLower(strings.TrimSuffix(host, "."))
}

// isOurs reports whether a request for the host is meant for this service; a foreign name is told once.
// Requests for one are answered in this release, and refused in the next.
func (h *hosts) isOurs(host string) bool {
	if h == nil || host == "" { // as HTTP/1.0 may have it
		return true
	}
	name := plainHost(host)
	_, err := netip.ParseAddr(name)
	if h.names[name] || (h.any && err == nil) {
		return true
	}
	h.mu.Lock()
	say := !h.told[name] && len(h.told) < mostTold
	if say {
		h.told[name] = true
	}
	h.mu.Unlock()
	if say {
		h.log.Warn("a request came for a host name that is not the service's; the next release refuses it. Is it one of its own, give it by --name", "host", name)
	}
	return false
}
