package cli

import (
	"encoding/csv"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

func (a *app) costsCommand() *cobra.Command {
	var by, from, to, step string
	var asCSV bool
	cmd := &cobra.Command{Use: "costs", Short: "What instances cost: this month to date, by group or by any label", Args: exactly(),
		Long: `Adds up what instances cost from how long their machines ran and the prices of their
templates, in the currency that the prices are in. Without --from it is this month to
date, in UTC. The bars show the cost of each step, oldest left.`,
		Example: "  unitas costs\n  unitas costs --by label:service --from 2026-11-01 --step day\n  unitas costs --by zone --csv > costs.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			params := contract.GetCostsParams{By: given(cmd, "by", by), Step: given(cmd, "step", contract.GetCostsParamsStep(step))}
			for flag, at := range map[string]**time.Time{"from": &params.From, "to": &params.To} {
				text := map[string]string{"from": from, "to": to}[flag]
				if text == "" {
					continue
				}
				t, err := parseMoment(text)
				if err != nil {
					return misused("--%s %s: give a day such as 2026-11-01 or a time such as 2026-11-01T06:00:00Z", flag, text)
				}
				*at = &t
			}
			costs, _, err := ask[contract.Costs](a, func(c *client.Client) (*http.Response, error) { return c.GetCosts(cmd.Context(), &params) })
			if err != nil {
				return err
			}
			if asCSV {
				return a.costsCSV(costs)
			}
			return a.print(costs, func() string { return costsPicture(costs) })
		}}
	flags := cmd.Flags()
	flags.StringVar(&by, "by", "group", "`WHAT` the costs are told by: group, zone, or label:NAME")
	flags.StringVar(&from, "from", "", "a `DAY` or time in UTC; without it the beginning of this month")
	flags.StringVar(&to, "to", "", "a `DAY` or time in UTC; without it now")
	flags.StringVar(&step, "step", "hour", "the steps of the bars and the CSV: hour or day")
	flags.BoolVar(&asCSV, "csv", false, "write comma-separated values, a line for each step and name")
	return cmd
}

func parseMoment(text string) (time.Time, error) {
	if t, err := time.Parse(time.DateOnly, text); err == nil {
		return t, nil
	}
	return time.Parse(time.RFC3339, text)
}

// costsCSV writes RFC 4180 with a heading.
func (a *app) costsCSV(costs contract.Costs) error {
	w := csv.NewWriter(a.out)
	_ = w.Write([]string{"from", costs.By, "cost"})
	for i := 0; ; i++ {
		at := costs.From.Add(time.Duration(i*costs.StepSeconds) * time.Second)
		if !at.Before(costs.To) {
			break
		}
		for _, l := range costs.Lines {
			_ = w.Write([]string{at.UTC().Format(time.RFC3339), l.Name, strconv.FormatFloat(l.Steps[i], 'f', 6, 64)})
		}
	}
	w.Flush()
	return w.Error()
}

func costsPicture(costs contract.Costs) string {
	rows := [][]string{{costs.By, ">hours", ">cost", ">now per hour", "over time"}}
	for _, l := range costs.Lines {
		rows = append(rows, []string{orWord(l.Name, "(none)"), fmt.Sprintf("%.1f h", l.Hours), amount(l.Cost), amount(l.NowPerHour), bars(l.Steps, 40)})
	}
	if len(rows) == 1 {
		return "Nothing ran between " + moment(costs.From) + " and " + moment(costs.To) + ".\n"
	}
	rows = append(rows, []string{"together", "", amount(costs.Total), amount(costs.NowPerHour), ""})
	return fmt.Sprintf("From %s to %s\n\n", moment(costs.From), moment(costs.To)) + table(rows)
}

// amount writes money with as many digits as small prices need.
func amount(f float64) string {
	if f != 0 && f < 1 {
		return strconv.FormatFloat(f, 'f', 4, 64)
	}
	return strconv.FormatFloat(f, 'f', 2, 64)
}

// bars draws values as a row of at most width bars, neighbours together.
func bars(values []float64, width int) string {
	each := (len(values) + width - 1) / width
	if each == 0 {
		return ""
	}
	var sums []float64
	most := 0.0
	for i := 0; i < len(values); i += each {
		sum := 0.0
		for _, v := range values[i:min(i+each, len(values))] {
			sum += v
		}
		sums = append(sums, sum)
		most = max(most, sum)
	}
	var b strings.Builder
	for _, s := range sums {
		switch {
		case s == 0 || most == 0:
			b.WriteRune('·')
		default:
			b.WriteRune([]rune("▁▂▃▄▅▆▇█")[min(int(s/most*8), 7)])
		}
	}
	return b.String()
}
