package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

func (a *app) hookCommand() *cobra.Command {
	return group("hook", "Hooks: instances are held before they serve, or before their machine stops, until somebody answers",
		a.hookAdd(), a.hookSet(), a.hookRemove(), a.hookList(), a.hookTry(), a.hookSecret(), a.hookDeliveries())
}

// hookFlags are the settings of a hook.
type hookFlags struct {
	at, otherwise, send   string
	deadline, maxDeadline time.Duration
}

func (f *hookFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.at, "at", "", "launch (after boot, before it may serve) or retire (after its drain, before its machine stops)")
	flags.DurationVar(&f.deadline, "deadline", 2*time.Minute, "how long an answer may take")
	flags.DurationVar(&f.maxDeadline, "max-deadline", 0, "how long with all extensions (default four deadlines)")
	flags.StringVar(&f.otherwise, "otherwise", "", "pass or fail: what counts when nobody answers in time (default fail at launch, pass at retire)")
	flags.StringVar(&f.send, "send", "", "the `URL` that a signed message goes to about each ticket")
}

// hookArgs takes GROUP HOOK, and a command after --.
func hookArgs(cmd *cobra.Command, args []string) error {
	n := cmd.ArgsLenAtDash()
	if n < 0 {
		n = len(args)
	}
	if n != 2 {
		return misused("takes GROUP HOOK, and was given %d before --", n)
	}
	return nil
}

func (a *app) hookAdd() *cobra.Command {
	var f hookFlags
	cmd := &cobra.Command{Use: "add GROUP HOOK --at launch|retire [-- COMMAND…]", Short: "Hold each instance at one point until somebody answers", Args: hookArgs,
		Long: `Adds a hook to a group: each instance that comes to its point from now on is held
there with a ticket, until that is answered pass or fail. Who answers:

  --send URL     a signed message goes there (a CloudEvent, signed as the Standard
                 Webhooks specification says); its response may be the answer:
                 {"answer": "pass", "note": "warmed 120 sailings"}
  -- COMMAND…    the command is run in the instance; exit status 0 passes. It may be
                 run a second time when the service was killed meanwhile
  neither        people, or programs that look: unitas ticket pass INSTANCE/HOOK

Failed at launch, the instance is removed and another launched; failed at retire, it
goes all the same, and that is said. Several hooks of a point hold one after another,
or at once: unitas group set NAME --hooks-at-once.`,
		Example: "  unitas hook add timetable warm-cache --at launch --send http://127.0.0.1:8099/warm --deadline 1m\n" +
			"  unitas hook add timetable save-logs --at retire -- sh -c 'cp -r logs /srv/logs'",
		RunE: func(cmd *cobra.Command, args []string) error {
			body := contract.NewHook{Name: args[1], At: contract.HookPoint(f.at), DeadlineSeconds: given(cmd, "deadline", f.deadline.Seconds()), MaxDeadlineSeconds: given(cmd, "max-deadline", f.maxDeadline.Seconds()),
				Otherwise: given(cmd, "otherwise", contract.TicketChoice(f.otherwise)), Send: given(cmd, "send", f.send)}
			if len(args) > 2 {
				command := args[2:]
				body.Run = &command
			}
			tag, err := a.groupTag(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			g, _, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) {
				return c.AddHook(cmd.Context(), args[0], &contract.AddHookParams{IfMatch: &tag}, body)
			})
			if err != nil {
				return err
			}
			return a.print(g.Hooks, func() string {
				text := fmt.Sprintf("From now on %s holds the instances of %s at %s.\n", args[1], args[0], f.at)
				if f.send != "" {
					text += fmt.Sprintf("Its messages are signed; the secret is shown by: unitas hook secret %s %s\nTry it with: unitas hook try %s %s\n", args[0], args[1], args[0], args[1])
				}
				return text
			})
		}}
	f.add(cmd)
	_ = cmd.MarkFlagRequired("at")
	return cmd
}

func (a *app) groupTag(ctx context.Context, name string) (string, error) {
	_, tag, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) { return c.GetGroup(ctx, name) })
	return tag, err
}

