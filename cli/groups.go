package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"unitas/client"
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
		a.groupCreate(), a.groupList(), a.groupShow(), a.groupResize(), a.groupDelete())
}

func (a *app) groupCreate() *cobra.Command {
	var template, heal string
	var count, least, most int
	var zones, pools []string
	var settle, drain time.Duration
	var watch bool
	cmd := &cobra.Command{
		Use: "create NAME --template NAME@N --size N", Short: "Make a group; its instances are launched at once", Args: exactly("NAME"),
		Example: `  unitas group create timetable --template timetable-web@1 --size 6 --min 3 --max 9 \
    --zones east-pier,mid-pier,west-pier --pool front --heal sailings-up --settle 20s --watch`,
		RunE: func(cmd *cobra.Command, args []string) error {
			body := client.NewGroup{Name: args[0], Template: template, Size: count, Min: given(cmd, "min", least), Max: given(cmd, "max", most),
				Zones: given(cmd, "zones", zones), Pools: given(cmd, "pool", pools), Heal: given(cmd, "heal", heal),
				SettleSeconds: given(cmd, "settle", settle.Seconds()), DrainSeconds: given(cmd, "drain", drain.Seconds())}
			g, _, err := ask[client.Group](a, func(c *client.Client) (*http.Response, error) {
				return c.CreateGroup(cmd.Context(), &client.CreateGroupParams{IdempotencyKey: freshKey()}, body)
			})
			if err != nil {
				return err
			}
			if watch {
				return a.watchGroup(cmd.Context(), g.Name, true)
			}
			return a.print(g, func() string {
				return fmt.Sprintf("%s is made: %d of %s, between %d and %d. Watch it with: unitas group show %s --watch\n", g.Name, g.Size, g.Template, g.Min, g.Max, g.Name)
			})
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&template, "template", "", "the template version, `NAME@N`")
	flags.IntVar(&count, "size", 0, "how many instances there should be now")
	flags.IntVar(&least, "min", 0, "the least size (without it: 1)")
	flags.IntVar(&most, "max", 0, "the greatest size (without it: the size)")
	flags.StringSliceVar(&zones, "zones", nil, "the zones, filled evenly in this order (without it: all)")
	flags.StringSliceVar(&pools, "pool", nil, "the `POOL` that sends it traffic; may be given again")
	flags.StringVar(&heal, "heal", "machine", "what makes an instance be replaced: off, machine (it is gone), or a check's `NAME`")
	flags.DurationVar(&settle, "settle", time.Minute, "how long after boot an instance may take to become healthy")
	flags.DurationVar(&drain, "drain", 30*time.Second, "how long an instance may finish its requests")
	flags.BoolVar(&watch, "watch", false, "watch until all instances serve")
	_ = cmd.MarkFlagRequired("template")
	_ = cmd.MarkFlagRequired("size")
	return cmd
}

func (a *app) groupList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List groups", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			groups, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
				return c.ListGroups(cmd.Context(), &client.ListGroupsParams{After: after})
			}, func(l client.GroupList) ([]client.Group, *string) { return l.Items, l.Next })
			if err != nil {
				return err
			}
			return a.print(groups, func() string {
				rows := [][]string{{"group", ">serving", ">size", ">between", "template", "now"}}
				for _, g := range groups {
					rows = append(rows, []string{g.Name, strconv.Itoa(g.Summary.Serving), strconv.Itoa(g.Size), fmt.Sprintf("%d and %d", g.Min, g.Max), g.Template, g.Summary.Sentence})
				}
				return orNone(rows, "There are no groups yet; make one with: unitas group create NAME --template NAME@N --size N")
			})
		}}
}

