package cli

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"regexp"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

func (a *app) ruleCommand() *cobra.Command {
	return group("rule", "Rules: what changes the size of a group by itself, by load and by calendar",
		a.ruleList(), a.ruleShow(), a.ruleAdd(), a.ruleSet(), a.ruleRemove(), a.ruleTry(), a.ruleReplay(), a.ruleImport(), a.ruleExport())
}

// ruleFlags are the settings of a rule.
type ruleFlags struct {
	metric, aggregate, when, timeZone string
	thresholds                        []string
	keepAt, band, shrinkRate          float64
	cooldown, calm, duration          time.Duration
	growOnly, forecast, off, dry      bool
	least, most, size                 int
}

func (f *ruleFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.BoolVar(&f.off, "off", false, "it asks for nothing; what it would ask is shown")
	flags.StringVar(&f.metric, "metric", "", "trip, steady: what it goes by: cpu, memory, network-in, network-out, requests, latency, scrape:NAME or push:NAME")
	flags.StringVar(&f.aggregate, "aggregate", "", "trip, steady: how the values of all instances are one: average, maximum, total, or a percentile such as p95 (default average)")
	flags.DurationVar(&f.cooldown, "cooldown", 0, "trip, steady: how long after it acted it may not act again (default 1m for trip, 0s for steady)")
	flags.StringArrayVar(&f.thresholds, "threshold", nil, "trip: a `THRESHOLD` such as 'above 70 for 2m: +1' or 'below 30 for 10m: -25%'; may be given again")
	flags.Float64Var(&f.keepAt, "keep-at", 0, "steady: the `VALUE` that the metric is kept near; of a total, for one instance")
	flags.Float64Var(&f.band, "band", 0, "steady: how far off that value nothing happens, in percent of it (default 10)")
	flags.DurationVar(&f.calm, "calm", 0, "steady: how long a lower need must have lasted before it shrinks (default 5m)")
	flags.Float64Var(&f.shrinkRate, "shrink-rate", 0, "steady: how much of the size it takes away within a minute at most, in percent (default 20)")
	flags.BoolVar(&f.growOnly, "grow-only", false, "steady: never shrink")
	flags.BoolVar(&f.forecast, "forecast", false, "steady: grow early to what the same hour of the week needed in the last four weeks")
	flags.StringVar(&f.when, "when", "", "calendar: a recurrence (FREQ=WEEKLY;BYDAY=MO;BYHOUR=7), a crontab line (30 7 * * 1-5), a time (2026-12-24 18:00), or now")
	flags.StringVar(&f.timeZone, "time-zone", "", "calendar: the IANA time `ZONE` by whose clock that is (default UTC)")
	flags.DurationVar(&f.duration, "duration", 0, "calendar: how long it lasts; without it from then on")
	flags.IntVar(&f.least, "min", 0, "calendar: the min then; -1 leaves it as it is")
	flags.IntVar(&f.most, "max", 0, "calendar: the max then; -1 leaves it as it is")
	flags.IntVar(&f.size, "size", 0, "calendar: the size then; -1 leaves it as it is")
	flags.BoolVar(&f.dry, "dry-run", false, "only show what it would mean: its next times, what it meets, and advice")
}

var linePattern = regexp.MustCompile(`^\s*(above|below)\s+(-?[0-9]+(?:\.[0-9]+)?)\s*%?\s+for\s+([0-9][0-9a-z.]*)\s*:\s*(\S+)\s*$`)

