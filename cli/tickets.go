package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

func (a *app) ticketCommand() *cobra.Command {
	var of string
	var all bool
	listing := &cobra.Command{Use: "list", Short: "List the tickets that are open, whose deadline comes first on top", Args: exactly(),
		Example: "  unitas ticket list --group timetable",
		RunE: func(cmd *cobra.Command, _ []string) error {
			tickets, err := a.tickets(cmd.Context(), of, all)
			if err != nil {
				return err
			}
			return a.print(tickets, func() string { return ticketTable(tickets) })
		}}
	listing.Flags().StringVar(&of, "group", "", "only those of this `GROUP`")
	listing.Flags().BoolVar(&all, "all", false, "show those that are closed as well, of each instance's present launch")
	return group("ticket", "Tickets: one for each instance that a hook holds",
		listing, a.ticketShow(), a.ticketAnswer(contract.Pass, "Let the instance go on"), a.ticketAnswer(contract.Fail, "Have it removed and replaced (at launch), or removed all the same (at retire)"),
		a.ticketExtend(), a.ticketSend())
}

// tickets are sorted: those that are open first, by deadline.
func (a *app) tickets(ctx context.Context, of string, all bool) ([]contract.Ticket, error) {
	tickets, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
		params := &contract.ListTicketsParams{After: after, All: &all}
		if of != "" {
			params.Group = &of
		}
		return c.ListTickets(ctx, params)
	}, func(l contract.TicketList) ([]contract.Ticket, *string) { return l.Items, l.Next })
	sortTickets(tickets)
	return tickets, err
}

func sortTickets(all []contract.Ticket) {
	slices.SortStableFunc(all, func(x, y contract.Ticket) int {
		if a, b := x.State == contract.TicketStateOpen, y.State == contract.TicketStateOpen; a != b {
			return map[bool]int{true: -1, false: 1}[a]
		}
		return x.DeadlineAt.Compare(y.DeadlineAt)
	})
}

// splitTicket takes INSTANCE/HOOK apart.
func splitTicket(ref string) (instance, hook string, err error) {
	instance, hook, found := strings.Cut(ref, "/")
	if !found || instance == "" || hook == "" {
		return "", "", misused("%q is no ticket; give INSTANCE/HOOK as unitas ticket list shows it", ref)
	}
	return instance, hook, nil
}

func (a *app) ticketShow() *cobra.Command {
	return &cobra.Command{Use: "show INSTANCE/HOOK", Short: "Show one ticket, with what was sent or run for it", Args: exactly("INSTANCE/HOOK"),
		RunE: func(cmd *cobra.Command, args []string) error {
			instance, hook, err := splitTicket(args[0])
			if err != nil {
				return err
			}
			in, _, err := ask[contract.Instance](a, func(c *client.Client) (*http.Response, error) { return c.GetInstance(cmd.Context(), instance) })
			if err != nil {
				return err
			}
			for _, t := range in.Tickets {
				if t.Hook != hook {
					continue
				}
				sent, _, err := ask[contract.DeliveryList](a, func(c *client.Client) (*http.Response, error) {
					return c.ListDeliveries(cmd.Context(), t.Group, &contract.ListDeliveriesParams{Hook: &hook, Instance: &instance})
				})
				if err != nil {
					return err
				}
				return a.print(struct {
					contract.Ticket
					Deliveries []contract.Delivery `json:"deliveries"`
				}{t, sent.Items}, func() string { return ticketPicture(t, sent.Items) })
			}
			return fmt.Errorf("%s has no ticket of a hook %s; see: unitas ticket list --group %s --all", instance, hook, in.Group)
		}}
}

func ticketPicture(t contract.Ticket, sent []contract.Delivery) string {
	text := facts("ticket", t.Instance+"/"+t.Hook, "group", t.Group, "at", string(t.At), "state", string(t.State), "so far", t.Sentence,
		"opened", moment(t.OpenedAt), "deadline", moment(t.DeadlineAt), "latest deadline", moment(t.MaxDeadlineAt))
	for _, d := range sent {
		if d.Kind == contract.DeliveryKindCommand && d.Response != "" {
			text += fmt.Sprintf("\nThe command wrote, at %s:\n%s\n", clock(d.At), strings.TrimRight(d.Response, "\n"))
			break
		}
	}
	return text + "\n" + deliveryTable(sent)
}

