package cli

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

func (a *app) serviceCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "service", Short: "What the service is, and what keeps it from working as it should", Args: exactly(),
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
				for _, m := range s.Strays {
					text += fmt.Sprintf("no record knows the machine %s; it is stopped in %s\n", m.Machine, spanOf(m.StopsInSeconds))
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
	cmd.AddCommand(a.resumeCommand(), a.stopStraysCommand())
	return cmd
}

// resumeCommand ends that restored records are only looked at.
func (a *app) resumeCommand() *cobra.Command {
	var yes, dry bool
	var reason string
	cmd := &cobra.Command{Use: "resume", Short: "Have a service act again on records that were restored from a backup", Args: exactly(),
		Long: `A service whose records were restored only shows what it finds. Once it is resumed it
launches, heals and stops machines by these records, and its listeners open.`,
		Example: "  unitas service resume --reason \"looked at with ada\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, _, err := ask[contract.Service](a, func(c *client.Client) (*http.Response, error) { return c.GetService(cmd.Context()) })
			if err != nil {
				return err
			}
			if dry && s.Restored == nil {
				return a.print(map[string]bool{"acts": true}, func() string { return "The service acts already; nothing would change.\n" })
			}
			if r := s.Restored; r != nil {
				if dry {
					return a.print(r, func() string { return strings.TrimSuffix(resuming(*r), "\nResume?") + "\n" })
				}
				if err := a.confirm(yes, "resuming has machines launched and stopped by restored records", resuming(*r)); err != nil {
					return err
				}
			}
			if _, _, err := ask[struct{}](a, func(c *client.Client) (*http.Response, error) {
				return c.ResumeService(cmd.Context(), nil, contract.ServiceResume{Reason: given(cmd, "reason", reason)})
			}); err != nil {
				return err
			}
			return a.print(map[string]bool{"resumed": true}, func() string { return "The service acts again; see: unitas group list\n" })
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only say what would come of it")
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is kept in the journal")
	return cmd
}

// resuming says what follows from the records.
func resuming(r contract.RestoredRecords) string {
	text := fmt.Sprintf("The records are of %s. Of %s that should have machines %d have theirs and go on.", moment(r.TakenAt), words.Count(r.Instances, "instance"), r.Present)
	if n := r.Other + r.Absent; n > 0 {
		text += fmt.Sprintf(" %s replaced: %d have a machine of another version, %d have none.", words.Are(n, "instance"), r.Other, r.Absent)
	}
	if r.Unknown > 0 {
		text += fmt.Sprintf(" No record knows %s: told, and stopped after the stray grace.", words.Count(r.Unknown, "machine"))
	}
	return text + "\nResume?"
}

// stopStraysCommand stops machines that no record knows without waiting for their grace.
func (a *app) stopStraysCommand() *cobra.Command {
	var yes, dry bool
	var reason string
	cmd := &cobra.Command{Use: "stop-strays [MACHINE…]", Short: "Stop machines at once that no record knows; without names all of them", Args: cobra.ArbitraryArgs,
		Long: `A machine that belongs to no record runs on for a while (unitas serve --stray-grace), so that
somebody can see whether the records are the right ones. This stops such machines now.`,
		Example: "  unitas service stop-strays timetable-00a\n  unitas service stop-strays --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, _, err := ask[contract.Service](a, func(c *client.Client) (*http.Response, error) { return c.GetService(cmd.Context()) })
			if err != nil {
				return err
			}
			if len(args) == 0 {
				for _, m := range s.Strays {
					args = append(args, m.Machine)
				}
			}
			if len(args) == 0 {
				return a.print(map[string][]string{"stopped": {}}, func() string { return "There are no strays.\n" })
			}
			names := strings.Join(args, ", ")
			if dry {
				return a.print(map[string][]string{"would_stop": args}, func() string { return "This would stop " + names + ".\n" })
			}
			if err := a.confirm(yes, "stopping strays removes their files", fmt.Sprintf("This stops %s and removes %s files.\nStop %s?", names, either(len(args), "its", "their"), either(len(args), "it", "them"))); err != nil {
				return err
			}
			if _, _, err := ask[struct{}](a, func(c *client.Client) (*http.Response, error) {
				return c.StopStrays(cmd.Context(), nil, contract.StopStrays{Machines: args, Reason: given(cmd, "reason", reason)})
			}); err != nil {
				return err
			}
			return a.print(map[string][]string{"stopped": args}, func() string { return names + either(len(args), " is", " are") + " stopped.\n" })
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only say what would come of it")
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is kept in the journal")
	return cmd
}
