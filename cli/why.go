package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

func (a *app) whyCommand() *cobra.Command {
	var wanted bool
	cmd := &cobra.Command{Use: "why INSTANCE|GROUP", Short: "What led to the present state of an instance or a group, with the numbers", Args: exactly("INSTANCE|GROUP"),
		Long: `Prints the entries of the journal that led to the present state, oldest first: of an
instance all of its life, of a group the last twenty that concern it as a whole. With
--wanted, of a group what decisions go by: how many of each version are wanted in each
zone, against how many there are, and what the difference waits for.`,
		Example: "  unitas why timetable-003\n  unitas why timetable\n  unitas why timetable --wanted",
		RunE: func(cmd *cobra.Command, args []string) error {
			if wanted {
				return a.printWanted(cmd.Context(), args[0])
			}
			name, limit := args[0], 1000
			in, _, err := ask[contract.Instance](a, func(c *client.Client) (*http.Response, error) { return c.GetInstance(cmd.Context(), name) })
			params, now := contract.ListJournalParams{Instance: &name, Limit: &limit}, ""
			switch {
			case err == nil:
				now = fmt.Sprintf("%s is %s, because %s.", in.Id, in.State, in.Why)
				if g, _, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) { return c.GetGroup(cmd.Context(), in.Group) }); err == nil && g.Stuck != nil {
					now += fmt.Sprintf(" Nothing can be decided about its group %s now, because %s.", g.Name, *g.Stuck)
				}
			case client.Is(err, "not-found"):
				g, _, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) { return c.GetGroup(cmd.Context(), name) })
				if client.Is(err, "not-found") {
					return fmt.Errorf("there is neither an instance nor a group %s", name)
				}
				if err != nil {
					return err
				}
				params, now = contract.ListJournalParams{Group: &name, Limit: &limit}, g.Summary.Sentence
			default:
				return err
			}
			l, _, err := ask[contract.JournalList](a, func(c *client.Client) (*http.Response, error) { return c.ListJournal(cmd.Context(), &params) })
			if err != nil {
				return err
			}
			chain := l.Items
			if params.Group != nil {
				chain = ofWhole(chain)
			}
			slices.Reverse(chain)
			a.sayZone()
			return a.print(chain, func() string {
				var b strings.Builder
				for _, e := range chain {
					b.WriteString(line(e))
				}
				return b.String() + "\nNow: " + now + "\n"
			})
		}}
	cmd.Flags().BoolVar(&wanted, "wanted", false, "show how many of each version a group wants in each zone, and what that waits for")
	return cmd
}

// printWanted prints what decisions about a group go by.
func (a *app) printWanted(ctx context.Context, group string) error {
	w, _, err := ask[contract.Wanted](a, func(c *client.Client) (*http.Response, error) { return c.GetWanted(ctx, group) })
	if err != nil {
		return err
	}
	return a.print(w, func() string {
		rows := [][]string{{"version, zone", ">there", ">serving", ">stay", ">wanted", "difference"}}
		for _, v := range w.Versions {
			rows = append(rows, []string{v.Version, strconv.Itoa(v.Instances), strconv.Itoa(v.Serving), strconv.Itoa(v.Stay), strconv.Itoa(v.Wanted), difference(v.Instances, v.Wanted)})
			for _, z := range v.Zones {
				name := z.Zone
				if name == "" {
					name = "in no zone of the group"
				}
				rows = append(rows, []string{"  " + name, strconv.Itoa(z.Instances), strconv.Itoa(z.Serving), "", strconv.Itoa(z.Wanted), difference(z.Instances, z.Wanted)})
			}
		}
		text := w.Sentence + "\n\n" + table(rows)
		if len(w.WaitsFor) > 0 {
			text += "\nWhat it waits for:\n  " + strings.Join(w.WaitsFor, "\n  ") + "\n"
		}
		return text
	})
}

// difference tells how far what is there is from what is wanted.
func difference(there, wanted int) string {
	switch {
	case there < wanted:
		return fmt.Sprintf("%d missing", wanted-there)
	case there > wanted:
		return fmt.Sprintf("%d too many", there-wanted)
	}
	return ""
}
