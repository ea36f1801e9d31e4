package cli

import (
	"cmp"
	"fmt"
	"net/http"
	"strconv"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

func (a *app) groupList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List groups", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			headline := ""
			groups, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
				return c.ListGroups(cmd.Context(), &contract.ListGroupsParams{After: after})
			}, func(l contract.GroupList) ([]contract.Group, *string) {
				headline = cmp.Or(value(l.Sentence), headline)
				return l.Items, l.Next
			})
			if err != nil {
				return err
			}
			return a.print(groups, func() string {
				rows := [][]string{{"group", "condition", ">serving", ">size", "?>between", "?template", "now"}}
				for _, g := range groups {
					rows = append(rows, []string{g.Name, conditions[g.Summary.Condition], strconv.Itoa(g.Summary.Serving), strconv.Itoa(g.Size), fmt.Sprintf("%d and %d", g.Min, g.Max), g.Template, g.Summary.Sentence})
				}
				if len(groups) > 0 {
					headline = strong.paint(headline) + "\n\n"
				} else {
					headline = ""
				}
				return headline + orNone(rows, "There are no groups yet; make one with: unitas group create NAME --template NAME@N --size N") + needs(groups)
			})
		}}
}

// conditions are how a group stands, in words with a sign where it is bad.
var conditions = map[contract.SummaryCondition]string{contract.Down: "■ down", contract.Short: "▲ short", contract.Changing: "… changing", contract.Complete: "complete"}

// needs are what waits for a person, a line each.
func needs(groups []contract.Group) string {
	var text string
	for _, g := range groups {
		for _, n := range g.Summary.Needs {
			text += trouble.paint("▲ "+g.Name) + ": " + n + "\n"
		}
	}
	if text != "" {
		text = "\n" + text
	}
	return text
}
