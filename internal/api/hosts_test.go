package api

import (
	"bytes"
	"log/slog"
	"strings"
	"testing"
)

// TestForeignNamesAreTold: by which names a service is meant, and that others are told once each, of not
// too many.
func TestForeignNamesAreTold(t *testing.T) {
	var said bytes.Buffer
	log := slog.New(slog.NewTextHandler(&said, nil))
	for listen, cases := range map[string]map[string]bool{
		"127.0.0.1:7410": {"127.0.0.1:7410": true, "localhost:7410": true, "LOCALHOST.": true, "[::1]:7410": true, "": true, "unitas.saltmere.example": true, "fleet.saltmere.example:443": true,
			"192.0.2.7:7410": false, "rebound.example:7410": false},
		"localhost:7410": {"127.0.0.1:7410": true, "localhost": true, "rebound.example": false},
		"192.0.2.7:7410": {"192.0.2.7:7410": true, "unitas.saltmere.example": true, "localhost:7410": false, "192.0.2.8": false},
		":7410":          {"192.0.2.7:7410": true, "[2001:db8::1]:7410": true, "localhost": true, "rebound.example": false},
	} {
		h := newHosts(listen, "https://unitas.saltmere.example/", []string{"Fleet.saltmere.example"}, log)
		for host, ours := range cases {
			if h.isOurs(host) != ours {
				t.Errorf("on %s the host %q is ours: %t", listen, host, !ours)
			}
		}
	}
	said.Reset()
	h := newHosts("127.0.0.1:7410", "", nil, log)
	for range 3 {
		h.isOurs("rebound.example")
	}
	if n := strings.Count(said.String(), "rebound.example"); n != 1 {
		t.Errorf("it is told %d times", n)
	}
	for k := range 100 {
		h.isOurs(strings.Repeat("a", k+1) + ".example")
	}
	if n := strings.Count(said.String(), "is not the service's"); n != mostTold {
		t.Errorf("of foreign names is told %d times", n)
	}
}