// settings are those that were given.
func (f *ruleFlags) settings(cmd *cobra.Command) (contract.RuleSettings, error) {
	s := contract.RuleSettings{Off: given(cmd, "off", f.off), Metric: given(cmd, "metric", f.metric), Aggregate: given(cmd, "aggregate", f.aggregate), CooldownSeconds: secondsOf(cmd, "cooldown", f.cooldown),
		KeepAt: given(cmd, "keep-at", f.keepAt), BandPercent: given(cmd, "band", f.band), CalmSeconds: secondsOf(cmd, "calm", f.calm), ShrinkRatePercent: given(cmd, "shrink-rate", f.shrinkRate),
		GrowOnly: given(cmd, "grow-only", f.growOnly), Forecast: given(cmd, "forecast", f.forecast), When: given(cmd, "when", f.when), TimeZone: given(cmd, "time-zone", f.timeZone), DurationSeconds: secondsOf(cmd, "duration", f.duration),
		Min: given(cmd, "min", f.least), Max: given(cmd, "max", f.most), Size: given(cmd, "size", f.size)}
	if cmd.Flags().Changed("threshold") {
		var lines []contract.Threshold
		for _, text := range f.thresholds {
			m := linePattern.FindStringSubmatch(text)
			if m == nil {
				return s, misused("--threshold %q is no threshold; write it such as: above 70 for 2m: +1, or: below 30 for 10m: -25%%", text)
			}
			at, _ := strconv.ParseFloat(m[2], 64)
			lasts, err := time.ParseDuration(m[3])
			if err != nil {
				return s, misused("--threshold %q: %s is no time; give one such as 90s or 5m", text, m[3])
			}
			lines = append(lines, contract.Threshold{Way: contract.ThresholdWay(m[1]), At: at, ForSeconds: lasts.Seconds(), Step: m[4]})
		}
		s.Thresholds = &lines
	}
	if s.KeepAt != nil && (math.IsNaN(*s.KeepAt) || math.IsInf(*s.KeepAt, 0)) {
		return s, misused("--keep-at is no number")
	}
	return s, nil
}

