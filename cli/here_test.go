package cli

import (
	"testing"
	"time"
)

// TestMomentsAreToldHere: what the service says of times is told in the zone of this machine, as
// all other times are.
func TestMomentsAreToldHere(t *testing.T) {
	was := time.Local
	defer func() { time.Local = was }()
	time.Local = time.FixedZone("CET", 3600)
	for text, want := range map[string]string{
		"It went back at 2026-11-27T10:01:46Z; look why.": "It went back at 2026-11-27 11:01:46 CET; look why.",
		"at 2026-11-27T23:30:00Z":                         "at 2026-11-28 00:30:00 CET",
		"2026-11-27T10:01:46.5Z, x2026-11-27T10:01:46Z":   "2026-11-27T10:01:46.5Z, x2026-11-27T10:01:46Z",
		"from 2026-13-77T10:01:46Z":                       "from 2026-13-77T10:01:46Z",
	} {
		if is := here(text); is != want {
			t.Errorf("%q is told as %q, want %q", text, is, want)
		}
	}
}
