package cli

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

func (a *app) noticeCommand() *cobra.Command {
	return group("notice", "Notices: who hears of what, by signed message or by mail",
		a.noticeList(), a.noticeAdd(), a.noticeSet(), a.noticeRemove(), a.noticeMessages(), a.noticeSend(), a.noticeSecret())
}

var topics = []string{"launches", "removals", "failed-launches", "heals", "heal-limit", "at-max", "resizes", "rollouts-held", "rollouts-done", "tickets", "failing-slots"}

// noticeFlags are the settings of a notice.
type noticeFlags struct {
	of, groups, mail []string
	header           []string
	send             string
	gather           time.Duration
	off              bool
}

func (f *noticeFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringSliceVar(&f.of, "topic", nil, "the `TOPIC` to hear of, or several: "+strings.Join(topics, ", "))
	flags.StringSliceVar(&f.groups, "group", nil, "only of this `GROUP`; may be given again")
	flags.StringVar(&f.send, "send", "", "the `URL` that signed messages go to")
	flags.StringArrayVar(&f.header, "header", nil, "a header that messages have besides, `NAME=@FILE`: its value is what the file has, since a secret is no argument. May be repeated; replaces all; none removes them")
	flags.StringSliceVar(&f.mail, "mail", nil, "the `ADDRESS` that mail goes to; may be given again")
	flags.DurationVar(&f.gather, "gather", 30*time.Second, "how long is gathered what is sent as one message, up to 1h")
	flags.BoolVar(&f.off, "off", false, "tell nothing for now")
	_ = cmd.RegisterFlagCompletionFunc("topic", cobra.FixedCompletions(topics, cobra.ShellCompDirectiveNoFileComp))
}

// headers are those that were given, read from their files; nil when there are none.
func (f *noticeFlags) headers(cmd *cobra.Command) (*map[string]string, error) {
	if !cmd.Flags().Changed("header") {
		return nil, nil
	}
	all := map[string]string{}
	for _, h := range f.header {
		name, file, given := strings.Cut(h, "=")
		if !given && name == "none" {
			continue
		}
		file, ok := strings.CutPrefix(file, "@")
		if !ok {
			return nil, misused("--header %s: give its value in a file, NAME=@FILE; every process of the host can read arguments", name)
		}
		raw, err := os.ReadFile(file)
		if err != nil {
			return nil, onFile("--header "+name, file, err)
		}
		all[name] = strings.TrimSpace(string(raw))
	}
	return &all, nil
}

func (f *noticeFlags) topics(cmd *cobra.Command) *[]contract.Topic {
	if !cmd.Flags().Changed("topic") {
		return nil
	}
	all := make([]contract.Topic, len(f.of))
	for k, t := range f.of {
		all[k] = contract.Topic(t)
	}
	return &all
}

func (a *app) noticeAdd() *cobra.Command {
	var f noticeFlags
	cmd := &cobra.Command{Use: "add NAME --topic TOPIC,… --send URL|--mail ADDRESS", Short: "Have somebody hear of what happens from now on", Args: exactly("NAME"),
		Long: `Has somebody hear of what happens from now on: by a message to a URL (a CloudEvent,
signed as the Standard Webhooks specification says), or by mail. What comes within the
gather time is one message, so that a storm is one. What is not delivered is tried again for
about two hours, ever more slowly, and that is said.

Topics:
  launches, removals    an instance is ordered, or is gone
  failed-launches       one did not come up
  heals, heal-limit     one is replaced since it was ill or vanished; healing stops or goes on
  resizes, at-max       the size is another; a group has come to its max
  rollouts-held         a rollout is held or goes back
  rollouts-done         a rollout has ended
  tickets               a hook holds an instance, or nobody answered in time
  failing-slots         a slot or a zone fails again and again`,
		Example: "  unitas notice add on-call --topic rollouts-held,heal-limit,failing-slots --mail sre@saltmere.example\n" +
			"  unitas notice add board --topic resizes,at-max --group timetable --send https://board.saltmere.example/hear --gather 2m",
		RunE: func(cmd *cobra.Command, args []string) error {
			body := contract.NewNotice{Name: args[0], Groups: given(cmd, "group", f.groups), Send: given(cmd, "send", f.send), Mail: given(cmd, "mail", f.mail), GatherSeconds: secondsOf(cmd, "gather", f.gather), Off: given(cmd, "off", f.off)}
			var err error
			if body.Headers, err = f.headers(cmd); err != nil {
				return err
			}
			if all := f.topics(cmd); all != nil {
				body.Topics = *all
			}
			n, _, err := ask[contract.Notice](a, func(c *client.Client) (*http.Response, error) { return c.AddNotice(cmd.Context(), nil, body) })
			if err != nil {
				return err
			}
			return a.print(n, func() string {
				text := noticePicture(n)
				if n.Send != "" {
					text += fmt.Sprintf("\nIts messages are signed; the secret is shown by: unitas notice secret %s\n", n.Name)
				}
				return text + fmt.Sprintf("Try it with: unitas notice send %s\n", n.Name)
			})
		}}
	f.add(cmd)
	_ = cmd.MarkFlagRequired("topic")
	return cmd
}