func (a *app) ruleAdd() *cobra.Command {
	var f ruleFlags
	cmd := &cobra.Command{Use: "add GROUP NAME trip|steady|calendar", Short: "Add a rule to a group", Args: exactly("GROUP", "NAME", "KIND"),
		Long: `Adds a rule that changes the size of a group by itself. Three kinds:

  trip       a metric that stays past a threshold for a time changes the size by a count
             (+2), a share (+50%, at least one) or to a number (=8); several thresholds
             make bigger steps further out
  steady     a metric is kept near a value: it grows at once to what is needed, and
             shrinks once the lower need has lasted (calm), no faster than shrink-rate
  calendar   at certain times min, max or size are others, for a duration or from then on

Of several rules the one that asks for most wins when growing; to shrink all must agree.
Calendars move the bounds inside which the others act. What is missing or old never
makes a group smaller. A rule that is off is shown and does nothing.`,
		Example: "  unitas rule add timetable even steady --metric cpu --keep-at 60\n" +
			"  unitas rule add timetable queue steady --metric push:waiting --aggregate total --keep-at 100 --calm 10m\n" +
			"  unitas rule add timetable busy trip --metric latency --aggregate p95 --threshold 'above 300 for 2m: +1' --threshold 'above 900 for 1m: +50%' --threshold 'below 80 for 15m: -1'\n" +
			"  unitas rule add timetable mornings calendar --when '30 5 * * 1-5' --time-zone Europe/Paris --duration 4h --min 4 --dry-run\n" +
			"  unitas rule add timetable regatta calendar --when '2026-12-24 18:00' --time-zone Europe/Paris --duration 6h --size 8",
		RunE: func(cmd *cobra.Command, args []string) error {
			kind := contract.RuleKind(args[2])
			if kind != contract.Trip && kind != contract.Steady && kind != contract.Calendar {
				return misused("%q is no kind of rule; give trip, steady or calendar", args[2])
			}
			settings, err := f.settings(cmd)
			if err != nil {
				return err
			}
			tag, err := a.groupTag(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			review, _, err := ask[contract.RuleReview](a, func(c *client.Client) (*http.Response, error) {
				return c.AddRule(cmd.Context(), args[0], &contract.AddRuleParams{IfMatch: &tag, DryRun: &f.dry}, contract.NewRule{Name: args[1], Kind: kind, Settings: settings})
			})
			if err != nil {
				return err
			}
			return a.print(review, func() string {
				text := reviewPicture(review)
				if f.dry {
					return text + "\nNothing was made.\n"
				}
				return text + fmt.Sprintf("\nIt counts from now on. What it asks for: unitas rule list %s\n", args[0])
			})
		}}
	f.add(cmd)
	return cmd
}

func (a *app) ruleSet() *cobra.Command {
	var f ruleFlags
	cmd := &cobra.Command{Use: "set GROUP RULE", Short: "Change settings of a rule, only those that are given", Args: exactly("GROUP", "RULE"),
		Example: "  unitas rule set timetable even --keep-at 55 --dry-run\n  unitas rule set timetable even --off",
		RunE: func(cmd *cobra.Command, args []string) error {
			settings, err := f.settings(cmd)
			if err != nil {
				return err
			}
			if settings == (contract.RuleSettings{}) {
				return misused("nothing to change; give a setting such as --keep-at")
			}
			tag, err := a.groupTag(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			review, _, err := ask[contract.RuleReview](a, func(c *client.Client) (*http.Response, error) {
				return c.ChangeRule(cmd.Context(), args[0], args[1], &contract.ChangeRuleParams{IfMatch: &tag, DryRun: &f.dry}, settings)
			})
			if err != nil {
				return err
			}
			return a.print(review, func() string {
				if f.dry {
					return reviewPicture(review) + "\nNothing was changed.\n"
				}
				return reviewPicture(review)
			})
		}}
	f.add(cmd)
	return cmd
}

// reviewPicture is what a rule means.
func reviewPicture(r contract.RuleReview) string {
	text := fmt.Sprintf("%s  %s\n", strong.paint(r.Rule.Name), r.Rule.Says)
	if r.LastsUntil != nil {
		text += "It lasts now, until " + moment(*r.LastsUntil) + ".\n"
	}
	if r.Rule.Kind == contract.Calendar {
		text += timesPicture(r.Next, valueOr(r.Rule.Settings.TimeZone, "UTC"))
	}
	for _, o := range r.Overlaps {
		text += "\n" + waiting.paint(o) + "\n"
	}
	if len(r.Advice) > 0 {
		text += "\n" + advices(r.Advice)
	}
	return text
}

// timesPicture are the next times of a calendar, by the clock of its place.
func timesPicture(next []time.Time, in string) string {
	if len(next) == 0 {
		return "It never comes again.\n"
	}
	place, err := time.LoadLocation(in)
	if err != nil {
		place = time.UTC
	}
	text := "Next:\n"
	for _, at := range next {
		text += fmt.Sprintf("  %s, in %s\n", at.In(place).Format("Mon 2006-01-02 15:04 MST"), spanOf(math.Round(time.Until(at).Minutes())*60))
	}
	return text
}

func (a *app) rules(ctx context.Context, name string) (contract.RuleList, error) {
	all, _, err := ask[contract.RuleList](a, func(c *client.Client) (*http.Response, error) { return c.ListRules(ctx, name) })
	return all, err
}

func (a *app) ruleList() *cobra.Command {
	return &cobra.Command{Use: "list GROUP", Short: "List the rules of a group with what they think now", Args: exactly("GROUP"),
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := a.rules(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(all, func() string { return rulesPicture(all) })
		}}
}

// rulesPicture is the sentence, and each rule with what it asks for and why.
func rulesPicture(all contract.RuleList) string {
	if len(all.Items) == 0 {
		return all.Sentence + " Add one with: unitas rule add GROUP NAME steady --metric cpu --keep-at 60\n"
	}
	rows := [][]string{{"rule", "kind", "asks", ">wants", "why"}}
	for _, r := range all.Items {
		wants := "-"
		if r.Wants != nil {
			wants = fmt.Sprint(*r.Wants)
		}
		asks := string(r.Asks)
		if r.Rule.Off {
			asks = "off"
		}
		rows = append(rows, []string{r.Rule.Name, string(r.Rule.Kind), asks, wants, r.Why})
	}
	return all.Sentence + "\n\n" + table(rows)
}

func (a *app) ruleShow() *cobra.Command {
	return &cobra.Command{Use: "show GROUP RULE", Short: "Show a rule: its settings, what it asks for and why, when it comes next", Args: exactly("GROUP", "RULE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := a.rules(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			for _, r := range all.Items {
				if r.Rule.Name == args[1] {
					return a.print(r, func() string { return rulePicture(r) })
				}
			}
			return fmt.Errorf("the group %s has no rule %s; see: unitas rule list %s", args[0], args[1], args[0])
		}}
}

func rulePicture(r contract.RuleNow) string {
	text := fmt.Sprintf("%s  %s\n\n", strong.paint(r.Rule.Name), r.Rule.Says)
	acted, cools := "never", ""
	if r.ActedAt != nil {
		acted = moment(*r.ActedAt)
	}
	if r.CoolsUntil != nil {
		cools = "for " + spanOf(time.Until(*r.CoolsUntil).Seconds())
	}
	text += facts("why", r.Why, "acted last", acted, "cools down", cools)
	if r.Next != nil {
		text += "\n" + timesPicture(*r.Next, valueOr(r.Rule.Settings.TimeZone, "UTC"))
	}
	return text
}

func (a *app) ruleRemove() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "remove GROUP RULE", Short: "Take a rule away; the size stays as it is, within the group's own bounds", Args: exactly("GROUP", "RULE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			tag, err := a.groupTag(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if err := a.confirm(yes, fmt.Sprintf("removing the rule %s", args[1]), fmt.Sprintf("This takes the rule %s of %s away. The size stays as it is, within the group's own min and max.\nRemove it?", args[1], args[0])); err != nil {
				return err
			}
			if _, _, err := ask[struct{}](a, func(c *client.Client) (*http.Response, error) {
				return c.RemoveRule(cmd.Context(), args[0], args[1], &contract.RemoveRuleParams{IfMatch: &tag})
			}); err != nil {
				return err
			}
			return a.print(map[string]string{"removed": args[1]}, func() string { return fmt.Sprintf("The rule %s sizes %s no more.\n", args[1], args[0]) })
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

func (a *app) ruleTry() *cobra.Command {
	var value float64
	var act bool
	cmd := &cobra.Command{Use: "try GROUP RULE --value VALUE", Short: "Show what a rule would decide if its metric were, and had been, a value", Args: exactly("GROUP", "RULE"),
		Long: `Shows what a rule would decide, and why, if its metric were the value and had been for
long enough. Nothing is changed; with --act it is, as a decision by a person that names
the rule and the value in the journal.`,
		Example: "  unitas rule try timetable even --value 65\n  unitas rule try timetable even --value 90 --act",
		RunE: func(cmd *cobra.Command, args []string) error {
			tag, err := a.groupTag(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			tried, _, err := ask[contract.RuleTried](a, func(c *client.Client) (*http.Response, error) {
				return c.TryRule(cmd.Context(), args[0], args[1], &contract.TryRuleParams{IfMatch: &tag}, contract.RuleTrial{Value: value, Act: &act})
			})
			if err != nil {
				return err
			}
			return a.print(tried, func() string {
				switch {
				case tried.Acted:
					return tried.Sentence + fmt.Sprintf("\nDone: the size of %s is %d now.\n", args[0], tried.Wants)
				case tried.Wants != tried.Size:
					return tried.Sentence + fmt.Sprintf("\nNothing was changed. To do it: unitas rule try %s %s --value %g --act\n", args[0], args[1], value)
				}
				return tried.Sentence + "\n"
			})
		}}
	cmd.Flags().Float64Var(&value, "value", 0, "what the metric is supposed to be, in its unit")
	cmd.Flags().BoolVar(&act, "act", false, "do it, as a decision by a person")
	_ = cmd.MarkFlagRequired("value")
	return cmd
}
