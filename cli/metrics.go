package cli

import (
	"fmt"
	"math"
	"net/http"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

func (a *app) metricCommand() *cobra.Command {
	return group("metric", "Metrics: what instances are measured by, every 15 s", a.metricList(), a.metricShow(), a.metricPush())
}

func (a *app) metricList() *cobra.Command {
	return &cobra.Command{Use: "list GROUP", Short: "List what is measured of a group, with the newest values", Args: exactly("GROUP"),
		RunE: func(cmd *cobra.Command, args []string) error {
			all, _, err := ask[contract.MetricList](a, func(c *client.Client) (*http.Response, error) { return c.ListMetrics(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(all.Items, func() string { return metricTable(all.Items) })
		}}
}

func metricTable(all []contract.Metric) string {
	rows := [][]string{{"metric", ">average", ">95 % within", ">highest", ">of", ">missing", "measured"}}
	for _, m := range all {
		say := func(v *float64) string {
			if v == nil {
				return "-"
			}
			return withUnit(*v, m.Unit)
		}
		at := "-"
		if m.At != nil {
			at = ago(*m.At)
		}
		rows = append(rows, []string{m.Name, say(m.Average), say(m.P95), say(m.Highest), fmt.Sprint(valueOr(m.Of, 0)), fmt.Sprint(valueOr(m.Missing, 0)), at})
	}
	return orNone(rows, "Nothing was measured in the last hour; instances are measured once they serve and their settle time is over.")
}

// withUnit writes a value to three places, bytes with a binary unit.
func withUnit(v float64, unit string) string {
	if unit == " B/s" {
		return size(int64(v)) + "/s"
	}
	digits := 3
	if math.Abs(v) >= 100 {
		return strconv.FormatFloat(v, 'f', 0, 64) + unit
	}
	return strconv.FormatFloat(v, 'g', digits, 64) + unit
}

func (a *app) metricShow() *cobra.Command {
	var over string
	var since time.Duration
	cmd := &cobra.Command{Use: "show GROUP METRIC", Short: "Draw a metric of a group over time, with the lines of its rules", Args: exactly("GROUP", "METRIC"),
		Long: `Draws a metric of a group over time. The last six hours are drawn from what was measured
every 15 s, more from what came of five minutes each; the last 30 days are kept. A dot is
a time in which nothing was measured. Dashes are the lines of rules that go by it.`,
		Example: "  unitas metric show timetable cpu --since 1h\n  unitas metric show timetable requests --aggregate total --since 24h",
		RunE: func(cmd *cobra.Command, args []string) error {
			now := time.Now()
			from := now.Add(-since)
			series, _, err := ask[contract.MetricSeries](a, func(c *client.Client) (*http.Response, error) {
				return c.GetMetric(cmd.Context(), args[0], args[1], &contract.GetMetricParams{Aggregate: &over, Since: &from})
			})
			if err != nil {
				return err
			}
			g, _, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) { return c.GetGroup(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(series, func() string { return seriesPicture(args[0], series, g.Rules, from, now) })
		}}
	cmd.Flags().StringVar(&over, "aggregate", "average", "average, maximum, total, or a percentile such as p95")
	cmd.Flags().DurationVar(&since, "since", time.Hour, "how far back, at most 720h")
	return cmd
}

func seriesPicture(group string, s contract.MetricSeries, rules []contract.Rule, from, to time.Time) string {
	c := chart{from: from, to: to, height: 10, held: time.Duration(s.StepSeconds * 1.5 * float64(time.Second)), say: func(v float64) string { return withUnit(v, s.Unit) }}
	gaps, newest := 0, ""
	for _, p := range s.Points {
		if p.Value == nil {
			gaps++
			continue
		}
		c.points = append(c.points, dot{p.At, *p.Value})
		newest = fmt.Sprintf("%s over %d at %s", withUnit(*p.Value, s.Unit), p.Serving, clock(p.At))
	}
	for _, r := range rules {
		if valueOr(r.Settings.Metric, "") != s.Metric || valueOr(r.Settings.Aggregate, "average") != s.Aggregate {
			continue
		}
		if r.Settings.KeepAt != nil && s.Aggregate != "total" {
			c.lines = append(c.lines, *r.Settings.KeepAt)
		}
		for _, l := range valueOr(r.Settings.Thresholds, nil) {
			c.lines = append(c.lines, l.At)
		}
	}
	text := fmt.Sprintf("%s  %s, %s, a point every %s\n", strong.paint(group), s.Metric, s.Aggregate, spanOf(s.StepSeconds))
	text += c.draw()
	if newest != "" {
		text += "Newest: " + newest + ".\n"
	}
	if gaps > 0 {
		text += fmt.Sprintf("%s without a value.\n", words.Count(gaps, "point"))
	}
	return text
}

func (a *app) metricPush() *cobra.Command {
	var instance string
	cmd := &cobra.Command{Use: "push GROUP NAME VALUE", Short: "Send a value of a metric; rules go by it as push:NAME for 45 s", Args: exactly("GROUP", "NAME", "VALUE"),
		Example: "  unitas metric push timetable waiting 230\n  unitas metric push timetable open_files 812 --instance timetable-003",
		RunE: func(cmd *cobra.Command, args []string) error {
			v, err := strconv.ParseFloat(args[2], 64)
			if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
				return misused("%q is no number", args[2])
			}
			body := contract.PushedValues{}
			body.Values = append(body.Values, struct {
				At       *time.Time `json:"at,omitempty"`
				Instance *string    `json:"instance,omitempty"`
				Name     string     `json:"name"`
				Value    float64    `json:"value"`
			}{Name: args[1], Value: v, Instance: given(cmd, "instance", instance)})
			_, _, err = ask[struct{}](a, func(c *client.Client) (*http.Response, error) { return c.PushMetrics(cmd.Context(), args[0], body) })
			return err
		}}
	cmd.Flags().StringVar(&instance, "instance", "", "the `INSTANCE` that it is of; without it of the group as a whole")
	return cmd
}
