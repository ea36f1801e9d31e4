package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"unitas/api/contract"
	"unitas/internal/fleet/words"
)

// gateFlags are the gates of a rollout as people give them.
type gateFlags struct {
	given []string
	none  bool
}

func (f *gateFlags) add(flags *pflag.FlagSet) {
	flags.StringArrayVar(&f.given, "gate", nil, "a gate, `KIND[:SETTING=VALUE,…]`, such as errors:margin=1,on-broken=hold. May be repeated; without it errors")
	flags.BoolVar(&f.none, "no-gates", false, "compare nothing: only checks and machines hold the rollout")
}

// read returns the gates that were asked for, nil for the usual.
func (f *gateFlags) read(cmd *cobra.Command) (*[]contract.NewGate, error) {
	if f.none && cmd.Flags().Changed("gate") {
		return nil, misused("--gate and --no-gates: give one of them")
	}
	if f.none {
		return &[]contract.NewGate{}, nil
	}
	if !cmd.Flags().Changed("gate") {
		return nil, nil
	}
	var all []contract.NewGate
	for _, text := range f.given {
		g, err := parseGate(text)
		if err != nil {
			return nil, misused("--gate %s: %w", text, err)
		}
		all = append(all, g)
	}
	return &all, nil
}

// parseGate reads KIND:SETTING=VALUE,…
func parseGate(text string) (g contract.NewGate, err error) {
	kind, settings, some := strings.Cut(text, ":")
	if g.Kind = contract.NewGateKind(kind); !g.Kind.Valid() {
		return g, fmt.Errorf("%q is no kind of gate; there are errors, latency, healthy, serving and metric", kind)
	}
	if !some {
		return g, nil
	}
	for setting := range strings.SplitSeq(settings, ",") {
		name, value, _ := strings.Cut(setting, "=")
		switch name {
		case "margin":
			v, err := strconv.ParseFloat(strings.TrimSuffix(value, "%"), 64)
			if err != nil {
				return g, fmt.Errorf("margin=%s: give percent points from 0 to 50, such as 0.5", value)
			}
			g.MarginPercent = &v
		case "warm":
			v, err := time.ParseDuration(value)
			if err != nil {
				return g, fmt.Errorf("warm=%s: give a time from 0s to 1h, such as 10s", value)
			}
			seconds := v.Seconds()
			g.WarmSeconds = &seconds
		case "min-requests":
			v, err := strconv.ParseInt(value, 10, 64)
			if err != nil {
				return g, fmt.Errorf("min-requests=%s: give a number of requests, such as 200", value)
			}
			g.MinRequests = &v
		case "floor":
			v, err := strconv.ParseFloat(strings.TrimSuffix(value, "%"), 64)
			if err != nil {
				return g, fmt.Errorf("floor=%s: give a number: percent of healthy, instances of serving", value)
			}
			g.Floor = &v
		case "name":
			g.Metric = &value
		case "above", "below":
			v, err := strconv.ParseFloat(strings.TrimSuffix(value, "%"), 64)
			if err != nil {
				return g, fmt.Errorf("%s=%s: give a number in the unit of the metric", name, value)
			}
			if name == "above" {
				g.Above = &v
			} else {
				g.Below = &v
			}
		case "on-broken":
			v := contract.NewGateOnBroken(value)
			g.OnBroken = &v
		case "on-undecided":
			v := contract.NewGateOnUndecided(value)
			g.OnUndecided = &v
		default:
			if now := renamedSettings["gate"][name]; now != "" {
				return g, fmt.Errorf("the setting %s", calledNow(name, now))
			}
			return g, fmt.Errorf("there is no setting %q; there are margin, floor, warm, min-requests, on-broken and on-undecided, and of metric name, above and below", name)
		}
	}
	return g, nil
}

// gatesPicture is a line for each gate with its numbers.
func gatesPicture(gates []contract.Gate) string {
	if len(gates) == 0 {
		return ""
	}
	rows := [][]string{{"  gate", "state", ">new", ">old", ">at most", ">by chance", "when it breaks"}}
	for _, g := range gates {
		then := g.OnBroken
		if g.State == contract.GateStateUndecided && g.MinRequests > 0 {
			then = fmt.Sprintf("%d of %d requests, then %s", g.WaveRequests, g.MinRequests, g.OnUndecided)
		}
		if g.Floor != nil {
			value := "none yet"
			if g.Value != nil {
				value = fmt.Sprintf("%.3g", *g.Value)
			}
			unit := map[string]string{"healthy": " %"}[g.Kind]
			rows = append(rows, []string{"  " + g.What, string(g.State), value + unit, "-", "≥ " + words.Eased(*g.Floor, g.EasedFloor) + unit, "-", g.OnBroken})
			continue
		}
		rows = append(rows, []string{"  " + g.What, string(g.State), words.Share(g.NewFailed, g.NewRequests), words.Share(g.OldFailed, g.OldRequests),
			fmt.Sprintf("+%g points", g.MarginPercent), words.Chance(g.Evidence), then})
	}
	return "\n" + table(rows)
}
