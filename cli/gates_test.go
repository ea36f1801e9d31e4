package cli

import (
	"strings"
	"testing"

	"unitas/api/contract"
)

func TestParseGate(t *testing.T) {
	g, err := parseGate("errors:margin=1.5%,warm=10s,on-broken=hold,min-requests=200,on-undecided=extend")
	if err != nil || g.Kind != "errors" || *g.MarginPercent != 1.5 || *g.WarmSeconds != 10 || *g.OnBroken != "hold" || *g.MinRequests != 200 || *g.OnUndecided != "extend" {
		t.Errorf("it is %+v (%v)", g, err)
	}
	if g, err := parseGate("errors"); err != nil || g.MarginPercent != nil {
		t.Errorf("by itself it is %+v (%v)", g, err)
	}
	for text, says := range map[string]string{
		"luck": `"luck" is no kind of gate; there are errors, latency, healthy, serving and metric`, "errors:margin=x": "percent points", "errors:warm=1": "such as 10s", "errors:min-requests=many": "number of requests", "errors:odds=1": `no setting "odds"`, "errors:least=5": "least is called min-requests now",
	} {
		if _, err := parseGate(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

func TestGatesPicture(t *testing.T) {
	got := gatesPicture([]contract.Gate{
		{Kind: "errors", What: "requests that fail", State: contract.GateStateBroken, MarginPercent: 0.5, OnBroken: "revert", NewRequests: 310, NewFailed: 16, OldRequests: 1500, OldFailed: 1, Evidence: 340},
		{Kind: "errors", State: contract.GateStateUndecided, MarginPercent: 1, OnBroken: "hold", MinRequests: 200, OnUndecided: "extend", WaveRequests: 12, Evidence: 1},
	})
	for _, want := range []string{"requests that fail", "5.2 % of 310", "0.067 % of 1500", "+0.5 points", "1 in 340", "revert", "12 of 200 requests, then extend", "none yet"} {
		if !strings.Contains(got, want) {
			t.Errorf("it does not say %q:\n%s", want, got)
		}
	}
}
