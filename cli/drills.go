package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

func (a *app) drillCommand() *cobra.Command {
	var of, inGroup, zone, region, reason string
	var span, slow time.Duration
	var percent int
	var yes bool
	starting := &cobra.Command{
		Use: "start KIND", Short: "Make a fault on purpose", Args: exactly("KIND"),
		Long: `Makes a fault on purpose, to see that everything follows as it should. It is kept in
the journal as a drill, and ends by itself and when the service stops.

  hang    the processes of an instance are stopped where they are
  crash   the processes of an instance are killed
  burn    a processor is kept busy on the machine of an instance
  slow    the workload of an instance is told to answer later (--slow)
  errors  the workload of an instance is told to answer a share with 500 (--percent)
  zone    the machines of a zone die, and none can be launched there
  region  so do those of all zones of a region

slow and errors need a workload that reads the file which UNITAS_DRILL names; the
sample workload does. What a zone or a region takes from each group is said, and asked
for once.`,
		Example: "  unitas drill start hang --instance timetable-003 --for 30s\n  unitas drill start zone --zone west-pier --for 2m --reason \"the autumn drill\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			if inGroup != "" {
				picked, err := a.pickForDrill(cmd.Context(), inGroup)
				if err != nil {
					return err
				}
				of = picked
				_ = cmd.Flags().Set("instance", picked)
			}
			start := func(dry bool) (contract.Drill, error) {
				d, _, err := ask[contract.Drill](a, func(c *client.Client) (*http.Response, error) {
					return c.StartDrill(cmd.Context(), &contract.StartDrillParams{DryRun: &dry}, contract.NewDrill{Kind: contract.NewDrillKind(args[0]), Instance: given(cmd, "instance", of), Zone: given(cmd, "zone", zone), Region: given(cmd, "region", region),
						ForSeconds: given(cmd, "for", span.Seconds()), SlowSeconds: given(cmd, "slow", slow.Seconds()), ErrorPercent: given(cmd, "percent", percent), Reason: given(cmd, "reason", reason)})
				})
				return d, err
			}
			d, err := start(true) // says what goes
			if err != nil {
				return err
			}
			takes := d.What + ":\n  " + strings.Join(value(d.Changes), "\n  ")
			if wide := d.Zone != nil || d.Region != nil; wide && !a.dry {
				if err := a.confirm(yes, d.What+", with the machines of all groups there", takes+"\nStart it?"); err != nil {
					return err
				}
			}
			if !a.dry {
				if d, err = start(false); err != nil {
					return err
				}
			}
			return a.print(d, func() string {
				if a.dry {
					return takes + "\n"
				}
				if d.Kind == "crash" {
					return fmt.Sprintf("Drill %d: %s.\n", d.Number, d.What)
				}
				return fmt.Sprintf("Drill %d: %s. End it before with: unitas drill stop %d\n", d.Number, d.What, d.Number)
			})
		},
	}
	flags := starting.Flags()
	flags.StringVar(&of, "instance", "", "the `INSTANCE`, for all kinds but zone and region")
	flags.StringVar(&inGroup, "group", "", "pick an instance of this `GROUP` that serves, and say which")
	flags.StringVar(&region, "region", "", "the `REGION`, for the kind region")
	flags.StringVar(&zone, "zone", "", "the `ZONE`, for the kind zone")
	flags.DurationVar(&span, "for", time.Minute, "how long, at most 1h")
	flags.DurationVar(&slow, "slow", 2*time.Second, "for slow: how much later it answers")
	numberVar(flags, &percent, "percent", 50, "for errors: the share of requests, in `PERCENT`")
	flags.BoolVar(&yes, "yes", false, "do not ask, also when a zone or a region is lost")
	flags.StringVar(&reason, "reason", "", "why; it is kept in the journal")
	starting.MarkFlagsMutuallyExclusive("instance", "group", "zone", "region")
	listing := &cobra.Command{Use: "list", Short: "List drills that are under way", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, _, err := ask[contract.DrillList](a, func(c *client.Client) (*http.Response, error) { return c.ListDrills(cmd.Context()) })
			if err != nil {
				return err
			}
			return a.print(l.Items, func() string {
				rows := [][]string{{">drill", "what", ">left", "by"}}
				for _, d := range l.Items {
					rows = append(rows, []string{strconv.FormatInt(d.Number, 10), d.What, words.Span(time.Until(d.UntilAt)), d.StartedBy})
				}
				return orNone(rows, "No drill is under way; start one with: unitas drill start KIND")
			})
		}}
	stopping := &cobra.Command{Use: "stop NUMBER", Short: "End a drill now", Args: exactly("NUMBER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || n < 1 {
				return misused("%q is not the number of a drill; see: unitas drill list", args[0])
			}
			if _, _, err := ask[struct{}](a, func(c *client.Client) (*http.Response, error) { return c.StopDrill(cmd.Context(), n) }); err != nil {
				return err
			}
			return a.print(map[string]int64{"stopped": n}, func() string { return fmt.Sprintf("Drill %d is over.\n", n) })
		}}
	return group("drill", "Drills: faults on purpose, to see that all follows as it should", starting, listing, stopping)
}

// pickForDrill picks one of the instances of a group that serve, are not pinned and have no
// drill of their own already: the one with the fewest requests in flight, and of those the oldest. It says what it hits.
func (a *app) pickForDrill(ctx context.Context, name string) (string, error) {
	g, err := a.readGroup(ctx, name)
	if err != nil {
		return "", err
	}
	var picked *contract.Instance
	for k := range g.instances {
		in := &g.instances[k]
		if in.State == contract.InstanceStateServing && !in.Pinned && !g.drilled(in.Id) && (picked == nil || in.InFlight < picked.InFlight) {
			picked = in
		}
	}
	if picked == nil {
		return "", fmt.Errorf("of %s none serves that is neither pinned nor in a drill, so there is none to pick; name one with --instance", name)
	}
	fmt.Fprintf(a.err, "It hits %s in %s, which serves on %s; %d of %d of %s serve now.\n", picked.Id, picked.Zone, picked.Version, g.Summary.Serving, g.Size, name)
	return picked.Id, nil
}

// drilled reports whether an instance has a drill of its own.
func (v groupView) drilled(id string) bool {
	return slices.ContainsFunc(v.drills, func(d contract.Drill) bool { return d.Instance != nil && *d.Instance == id })
}

// has reports whether a drill hits the group.
func (v groupView) has(d contract.Drill) bool {
	for _, in := range v.instances {
		if d.Instance != nil && *d.Instance == in.Id || d.Zone != nil && *d.Zone == in.Zone {
			return true
		}
	}
	return d.Zone != nil && slices.Contains(v.Zones, *d.Zone)
}