func (a *app) groupShow() *cobra.Command {
	var watch bool
	cmd := &cobra.Command{Use: "show NAME", Short: "Show one group with its instances", Args: exactly("NAME"),
		Example: "  unitas group show timetable --watch",
		RunE: func(cmd *cobra.Command, args []string) error {
			if watch {
				return a.watchGroup(cmd.Context(), args[0], false)
			}
			g, err := a.readGroup(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(struct {
				client.Group
				Instances []client.Instance `json:"instances"`
			}{g.Group, g.instances}, g.picture)
		}}
	cmd.Flags().BoolVar(&watch, "watch", false, "keep the picture current until Ctrl-C")
	return cmd
}

// watchGroup draws a group until Ctrl-C, or until all of it serves.
func (a *app) watchGroup(ctx context.Context, name string, untilWhole bool) error {
	return a.live(ctx, func() (string, string, bool, error) {
		g, err := a.readGroup(ctx, name)
		if err != nil {
			return "", "", false, err
		}
		whole := g.Summary.Serving == g.Size && g.Summary.ComingUp == 0 && g.Summary.GoingOut == 0
		return g.picture(), g.Summary.Sentence, untilWhole && whole, nil
	})
}

// groupView is all that a picture of a group shows.
type groupView struct {
	client.Group
	instances []client.Instance
	rollout   *client.Rollout
}

func (a *app) readGroup(ctx context.Context, name string) (groupView, error) {
	var v groupView
	var err error
	v.Group, _, err = ask[client.Group](a, func(c *client.Client) (*http.Response, error) { return c.GetGroup(ctx, name) })
	if err != nil {
		return v, err
	}
	if v.instances, err = a.instancesOf(ctx, name, false); err != nil {
		return v, err
	}
	if v.Rollout != nil {
		r, _, err := ask[client.Rollout](a, func(c *client.Client) (*http.Response, error) { return c.GetRollout(ctx, *v.Rollout) })
		if err != nil {
			return v, err
		}
		v.rollout = &r
	}
	return v, nil
}

func (a *app) instancesOf(ctx context.Context, name string, gone bool) ([]client.Instance, error) {
	return list(a, func(c *client.Client, after *string) (*http.Response, error) {
		params := &client.ListInstancesParams{After: after, Gone: &gone}
		if name != "" {
			params.Group = &name
		}
		return c.ListInstances(ctx, params)
	}, func(l client.InstanceList) ([]client.Instance, *string) { return l.Items, l.Next })
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
	b.WriteString("\n" + facts("template", v.Template, "size", fmt.Sprintf("%d, between %d and %d", v.Size, v.Min, v.Max),
		"pools", orWord(strings.Join(v.Pools, ", "), "none"), "heals by", v.Heal,
		"settle", spanOf(v.SettleSeconds), "drain", spanOf(v.DrainSeconds)))
	return b.String()
}

// verdicts counts the instances by verdict, and tells the estimate.
func (v groupView) verdicts() string {
	count := map[client.Verdict]int{}
	for _, in := range v.instances {
		count[in.Verdict]++
	}
	text := fmt.Sprintf("%d healthy, %d unhealthy, %d unknown", count[client.Healthy], count[client.Unhealthy], count[client.Unknown])
	if v.Summary.LeftSeconds != nil {
		text += fmt.Sprintf("; about %s left", spanOf(*v.Summary.LeftSeconds))
	}
	return text
}

func orWord(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// slips draws each instance as a tile of text in the row of its zone.
func slips(zones []string, template string, instances []client.Instance) string {
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
			case in.State == client.Lost || (in.State == client.Serving && in.Verdict == client.Unhealthy):
				t = trouble
			case in.State != client.Serving:
				t = waiting
			case in.Version != template:
				t = newer
			}
			b.WriteString(" " + t.paint(in.Slip))
		}
		b.WriteString("\n")
	}
	b.WriteString(faint.paint("  [n] serving  (n) coming up  /n/ on its way out  !n! unhealthy  ~n~ lost; n is the template version") + "\n")
	return b.String()
}

func versions(s client.Summary) string {
	rows := [][]string{{"  version", ">instances", ">serving"}}
	for _, v := range s.Versions {
		rows = append(rows, []string{"  " + v.Version, strconv.Itoa(v.Counted), strconv.Itoa(v.Serving)})
	}
	if len(rows) == 1 {
		return ""
	}
	return table(rows)
}

func instanceTable(instances []client.Instance) string {
	rows := [][]string{{"instance", "zone", "version", "state", ">for", "verdict", ">in flight", "address", "because"}}
	for _, in := range instances {
		rows = append(rows, []string{in.Id, in.Zone, in.Version, string(in.State), span(time.Since(in.Since)), string(in.Verdict),
			strconv.Itoa(in.InFlight), in.Address, clip(in.Why, 60)})
	}
	return orNone(rows, "There are no instances.")
}

func clip(text string, n int) string {
	if r := []rune(text); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return text
}

func (a *app) groupResize() *cobra.Command {
	var to int
	var reason string
	cmd := &cobra.Command{Use: "resize NAME --size N", Short: "Change the size of a group", Args: exactly("NAME"),
		Example: "  unitas group resize timetable --size 8 --reason \"bank holiday\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			before, tag, err := ask[client.Group](a, func(c *client.Client) (*http.Response, error) { return c.GetGroup(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			g, _, err := ask[client.Group](a, func(c *client.Client) (*http.Response, error) {
				return c.ResizeGroup(cmd.Context(), args[0], &client.ResizeGroupParams{IfMatch: &tag}, client.GroupResize{Size: to, Reason: given(cmd, "reason", reason)})
			})
			if err != nil {
				return err
			}
			return a.print(g, func() string {
				return fmt.Sprintf("%s goes from %d to %d, between %d and %d. Watch it with: unitas group show %s --watch\n", g.Name, before.Size, g.Size, g.Min, g.Max, g.Name)
			})
		}}
	cmd.Flags().IntVar(&to, "size", 0, "how many instances there should be")
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is kept in the journal")
	_ = cmd.MarkFlagRequired("size")
	return cmd
}