func (a *app) noticeTag(ctx context.Context, name string) (contract.Notice, string, error) {
	return ask[contract.Notice](a, func(c *client.Client) (*http.Response, error) { return c.GetNotice(ctx, name) })
}

func (a *app) noticeSet() *cobra.Command {
	var f noticeFlags
	cmd := &cobra.Command{Use: "set NAME", Short: "Change settings of a notice, only those that are given", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			body := contract.NoticeSettings{Topics: f.topics(cmd), Groups: given(cmd, "group", f.groups), Send: given(cmd, "send", f.send), Mail: given(cmd, "mail", f.mail), GatherSeconds: secondsOf(cmd, "gather", f.gather), Off: given(cmd, "off", f.off)}
			var err error
			if body.Headers, err = f.headers(cmd); err != nil {
				return err
			}
			if body == (contract.NoticeSettings{}) {
				return misused("nothing to change; give a setting such as --topic")
			}
			_, tag, err := a.noticeTag(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			n, _, err := ask[contract.Notice](a, func(c *client.Client) (*http.Response, error) {
				return c.ChangeNotice(cmd.Context(), args[0], &contract.ChangeNoticeParams{IfMatch: &tag}, body)
			})
			if err != nil {
				return err
			}
			return a.print(n, func() string { return noticePicture(n) })
		}}
	f.add(cmd)
	return cmd
}

func noticePicture(n contract.Notice) string {
	state := ""
	switch {
	case n.Off:
		state = waiting.paint("off: it tells nothing")
	case n.FailingAt != nil:
		state = trouble.paint(fmt.Sprintf("not delivered since %s: %s", moment(*n.FailingAt), valueOr(n.FailingWhy, "")))
	}
	return strong.paint(n.Name) + "\n" + facts("topics", strings.Join(topicWords(n), ", "), "groups", orWord(strings.Join(n.Groups, ", "), "all"), "goes to", noticeTo(n), "headers", strings.Join(n.Headers, ", "), "gathers for", spanOf(n.GatherSeconds), "state", state)
}

func topicWords(n contract.Notice) []string {
	all := make([]string, len(n.Topics))
	for k, t := range n.Topics {
		all[k] = string(t)
	}
	return all
}

func noticeTo(n contract.Notice) string {
	if n.Send != "" {
		return n.Send
	}
	return strings.Join(n.Mail, ", ")
}

func (a *app) noticeList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List who hears of what", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, _, err := ask[contract.NoticeList](a, func(c *client.Client) (*http.Response, error) { return c.ListNotices(cmd.Context()) })
			if err != nil {
				return err
			}
			return a.print(all.Items, func() string {
				rows := [][]string{{"notice", "state", "topics", "groups", "goes to", ">gathers for"}}
				for _, n := range all.Items {
					state := "delivered"
					switch {
					case n.Off:
						state = "off"
					case n.FailingAt != nil:
						state = trouble.paint("not delivered for " + spanOf(time.Since(*n.FailingAt).Seconds()))
					}
					rows = append(rows, []string{n.Name, state, strings.Join(topicWords(n), ", "), orWord(strings.Join(n.Groups, ", "), "all"), noticeTo(n), spanOf(n.GatherSeconds)})
				}
				return orNone(rows, "Nobody is told of anything; have somebody hear with: unitas notice add NAME --topic rollouts-held --mail ADDRESS")
			})
		}}
}

