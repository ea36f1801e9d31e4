package cli

import (
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

func (a *app) serviceCommand() *cobra.Command {
	return &cobra.Command{Use: "service", Short: "What the service is, and what keeps it from working as it should", Args: exactly(),
		Long: `Shows the version of the service, its zones, and its troubles: a database that does
not answer, a disk without room, groups about which nothing can be decided. It ends
with status 3 when there are any, so that a script can ask.`,
		Example: "  unitas service\n  unitas service -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, _, err := ask[contract.Service](a, func(c *client.Client) (*http.Response, error) { return c.GetService(cmd.Context()) })
			if err != nil {
				return err
			}
			if err := a.print(s, func() string {
				text := facts("service", a.server, "version", s.Version, "zones", strings.Join(s.Zones, ", "))
				if len(s.Troubles) == 0 {
					return text + "It is well.\n"
				}
				for _, t := range s.Troubles {
					text += trouble.paint("▲ "+t) + "\n"
				}
				return text
			}); err != nil {
				return err
			}
			if len(s.Troubles) > 0 {
				return badEnd{"the service is in trouble: " + strings.Join(s.Troubles, " ")}
			}
			return nil
		}}
}
