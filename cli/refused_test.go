package cli

import (
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

// TestFaultsStandBesideWhatWasTyped: each fault names the flag it came from with what the
// person wrote there, of a list the element, and of pairs the pair.
func TestFaultsStandBesideWhatWasTyped(t *testing.T) {
	cmd := &cobra.Command{Use: "x", RunE: func(*cobra.Command, []string) error { return nil }, SilenceUsage: true}
	var labels map[string]string
	cmd.Flags().String("memory", "", "")
	cmd.Flags().Duration("drain", 0, "")
	cmd.Flags().StringSlice("waves", nil, "")
	cmd.Flags().StringArray("listen", nil, "")
	cmd.Flags().Int("size", 0, "")
	pairsVar(cmd.Flags(), &labels, "label", "")
	typed := []string{"--memory=512", "--drain", "2h", "--waves", "1,0", "--listen", "127.0.0.1:1", "--listen", "127.0.0.1:2", "--label", "a=1,b=2"}
	cmd.SetArgs(typed)
	if err := cmd.Execute(); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ pointer, detail, want string }{
		{"/memory_bytes", "512 bytes is too little; give 1MiB or more", "--memory 512 is 512 bytes, too little; give 1MiB or more"},
		{"/drain_seconds", "2h is too long; give 1h or less", "--drain 2h is too long; give 1h or less"},
		{"/waves/1", `"0" is not a wave`, "--waves 0 is not a wave"},
		{"/listeners/1/address", "127.0.0.1:2 is the listener of the pool front", "--listen 127.0.0.1:2 is the listener of the pool front"},
		{"/labels/b", "there is no b", "--label b=2: there is no b"},
		{"/size", "is missing; it must be given", "--size is missing; it must be given"},
		{"/size", "4 is under the size; raise size as well.", "--size: 4 is under the size; raise --size as well"},
		{"/name", `"No" is not a name`, `"No" is not a name`},
	} {
		detail := "the whole of it"
		err := &client.Error{Problem: contract.Problem{Detail: &detail, Errors: &[]contract.Fault{{Detail: c.detail, Pointer: c.pointer}}}}
		if got := refusal(cmd, typed, err); len(got) != 1 || got[0] != c.want {
			t.Errorf("%s at %s is said as %q, want %q", c.detail, c.pointer, got, c.want)
		}
	}
	both := &client.Error{Problem: contract.Problem{Errors: &[]contract.Fault{{Detail: "is wrong", Pointer: "/colour"}, {Detail: "2h is too long", Pointer: "/drain_seconds"}}}}
	if got := strings.Join(refusal(cmd, typed, both), "|"); got != "colour: is wrong|--drain 2h is too long" {
		t.Errorf("two faults are said as %q", got)
	}
	if got := refusal(cmd, typed, errors.New("a\n  b")); got[0] != "a b" {
		t.Errorf("another error is said as %q", got)
	}
}

// TestPairs: a pair that is none, or a name twice, is refused; nothing clears.
func TestPairs(t *testing.T) {
	for text, want := range map[string]string{"a=1,b=2": "a=1,b=2", "": "", `a="x": y`: "", `"a=1,5",b=2`: "a=1,5,b=2", "a=": "a="} {
		var m map[string]string
		p := &pairsValue{&m}
		if err := p.Set(text); err != nil && want != "" {
			t.Errorf("%q: %v", text, err)
		} else if err == nil && (p.String() != want || m == nil) {
			t.Errorf("%q is read as %q, want %q", text, p, want)
		}
	}
	for text, says := range map[string]string{"NOEQUALS": "is not NAME=VALUE", "a=1,a=2": "a is given twice, as 1 and 2", "=x": "is not NAME=VALUE"} {
		var m map[string]string
		if err := (&pairsValue{&m}).Set(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q is answered with %v", text, err)
		}
	}
}

// TestNetworkInPlainWords: no error of the network is told in words of a programming
// language.
func TestNetworkInPlainWords(t *testing.T) {
	for _, c := range []struct{ server, says string }{
		{"http://127.0.0.1:1", "nothing listens there"}, {"httpx://a", "no address of a service"}, {"harbour:1", "no address of a service"},
		{"http://nosuch.invalid", "there is no host"},
	} {
		a := &app{server: c.server, out: io.Discard, err: io.Discard}
		t.Setenv("UNITAS_TOKEN", "x")
		_, err := a.pools(t.Context())
		if err == nil || !strings.Contains(err.Error(), c.says) && !strings.Contains(err.Error(), "could not be looked up") || strings.Contains(err.Error(), "dial") {
			t.Errorf("%s is answered with %v", c.server, err)
		}
	}
	if got := network(io.ErrUnexpectedEOF); got != "it closed the connection without an answer" {
		t.Errorf("an early end is told as %q", got)
	}
}

func TestTimesAsPeopleWriteThem(t *testing.T) {
	now := time.Date(2026, 11, 27, 3, 10, 0, 0, time.Local)
	for text, want := range map[string]time.Time{
		"90m": now.Add(-90 * time.Minute), "22:15": time.Date(2026, 11, 27, 22, 15, 0, 0, time.Local), "2026-11-26": time.Date(2026, 11, 26, 0, 0, 0, 0, time.Local),
		"2026-11-26 06:00": time.Date(2026, 11, 26, 6, 0, 0, 0, time.Local), "2026-11-26T22:15:00Z": time.Date(2026, 11, 26, 22, 15, 0, 0, time.UTC),
	} {
		if got, err := timeIn(text, now); err != nil || !got.Equal(want) {
			t.Errorf("%q is read as %s %v, want %s", text, got, err, want)
		}
	}
	for _, bad := range []string{"", "yesterday", "-5m", "25:00", "2026-13-01"} {
		if got, err := timeIn(bad, now); err == nil {
			t.Errorf("%q is read as %s", bad, got)
		}
	}
}