func (a *app) noticeRemove() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "remove NAME", Short: "Tell nobody any more; its messages are forgotten", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, tag, err := a.noticeTag(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if err := a.confirm(yes, "removing the notice "+args[0], fmt.Sprintf("%s is told nothing any more, and the messages of %s are forgotten.\nRemove it?", noticeTo(n), args[0])); err != nil {
				return err
			}
			if _, _, err := ask[struct{}](a, func(c *client.Client) (*http.Response, error) {
				return c.RemoveNotice(cmd.Context(), args[0], &contract.RemoveNoticeParams{IfMatch: &tag})
			}); err != nil {
				return err
			}
			return a.print(map[string]string{"removed": args[0]}, func() string { return fmt.Sprintf("The notice %s tells nobody any more.\n", args[0]) })
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

func (a *app) noticeMessages() *cobra.Command {
	return &cobra.Command{Use: "messages NAME", Short: "List what was and is to be sent for a notice, newest first", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			all, _, err := ask[contract.MessageList](a, func(c *client.Client) (*http.Response, error) { return c.ListMessages(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(all.Items, func() string { return messageTable(all.Items) })
		}}
}

func messageTable(all []contract.Message) string {
	rows := [][]string{{">number", "at", "state", "?>tries", "?>status", "?>took", "?>lines", "?subject", "response"}}
	for _, m := range all {
		state := string(m.State)
		if m.NextAt != nil && m.Tries > 0 {
			state = "again in " + spanOf(max(time.Until(*m.NextAt).Seconds(), 0))
		}
		rows = append(rows, []string{fmt.Sprint(m.Number), clock(m.At), state, fmt.Sprint(m.Tries), statusOf(m.Status), fmt.Sprintf("%.0f ms", m.TookMs), fmt.Sprint(m.Lines), clip(m.Subject, 60), clip(strings.Join(strings.Fields(m.Response), " "), 60)})
	}
	return orNone(rows, "Nothing was sent yet; try it with: unitas notice send NAME")
}

func (a *app) noticeSend() *cobra.Command {
	var again int64
	cmd := &cobra.Command{Use: "send NAME", Short: "Send a test message now, or one that was sent before once more", Args: exactly("NAME"),
		Long: `Sends a test message now, or with --again one that was sent before, and shows what came of
it. The exit status is 3 when it was not delivered.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			m, _, err := ask[contract.Message](a, func(c *client.Client) (*http.Response, error) {
				return c.SendMessage(cmd.Context(), args[0], contract.NewMessage{Again: given(cmd, "again", again)})
			})
			if err != nil {
				return err
			}
			if err := a.print(m, func() string {
				return facts("message", fmt.Sprint(m.Number), "subject", m.Subject, "state", string(m.State), "status", statusOf(m.Status), "took", fmt.Sprintf("%.0f ms", m.TookMs), "response", m.Response)
			}); err != nil {
				return err
			}
			if m.State != contract.MessageStateSent {
				return badEnd{"not delivered: " + m.Response}
			}
			return nil
		}}
	cmd.Flags().Int64Var(&again, "again", 0, "the `NUMBER` of a message to be sent once more")
	return cmd
}

func (a *app) noticeSecret() *cobra.Command {
	return &cobra.Command{Use: "secret NAME", Short: "Show what the messages of a notice are signed with; that it was shown is kept in the journal", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			secret, _, err := ask[contract.HookSecret](a, func(c *client.Client) (*http.Response, error) { return c.GetNoticeSecret(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(secret, func() string { return secret.Secret + "\n" })
		}}
}
