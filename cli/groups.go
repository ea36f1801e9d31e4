package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
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

func sorted(lines []string) []string {
	slices.Sort(lines)
	return lines
}

func refused(err error) bool {
	var e *client.Error
	return errors.As(err, &e)
}

func (a *app) groupCommand() *cobra.Command {
	return group("group", "Groups: identical instances kept at a size",
		a.groupCreate(), a.groupList(), a.groupShow(), a.groupResize(), a.groupSet(),
		a.groupTell("freeze", "Stop all that happens to a group by itself", "Stops healing, launching, shedding and rollouts of a group, until it is thawed. Its\ninstances and their traffic go on, and are counted.", true,
			func(g contract.Group) string { return g.Name + " is frozen; thaw it with: unitas group thaw " + g.Name }),
		a.groupTell("thaw", "Start what was frozen again", "", false, func(g contract.Group) string { return g.Name + " is thawed." }),
		a.groupTell("heal", "Let what is unhealthy now be replaced, whatever the heal-limit, and places that wait be filled", "", false,
			func(g contract.Group) string {
				return "What is unhealthy in " + g.Name + " now is replaced, and places that stay empty are filled."
			}), a.groupFailures(), a.groupDelete())
}

func (a *app) groupShow() *cobra.Command {
	var watch bool
	cmd := &cobra.Command{Use: "show NAME", Short: "Show one group with its instances", Args: exactly("NAME"),
		Example: "  unitas group show timetable --watch",
		RunE: func(cmd *cobra.Command, args []string) error {
			if watch {
				return a.stayWithGroup(cmd.Context(), args[0], patience{watch: true}, nil)
			}
			g, err := a.readGroup(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(struct {
				contract.Group
				Instances []contract.Instance `json:"instances"`
			}{g.Group, g.instances}, g.picture)
		}}
	cmd.Flags().BoolVar(&watch, "watch", false, "keep the picture current until Ctrl-C")
	return cmd
}

// groupView is all that a picture of a group shows.
type groupView struct {
	contract.Group
	instances []contract.Instance
	rollout   *contract.Rollout
	rules     *contract.RuleList
	drills    []contract.Drill // of it
}

func (a *app) readGroup(ctx context.Context, name string) (groupView, error) {
	var v groupView
	var err error
	v.Group, _, err = ask[contract.Group](a, func(c *client.Client) (*http.Response, error) { return c.GetGroup(ctx, name) })
	if err != nil {
		return v, err
	}
	if v.instances, err = a.instancesOf(ctx, name, false); err != nil {
		return v, err
	}
	drills, _, err := ask[contract.DrillList](a, func(c *client.Client) (*http.Response, error) { return c.ListDrills(ctx) })
	if err != nil {
		return v, err
	}
	v.drills = slices.DeleteFunc(drills.Items, func(d contract.Drill) bool { return !v.has(d) })
	if v.Rollout != nil {
		r, _, err := ask[contract.Rollout](a, func(c *client.Client) (*http.Response, error) { return c.GetRollout(ctx, *v.Rollout) })
		if err != nil {
			return v, err
		}
		v.rollout = &r
	}
	if len(v.Rules) > 0 {
		rules, err := a.rules(ctx, name)
		if err != nil {
			return v, err
		}
		v.rules = &rules
	}
	return v, nil
}

func (a *app) instancesOf(ctx context.Context, name string, gone bool) ([]contract.Instance, error) {
	return list(a, func(c *client.Client, after *string) (*http.Response, error) {
		params := &contract.ListInstancesParams{After: after, Gone: &gone}
		if name != "" {
			params.Group = &name
		}
		return c.ListInstances(ctx, params)
	}, func(l contract.InstanceList) ([]contract.Instance, *string) { return l.Items, l.Next })
}

// picture is the sentence, the slips by zone, the versions, and the table.
func (v groupView) picture() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %s\n\n", strong.paint(v.Name), v.Summary.Sentence)
	if v.rollout != nil {
		b.WriteString(wavesPicture(*v.rollout) + "\n")
	}
	b.WriteString(slips(v.Zones, v.Template, v.instances) + "\n")
	b.WriteString(versions(v.Summary) + "\n")
	b.WriteString("  " + v.verdicts() + "\n\n")
	b.WriteString(instanceTable(v.instances))
	if v.Frozen != "" {
		b.WriteString("\n" + waiting.paint(fmt.Sprintf("Frozen by %s %s: %s. Nothing happens to it by itself.", or(v.FrozenBy, "somebody"), ago(*v.FrozenAt), v.Frozen)) + "\n")
	}
	if v.HealingStoppedAt != nil {
		b.WriteString("\n" + trouble.paint(fmt.Sprintf("Healing stopped %s: more than %d %% are unhealthy at once. Look for a fault outside; then: unitas group heal %s", ago(*v.HealingStoppedAt), v.HealLimitPercent, v.Name)) + "\n")
	}
	for _, d := range v.drills {
		b.WriteString("\n" + waiting.paint(fmt.Sprintf("On purpose, by %s: %s, for %s more. End it with: unitas drill stop %d", d.StartedBy, d.What, words.Span(time.Until(d.UntilAt)), d.Number)) + "\n")
	}
	kept := 0
	for _, s := range v.Slots {
		if s.Failures > 1 {
			b.WriteString("\n" + trouble.paint(fmt.Sprintf("One slot failed %d times in a row, the last %s; see why with: unitas group failures %s", s.Failures, strings.Join(s.Failed, ", "), v.Name)) + "\n")
		}
		if s.Kept {
			kept++
		}
	}
	if kept > 0 {
		b.WriteString("\n" + waiting.paint(fmt.Sprintf("%s empty since a machine vanished, for heal is off; fill with: unitas group heal %s", words.Stays(kept, "slot"), v.Name)) + "\n")
	}
	if v.rules != nil {
		b.WriteString("\n" + rulesPicture(*v.rules))
	}
	if len(v.Advice) > 0 {
		b.WriteString("\n" + advices(v.Advice))
	}
	b.WriteString("\n" + facts("template", v.Template, "size", fmt.Sprintf("%d, between %d and %d", v.Size, v.Min, v.Max), "zone loss", v.ZoneLoss, "bounds now", boundsNow(v.Group),
		"pools", orWord(strings.Join(v.Pools, ", "), "none"), "heals by", v.Heal, "heal-limit", fmt.Sprintf("%d %% of the size at once", v.HealLimitPercent), "sheds", string(v.Shed)+" first", "spread", spreadWords(v.Spread), "above", fmt.Sprintf("%d more than the size while one is replaced", v.Above),
		"labels", pairs(v.Labels), "hooks", hookNames(v.Group), "course", v.Course, "scrape", v.Scrape, "last good", valueOr(v.LastGood, ""), "doubted", strings.Join(v.Doubted, ", "), "pins new ones", map[bool]string{true: "yes"}[v.PinNew],
		"settle", spanOf(v.SettleSeconds), "drain", spanOf(v.DrainSeconds)))
	return b.String()
}