func (a *app) hookSet() *cobra.Command {
	var f hookFlags
	cmd := &cobra.Command{Use: "set GROUP HOOK [-- COMMAND…]", Short: "Change settings of a hook, only those that are given; open tickets keep their deadlines", Args: hookArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			body := contract.HookSettings{At: given(cmd, "at", contract.HookPoint(f.at)), DeadlineSeconds: given(cmd, "deadline", f.deadline.Seconds()), MaxDeadlineSeconds: given(cmd, "max-deadline", f.maxDeadline.Seconds()),
				Otherwise: given(cmd, "otherwise", contract.TicketChoice(f.otherwise)), Send: given(cmd, "send", f.send)}
			none, nowhere := []string{}, ""
			switch {
			case len(args) > 2:
				command := args[2:]
				body.Run, body.Send = &command, &nowhere
			case f.send != "":
				body.Run = &none
			}
			tag, err := a.groupTag(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			g, _, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) {
				return c.ChangeHook(cmd.Context(), args[0], args[1], &contract.ChangeHookParams{IfMatch: &tag}, body)
			})
			if err != nil {
				return err
			}
			return a.print(g.Hooks, func() string { return hookTable(g.Hooks) })
		}}
	f.add(cmd)
	return cmd
}

func (a *app) hookRemove() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "remove GROUP HOOK", Short: "Take a hook away; what it holds it holds no more", Args: exactly("GROUP", "HOOK"),
		RunE: func(cmd *cobra.Command, args []string) error {
			tag, err := a.groupTag(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			tickets, err := a.tickets(cmd.Context(), args[0], false)
			if err != nil {
				return err
			}
			holds := 0
			for _, t := range tickets {
				if t.Hook == args[1] {
					holds++
				}
			}
			if err := a.confirm(yes, fmt.Sprintf("removing the hook %s lets %s go on", args[1], words.Count(holds, "held instance")),
				fmt.Sprintf("This takes the hook %s of %s away, with its secret; %s that it holds now go on unanswered.\nRemove it?", args[1], args[0], words.Count(holds, "instance"))); err != nil {
				return err
			}
			g, _, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) {
				return c.RemoveHook(cmd.Context(), args[0], args[1], &contract.RemoveHookParams{IfMatch: &tag})
			})
			if err != nil {
				return err
			}
			return a.print(g.Hooks, func() string { return fmt.Sprintf("The hook %s holds nobody any more.\n", args[1]) })
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