func ticketTable(tickets []contract.Ticket) string {
	rows := [][]string{{"ticket", "?group", "?at", "state", "?>held", ">left", "so far"}}
	for _, t := range tickets {
		left := "-"
		if t.State == contract.TicketStateOpen {
			left = spanOf(max(time.Until(t.DeadlineAt).Seconds(), 0))
		}
		held := 0.0
		if t.HeldSeconds != nil {
			held = *t.HeldSeconds
		}
		rows = append(rows, []string{t.Instance + "/" + t.Hook, t.Group, string(t.At), string(t.State), spanOf(held), left, t.Sentence})
	}
	return orNone(rows, "No ticket is open: no hook holds an instance.")
}

// ticketAnswer is a command that answers.
func (a *app) ticketAnswer(answer contract.TicketChoice, short string) *cobra.Command {
	var note string
	cmd := &cobra.Command{Use: string(answer) + " INSTANCE/HOOK", Short: short, Args: exactly("INSTANCE/HOOK"),
		Example: fmt.Sprintf("  unitas ticket %s timetable-003/warm-cache --note \"looked at it by hand\"", answer),
		RunE: func(cmd *cobra.Command, args []string) error {
			instance, hook, err := splitTicket(args[0])
			if err != nil {
				return err
			}
			t, _, err := ask[contract.Ticket](a, func(c *client.Client) (*http.Response, error) {
				return c.AnswerTicket(cmd.Context(), instance, hook, contract.TicketAnswer{Answer: answer, Note: given(cmd, "note", note)})
			})
			if err != nil {
				return err
			}
			return a.print(t, func() string { return fmt.Sprintf("%s: %s.\n", args[0], t.Sentence) })
		}}
	cmd.Flags().StringVar(&note, "note", "", "why; it is kept with the ticket and in the journal")
	return cmd
}

func (a *app) ticketExtend() *cobra.Command {
	var by time.Duration
	var note string
	cmd := &cobra.Command{Use: "extend INSTANCE/HOOK --by TIME", Short: "Move a ticket's deadline, up to the hook's bound", Args: exactly("INSTANCE/HOOK"),
		Example: "  unitas ticket extend timetable-003/warm-cache --by 5m --note \"still copying\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			instance, hook, err := splitTicket(args[0])
			if err != nil {
				return err
			}
			t, _, err := ask[contract.Ticket](a, func(c *client.Client) (*http.Response, error) {
				return c.ExtendTicket(cmd.Context(), instance, hook, contract.TicketExtension{BySeconds: by.Seconds(), Note: given(cmd, "note", note)})
			})
			if err != nil {
				return err
			}
			return a.print(t, func() string { return fmt.Sprintf("%s: %s.\n", args[0], t.Sentence) })
		}}
	cmd.Flags().DurationVar(&by, "by", 0, "how much later it is from now on")
	cmd.Flags().StringVar(&note, "note", "", "why; it is kept in the journal")
	_ = cmd.MarkFlagRequired("by")
	return cmd
}

func (a *app) ticketSend() *cobra.Command {
	return &cobra.Command{Use: "send INSTANCE/HOOK", Short: "Tell whoever the hook names once more, now", Args: exactly("INSTANCE/HOOK"),
		RunE: func(cmd *cobra.Command, args []string) error {
			instance, hook, err := splitTicket(args[0])
			if err != nil {
				return err
			}
			sent, _, err := ask[contract.DeliveryList](a, func(c *client.Client) (*http.Response, error) { return c.SendTicket(cmd.Context(), instance, hook) })
			if err != nil {
				return err
			}
			return a.print(sent.Items, func() string { return deliveryTable(sent.Items) })
		}}
}