// verdicts counts the instances by verdict, and tells the estimate.
func (v groupView) verdicts() string {
	count := map[contract.Verdict]int{}
	for _, in := range v.instances {
		count[in.Verdict]++
	}
	text := fmt.Sprintf("%d healthy, %d unhealthy, %d unknown", count[contract.VerdictHealthy], count[contract.VerdictUnhealthy], count[contract.VerdictUnknown])
	if v.Summary.LeftSeconds != nil {
		text += fmt.Sprintf("; about %s left", spanOf(*v.Summary.LeftSeconds))
	}
	return text
}

// boundsNow are those that calendars set now; "" when none does.
func boundsNow(g contract.Group) string {
	if len(g.Bounds.By) == 0 {
		return ""
	}
	return fmt.Sprintf("%d to %d by the calendar %s, until %s", g.Bounds.Min, g.Bounds.Max, strings.Join(g.Bounds.By, ", "), moment(*g.Bounds.Until))
}

func spreadWords(s contract.Spread) string {
	return map[contract.Spread]string{contract.Even: "even", contract.InOrder: "in-order: the first zone that takes machines", contract.Cheapest: "cheapest: the zone with the lowest price"}[s]
}

func orWord(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// slips draws each instance as a tile of text in the row of its zone.
func slips(zones []string, template string, instances []contract.Instance) string {
	width := 0
	for _, z := range zones {
		width = max(width, len(z))
	}
	var b strings.Builder
	for _, z := range zones {
		fmt.Fprintf(&b, "  %-*s ", width, z)
		for _, in := range instances {
			if in.Zone != z {
				continue
			}
			t := plain
			switch {
			case in.State == contract.InstanceStateLost || in.Overdue || (in.State == contract.InstanceStateServing && in.Verdict == contract.VerdictUnhealthy):
				t = trouble
			case in.State != contract.InstanceStateServing:
				t = waiting
			case in.Version != template:
				t = newer
			}
			b.WriteString(" " + t.paint(in.Slip))
		}
		b.WriteString("\n")
	}
	b.WriteString(faint.paint("  [n] serving  (n) coming up  {n} held by a hook  /n/ on its way out  |n| parked  !n! unhealthy  ~n~ lost; n is the template version") + "\n")
	return b.String()
}

func versions(s contract.Summary) string {
	rows := [][]string{{"  version", ">instances", ">serving"}}
	for _, v := range s.Versions {
		rows = append(rows, []string{"  " + v.Version, strconv.Itoa(v.Counted), strconv.Itoa(v.Serving)})
	}
	if len(rows) == 1 {
		return ""
	}
	return table(rows)
}

func (a *app) groupResize() *cobra.Command {
	var to int
	var reason string
	var yes, dry bool
	var p patience
	cmd := &cobra.Command{Use: "resize NAME --size N", Short: "Change the size of a group", Args: exactly("NAME"),
		Example: "  unitas group resize timetable --size 8 --reason \"bank holiday\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.changeGroup(cmd, args[0], contract.GroupChange{Size: &to, Reason: given(cmd, "reason", reason)}, p, dry, yes)
		}}
	numberVar(cmd.Flags(), &to, "size", 0, "how many instances there should be")
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is kept in the journal")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask, also when more than one in three of what serves goes")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only say what would happen")
	p.add(cmd, "as many serve")
	_ = cmd.MarkFlagRequired("size")
	return cmd
}