func (a *app) groupDelete() *cobra.Command {
	var yes, wait bool
	cmd := &cobra.Command{Use: "delete NAME", Short: "Drain and stop all instances of a group, then remove it", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			g, tag, err := ask[client.Group](a, func(c *client.Client) (*http.Response, error) { return c.GetGroup(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			instances, err := a.instancesOf(cmd.Context(), args[0], false)
			if err != nil {
				return err
			}
			if !yes {
				if !term.IsTerminal(int(os.Stdin.Fd())) {
					return misused("deleting %s stops %d instances; say so with --yes", g.Name, len(instances))
				}
				fmt.Fprintf(a.err, "This drains and stops %d instances of %s, takes them out of %s, and removes the group. Its journal stays.\nDelete %s? [y/N] ",
					len(instances), g.Name, orWord(strings.Join(g.Pools, ", "), "no pool"), g.Name)
				answer, _ := bufio.NewReader(os.Stdin).ReadString('\n')
				if !strings.EqualFold(strings.TrimSpace(answer), "y") && !strings.EqualFold(strings.TrimSpace(answer), "yes") {
					return errors.New("nothing was deleted")
				}
			}
			g, _, err = ask[client.Group](a, func(c *client.Client) (*http.Response, error) {
				return c.DeleteGroup(cmd.Context(), args[0], &client.DeleteGroupParams{IfMatch: &tag})
			})
			if err != nil {
				return err
			}
			if !wait {
				return a.print(g, func() string {
					return fmt.Sprintf("%s is being deleted: %d instances drain and stop.\n", g.Name, len(instances))
				})
			}
			return a.live(cmd.Context(), func() (string, string, bool, error) {
				v, err := a.readGroup(cmd.Context(), args[0])
				if client.Is(err, "not-found") {
					return args[0] + " is deleted.\n", args[0] + " is deleted.", true, nil
				}
				if err != nil {
					return "", "", false, err
				}
				return v.picture(), v.Summary.Sentence, false, nil
			})
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().BoolVar(&wait, "wait", false, "watch until it is gone")
	return cmd
}

func (a *app) instanceCommand() *cobra.Command {
	var of string
	var gone bool
	listing := &cobra.Command{Use: "list", Short: "List instances", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			instances, err := a.instancesOf(cmd.Context(), of, gone)
			if err != nil {
				return err
			}
			return a.print(instances, func() string { return instanceTable(instances) })
		}}
	listing.Flags().StringVar(&of, "group", "", "only those of this `GROUP`")
	listing.Flags().BoolVar(&gone, "gone", false, "show those that are gone as well")
	showing := &cobra.Command{Use: "show INSTANCE", Short: "Show one instance with the last answers of its checks", Args: exactly("INSTANCE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			in, _, err := ask[client.Instance](a, func(c *client.Client) (*http.Response, error) { return c.GetInstance(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(in, func() string { return instancePicture(in) })
		}}
	logging := &cobra.Command{Use: "boot-log INSTANCE", Short: "Print what the machine of an instance has written", Args: exactly("INSTANCE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			log, _, err := ask[string](a, func(c *client.Client) (*http.Response, error) { return c.GetBootLog(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(map[string]string{"instance": args[0], "boot_log": log}, func() string { return log })
		}}
	return group("instance", "Instances: the machines that groups launched", listing, showing, logging)
}

func instancePicture(in client.Instance) string {
	served := ""
	if in.ServedAt != nil {
		served = moment(*in.ServedAt) + ", " + span(in.ServedAt.Sub(in.OrderedAt)) + " after it was ordered"
	}
	pinned := ""
	if in.Pinned {
		pinned = "yes"
	}
	var b strings.Builder
	b.WriteString(facts("instance", in.Id, "group", in.Group, "zone", in.Zone, "version", in.Version, "address", in.Address,
		"state", fmt.Sprintf("%s for %s", in.State, span(time.Since(in.Since))), "because", in.Why, "verdict", string(in.Verdict),
		"in flight", fmt.Sprintf("%d requests", in.InFlight), "pinned", pinned, "ordered", moment(in.OrderedAt), "served", served))
	for _, r := range in.Reports {
		since := ""
		if r.Since != nil {
			since = " for " + span(time.Since(*r.Since))
		}
		fmt.Fprintf(&b, "\n%s says %s%s: %s\n", r.Check, r.Verdict, since, r.Why)
		if r.Answers == nil || len(*r.Answers) == 0 {
			continue
		}
		rows := [][]string{{"  at", ">took", "answer", "what came back"}}
		for _, answer := range *r.Answers {
			good := "good"
			if !answer.Good {
				good = "bad"
			}
			rows = append(rows, []string{"  " + clock(answer.At), fmt.Sprintf("%.1f ms", answer.TookMs), good, answer.Why})
		}
		b.WriteString(table(rows))
	}
	return b.String()
}

func (a *app) journalCommand() *cobra.Command {
	var of, instance string
	var rollout int64
	var limit int
	var follow bool
	cmd := &cobra.Command{Use: "journal", Short: "Everything that happened and every decision, with its cause", Args: exactly(),
		Example: "  unitas journal --group timetable --follow",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if limit < 1 || limit > 1000 {
				return misused("--limit %d: give 1 to 1000", limit)
			}
			params := client.ListJournalParams{Group: given(cmd, "group", of), Instance: given(cmd, "instance", instance), Rollout: given(cmd, "rollout", rollout), Limit: &limit}
			read := func() ([]client.JournalEntry, error) {
				page, _, err := ask[client.JournalList](a, func(c *client.Client) (*http.Response, error) { return c.ListJournal(cmd.Context(), &params) })
				slices.Reverse(page.Items)
				return page.Items, err
			}
			if follow {
				return a.followJournal(cmd.Context(), params, read)
			}
			entries, err := read()
			if err != nil {
				return err
			}
			return a.print(entries, func() string {
				var b strings.Builder
				for _, e := range entries {
					b.WriteString(line(e))
				}
				return orWord(b.String(), "Nothing has happened yet.\n")
			})
		}}
	flags := cmd.Flags()
	flags.StringVar(&of, "group", "", "only what concerns this `GROUP`")
	flags.StringVar(&instance, "instance", "", "only what concerns this `INSTANCE`")
	flags.Int64Var(&rollout, "rollout", 0, "only what concerns the rollout of this `NUMBER`")
	flags.IntVar(&limit, "limit", 50, "how many entries of the past to show, 1 to 1000")
	flags.BoolVar(&follow, "follow", false, "go on with what happens from now on, until Ctrl-C")
	return cmd
}

// followJournal prints the past and then each entry as it is written, once.
func (a *app) followJournal(ctx context.Context, p client.ListJournalParams, past func() ([]client.JournalEntry, error)) error {
	c, err := a.connect()
	if err != nil {
		return err
	}
	printed := int64(0)
	show := func(e client.JournalEntry) error {
		if e.Number <= printed || (p.Instance != nil && or(e.Instance, "") != *p.Instance) ||
			(p.Rollout != nil && (e.Rollout == nil || *e.Rollout != *p.Rollout)) {
			return nil
		}
		printed = e.Number
		if a.output != "table" {
			return json.NewEncoder(a.out).Encode(e)
		}
		_, err := fmt.Fprint(a.out, line(e))
		return err
	}
	catchUp := func() {
		entries, err := past()
		if err != nil {
			fmt.Fprintln(a.err, "unitas:", oneLine(err))
		}
		for _, e := range entries {
			_ = show(e)
		}
	}
	err = c.Events(ctx, or(p.Group, ""), catchUp, func(ev client.Event) error {
		var e client.JournalEntry
		if err := json.Unmarshal(ev.Data, &e); err != nil {
			return fmt.Errorf("read an event: %w", err)
		}
		return show(e)
	})
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return a.explain(err)
}

// line is one entry of the journal.
func line(e client.JournalEntry) string {
	who := ""
	if e.Actor != "unitas" {
		who = " [" + e.Actor + "]"
	}
	return fmt.Sprintf("%s  %s%s, %s%s\n", faint.paint(clock(e.At)), strings.TrimSuffix(e.Text, "."), who,
		faint.paint("because "), e.Because+numbers(e.Numbers))
}

func numbers(m map[string]any) string {
	if len(m) == 0 {
		return ""
	}
	parts := make([]string, 0, len(m))
	for k, v := range m {
		unit := ""
		for suffix, u := range map[string]string{"_seconds": " s", "_bytes": " B"} {
			if name, ok := strings.CutSuffix(k, suffix); ok {
				k, unit = name, u
			}
		}
		parts = append(parts, fmt.Sprintf("%s %v%s", strings.ReplaceAll(k, "_", " "), v, unit))
	}
	return faint.paint(" (" + strings.Join(sorted(parts), ", ") + ")")
}
