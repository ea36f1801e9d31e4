package cli

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

func (a *app) replicaCommand() *cobra.Command {
	listing := &cobra.Command{Use: "list", Short: "List the services on this database, and who keeps what", Args: exactly(),
		Long: `Lists the services that share the database. Each group is kept by one of them, and
they are spread evenly; any of them answers every request and takes the requests of all
pools. One that is not heard of for seven seconds loses its groups to the others.`,
		Example: "  unitas replica list\n  unitas replica list -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, _, err := ask[contract.ReplicaList](a, func(c *client.Client) (*http.Response, error) { return c.ListReplicas(cmd.Context()) })
			if err != nil {
				return err
			}
			return a.print(l.Items, func() string {
				now := time.Now()
				rows := [][]string{{"replica", "state", "?address", "?version", "?>up for", ">groups", "keeps"}}
				for _, r := range l.Items {
					name, state := r.Name, "alive"
					if r.Self {
						name += " (asked)"
					}
					if r.Stopping {
						state = "stopping"
					}
					if !r.Alive {
						state = "last heard of " + words.Span(now.Sub(r.UntilAt)) + " ago"
					}
					rows = append(rows, []string{name, state, strings.TrimPrefix(r.Address, "http://"), r.Version, words.Span(now.Sub(r.StartedAt)), fmt.Sprint(r.Groups), kept(r.GroupNames, r.Groups)})
				}
				return orNone(rows, "No service is on this database.")
			})
		}}
	cmd := &cobra.Command{Use: "replica", Short: "Services that share the work"}
	cmd.AddCommand(listing)
	return cmd
}

// kept names the first of what a service keeps.
func kept(names []string, all int) string {
	const shown = 4
	if len(names) > shown {
		names = names[:shown]
	}
	text := strings.Join(names, ", ")
	if more := all - len(names); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}