func (a *app) hookList() *cobra.Command {
	return &cobra.Command{Use: "list GROUP", Short: "List the hooks of a group, in the order in which they hold", Args: exactly("GROUP"),
		RunE: func(cmd *cobra.Command, args []string) error {
			g, _, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) { return c.GetGroup(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(g.Hooks, func() string {
				text := hookTable(g.Hooks)
				if len(g.Hooks) > 1 {
					text += map[bool]string{false: "Those of a point hold one after another.\n", true: "Those of a point hold all at once.\n"}[g.HooksAtOnce]
				}
				return text
			})
		}}
}

func hookTable(hooks []contract.Hook) string {
	rows := [][]string{{"hook", "at", ">deadline", "?>at most", "otherwise", "?>usually", "?>95 % within", "who answers"}}
	for _, h := range hooks {
		usual, slow := "-", "-"
		if h.UsualSeconds != nil && h.SlowSeconds != nil {
			usual, slow = spanOf(*h.UsualSeconds), spanOf(*h.SlowSeconds)
		}
		rows = append(rows, []string{h.Name, string(h.At), spanOf(h.DeadlineSeconds), spanOf(h.MaxDeadlineSeconds), string(h.Otherwise), usual, slow, whoAnswers(h)})
	}
	return orNone(rows, "The group has no hooks; add one with: unitas hook add GROUP HOOK --at launch")
}

func whoAnswers(h contract.Hook) string {
	switch {
	case h.Send != "":
		return "a message to " + h.Send
	case len(h.Run) > 0:
		return "the command " + strings.Join(h.Run, " ")
	}
	return "people, or programs that look"
}

func (a *app) hookTry() *cobra.Command {
	var instance string
	cmd := &cobra.Command{Use: "try GROUP HOOK", Short: "Send a sample event, or run the command once, and show what comes back", Args: exactly("GROUP", "HOOK"),
		Long: `Sends a sample event (its type is unitas.ticket.sample) where the hook sends its
messages, or runs its command in an instance, and shows what comes back. Nobody is
held and no ticket is answered. The exit status is 3 when a ticket would fail, or
it is not delivered.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			tried, _, err := ask[contract.HookTried](a, func(c *client.Client) (*http.Response, error) {
				return c.TryHook(cmd.Context(), args[0], args[1], contract.HookTrial{Instance: given(cmd, "instance", instance)})
			})
			if err != nil {
				return err
			}
			would := "would stay open until somebody answers"
			switch {
			case tried.Answer != nil:
				would = "would " + string(*tried.Answer)
			case !tried.Delivered:
				would = "would stay open; it would be sent again"
			}
			if err := a.print(tried, func() string {
				return facts("kind", string(tried.Kind), "status", statusOf(tried.Status), "took", fmt.Sprintf("%.1f ms", tried.TookMs), "response", tried.Response, "a ticket", would)
			}); err != nil {
				return err
			}
			if !tried.Delivered || (tried.Answer != nil && *tried.Answer == contract.Fail) {
				return badEnd{"a ticket " + would}
			}
			return nil
		}}
	cmd.Flags().StringVar(&instance, "instance", "", "the `INSTANCE` it is about, or in which the command is run")
	return cmd
}

func statusOf(status int) string {
	if status <= 0 {
		return map[bool]string{true: "0", false: "none"}[status == 0]
	}
	return fmt.Sprint(status)
}

func (a *app) hookSecret() *cobra.Command {
	var fresh bool
	cmd := &cobra.Command{Use: "secret GROUP HOOK", Short: "Show what the messages of a hook are signed with; that it was shown is kept in the journal", Args: exactly("GROUP", "HOOK"),
		RunE: func(cmd *cobra.Command, args []string) error {
			secret, _, err := ask[contract.HookSecret](a, func(c *client.Client) (*http.Response, error) {
				if fresh {
					return c.SetHookSecret(cmd.Context(), args[0], args[1], contract.NewHookSecret{})
				}
				return c.GetHookSecret(cmd.Context(), args[0], args[1])
			})
			if err != nil {
				return err
			}
			return a.print(secret, func() string { return secret.Secret + "\n" })
		}}
	cmd.Flags().BoolVar(&fresh, "rotate", false, "make another first; messages are signed with it from now on")
	return cmd
}

func (a *app) hookDeliveries() *cobra.Command {
	var p contract.ListDeliveriesParams
	var hook, instance string
	cmd := &cobra.Command{Use: "deliveries GROUP", Short: "List what was sent and run for tickets, newest first, with the response", Args: exactly("GROUP"),
		RunE: func(cmd *cobra.Command, args []string) error {
			p.Hook, p.Instance = given(cmd, "hook", hook), given(cmd, "instance", instance)
			page, _, err := ask[contract.DeliveryList](a, func(c *client.Client) (*http.Response, error) { return c.ListDeliveries(cmd.Context(), args[0], &p) })
			if err != nil {
				return err
			}
			return a.print(page.Items, func() string { return deliveryTable(page.Items) })
		}}
	cmd.Flags().StringVar(&hook, "hook", "", "only those of this `HOOK`")
	cmd.Flags().StringVar(&instance, "instance", "", "only those about this `INSTANCE`")
	return cmd
}

func deliveryTable(all []contract.Delivery) string {
	rows := [][]string{{"at", "ticket", "kind", ">status", "?>took", "?delivered", "?sent by", "response"}}
	for _, d := range all {
		delivered := "yes"
		if !d.Delivered {
			delivered = "no"
		}
		status := statusOf(d.Status)
		if d.Kind == contract.DeliveryKindWebhook && d.Status == 0 {
			status = "none"
		}
		rows = append(rows, []string{clock(d.At), d.Instance + "/" + d.Hook, string(d.Kind), status, fmt.Sprintf("%.1f ms", d.TookMs), delivered, orWord(d.SentBy, "the service"),
			clip(strings.Join(strings.Fields(d.Response), " "), 80)})
	}
	return orNone(rows, "Nothing was sent or run.")
}

// hookNames are those of a group in one line: warm-cache at launch, save-logs at retire.
func hookNames(g contract.Group) string {
	names := make([]string, len(g.Hooks))
	for i, h := range g.Hooks {
		names[i] = h.Name + " at " + string(h.At)
	}
	if g.HooksAtOnce && len(names) > 1 {
		names[len(names)-1] += "; those of a point at once"
	}
	return strings.Join(names, ", ")
}