func (a *app) groupSet() *cobra.Command {
	var f groupFlags
	var p patience
	cmd := &cobra.Command{Use: "set NAME", Short: "Change settings of a group, only those that are given", Args: exactly("NAME"),
		Long: `Changes settings of a group, only those that are given, and says what that makes
happen first. --dry-run changes nothing and only says it. A template version that is
set here is for new launches only; a rollout replaces what runs.`,
		Example: "  unitas group set timetable --max 12 --heal-limit 50 --dry-run\n  unitas group set timetable --template timetable-web@3 --reason \"new ones only\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			g := f.given(cmd)
			return a.changeGroup(cmd, args[0], contract.GroupChange{Size: g.Size, Min: g.Min, Max: g.Max, Template: g.Template, Zones: g.Zones, Pools: g.Pools,
				Shed: g.Shed, Spread: g.Spread, Above: g.Above, Heal: g.Heal, HealLimitPercent: g.HealLimit, PinNew: g.PinNew, HooksAtOnce: g.HooksAtOnce, Course: g.Course, Scrape: g.Scrape, Labels: g.Labels,
				SettleSeconds: secondsIn(g.Settle), DrainSeconds: secondsIn(g.Drain), Trust: given(cmd, "trust", f.trust), Reason: given(cmd, "reason", f.reason)}, p, f.dryRun, f.yes)
		}}
	f.add(cmd)
	cmd.Flags().StringSliceVar(&f.trust, "trust", nil, "a template version, `NAME@N`, that the group was kept or taken back from and that is doubted no more")
	cmd.Flags().StringVar(&f.reason, "reason", "", "why; it is kept in the journal")
	cmd.Flags().StringVar(&f.scrape, "scrape", "", "where instances tell metrics of their own: `[PORT]/PATH`; '' for /metrics at the port of the template")
	cmd.Flags().StringVar(&f.course, "course", "", "the `COURSE` that its rollouts go by unless another is named; '' for none")
	cmd.Flags().BoolVar(&f.yes, "yes", false, "do not ask, also when more than one in three of what serves goes")
	p.add(cmd, "the group is as it is set")
	return cmd
}

// changeGroup makes one change against the group as it was read. It looks first, and
// asks when the change takes more than one in three of what serves.
func (a *app) changeGroup(cmd *cobra.Command, name string, change contract.GroupChange, p patience, dry, yes bool) error {
	stays, err := p.stays()
	if err != nil {
		return err
	}
	before, tag, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) { return c.GetGroup(cmd.Context(), name) })
	if err != nil {
		return err
	}
	call := func(dry bool) (contract.Group, error) {
		g, _, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) {
			return c.ChangeGroup(cmd.Context(), name, &contract.ChangeGroupParams{IfMatch: &tag, DryRun: &dry}, change)
		})
		return g, err
	}
	g, err := call(true)
	if err != nil {
		return err
	}
	if !dry {
		if caution := valueOr(g.Caution, ""); caution != "" {
			if err := a.confirm(yes, caution, fmt.Sprintf("This is what happens: %s.\n%s.\nDo it?", strings.Join(*g.Effects, ", "), strings.ToUpper(caution[:1])+caution[1:])); err != nil {
				return err
			}
		}
		if g, err = call(false); err != nil {
			return err
		}
	}
	if stays && !dry {
		fmt.Fprintf(a.err, "%s is changed: %s.\n", g.Name, strings.Join(*g.Effects, ", "))
		return a.stayWithGroup(cmd.Context(), name, p, &g.Size)
	}
	return a.print(g, func() string {
		effects := strings.Join(*g.Effects, ", ")
		switch {
		case dry:
			text := fmt.Sprintf("It would change %s.\nThis would happen: %s.\n", strings.Join(value(g.Changes), "; "), effects)
			if g.Caution != nil {
				text += trouble.paint("Mind: ") + *g.Caution + ".\n"
			}
			return text + "Nothing was changed; leave out --dry-run to change it.\n"
		case before.Size != g.Size:
			return fmt.Sprintf("%s goes from %d to %d, between %d and %d: %s. Watch it with: unitas group show %s --watch\n", g.Name, before.Size, g.Size, g.Min, g.Max, effects, g.Name)
		}
		return fmt.Sprintf("%s is changed: %s.\nThis happens: %s.\n", g.Name, strings.Join(value(g.Changes), "; "), effects)
	})
}

// groupTell is a command that is told to a group.
func (a *app) groupTell(word, short, long string, reasoned bool, done func(contract.Group) string) *cobra.Command {
	var reason string
	cmd := &cobra.Command{Use: word + " NAME", Short: short, Long: long, Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			whatever := "*"
			g, _, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) {
				return c.TellGroup(cmd.Context(), args[0], &contract.TellGroupParams{IfMatch: &whatever},
					contract.GroupCommand{Command: contract.GroupCommandCommand(word), Reason: given(cmd, "reason", reason)})
			})
			if err != nil {
				return err
			}
			return a.print(g, func() string { return done(g) + "\n" })
		}}
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is kept in the journal")
	if reasoned {
		_ = cmd.MarkFlagRequired("reason")
	}
	return cmd
}

// deletion says all that goes with a group.
func deletion(g contract.Group, instances []contract.Instance) string {
	byZone := map[string]int{}
	for _, in := range instances {
		byZone[in.Zone]++
	}
	var zones []string
	for _, z := range slices.Sorted(maps.Keys(byZone)) {
		zones = append(zones, fmt.Sprintf("%d in %s", byZone[z], z))
	}
	return fmt.Sprintf("This drains and stops %s of %s (%s), with a drain of up to %s each,\ntakes them out of %s, and removes the group. Its journal stays.\n",
		words.Count(len(instances), "instance"), g.Name, orWord(strings.Join(zones, ", "), "none"), spanOf(g.DrainSeconds),
		orWord(strings.Join(g.Pools, ", "), "no pool"))
}

func (a *app) groupDelete() *cobra.Command {
	var yes bool
	var p patience
	cmd := &cobra.Command{Use: "delete NAME", Short: "Drain and stop all instances of a group, then remove it", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			stays, err := p.stays()
			if err != nil {
				return err
			}
			g, tag, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) { return c.GetGroup(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			instances, err := a.instancesOf(cmd.Context(), args[0], false)
			if err != nil {
				return err
			}
			if err := a.confirm(yes, fmt.Sprintf("deleting %s stops %d instances", g.Name, len(instances)), deletion(g, instances)+fmt.Sprintf("Delete %s?", g.Name)); err != nil {
				return err
			}
			g, _, err = ask[contract.Group](a, func(c *client.Client) (*http.Response, error) {
				return c.DeleteGroup(cmd.Context(), args[0], &contract.DeleteGroupParams{IfMatch: &tag})
			})
			if err != nil {
				return err
			}
			if !stays {
				return a.print(g, func() string {
					return fmt.Sprintf("%s is being deleted: %d instances drain and stop.\n", g.Name, len(instances))
				})
			}
			return a.live(cmd.Context(), p, func() (sight, error) {
				v, err := a.readGroup(cmd.Context(), args[0])
				if client.Is(err, "not-found") {
					return sight{picture: args[0] + " is deleted.\n", sentence: args[0] + " is deleted.", value: g, done: true}, nil
				}
				if err != nil {
					return sight{}, err
				}
				return sight{picture: v.picture(), sentence: v.Summary.Sentence}, nil
			})
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	p.add(cmd, "it is gone")
	return cmd
}
