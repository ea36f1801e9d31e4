package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

func (a *app) rolloutCommand() *cobra.Command {
	return group("rollout", "Rollouts: the staged replacement of a group's instances",
		a.rolloutStart(), a.rolloutWatch(), a.rolloutShow(), a.rolloutList(),
		a.rolloutTell(contract.RolloutCommandCommandHold, "Stop where it is; nothing more is replaced until proceed or revert"),
		a.rolloutTell(contract.RolloutCommandCommandProceed, "Go on with a rollout that is held or reverts; what failed before is tried once more"),
		a.rolloutTell(contract.RolloutCommandCommandRevert, "Bring every instance back to the version before"))
}

func (a *app) rolloutStart() *cobra.Command {
	var to string
	var waves []string
	var above, below int
	var soak time.Duration
	var watch bool
	var gates gateFlags
	cmd := &cobra.Command{Use: "start GROUP --to NAME@N", Short: "Begin to replace a group's instances by another template version", Args: exactly("GROUP"),
		Long: `Begins to replace a group's instances by another template version, wave by wave.
Each wave says how far to go: a number of instances or a share of the group. It
must stay good for the soak before the next begins. When new instances do not
become healthy within the group's settle time, or end by themselves again and
again, the rollout holds itself and the old ones go on serving. A revert brings
back what most instances run now.

Gates compare what new instances answer with what old ones do, every second: one
that breaks holds the rollout or reverts it. Without --gate there is one on errors;
another kind is latency (answers slower than 95 of 100 of the old version). The
settings, each with what it is when left out: margin=0.5, for latency 5 (percent
points that new may do worse), broken=revert (or hold), warm=0s (a new instance's first
answers are left out), least=0 (requests that new ones must have answered in a
wave), undecided=go-on (or hold, extend; when they were fewer).`,
		Example: "  unitas rollout start timetable --to timetable-web@2 --waves 1,50%,100% --above 2 --below 0 --soak 5s --watch\n" +
			"  unitas rollout start timetable --to timetable-web@2 --gate errors:margin=1,broken=hold,least=200,undecided=extend",
		RunE: func(cmd *cobra.Command, args []string) error {
			body := contract.NewRollout{To: to, Waves: given(cmd, "waves", waves), Above: &above, Below: &below}
			seconds := soak.Seconds()
			body.SoakSeconds = &seconds
			var err error
			if body.Gates, err = gates.read(cmd); err != nil {
				return err
			}
			r, _, err := ask[contract.Rollout](a, func(c *client.Client) (*http.Response, error) {
				return c.StartRollout(cmd.Context(), args[0], &contract.StartRolloutParams{IdempotencyKey: freshKey()}, body)
			})
			if err != nil {
				return err
			}
			if watch {
				return a.watchRollout(cmd.Context(), r.Number)
			}
			return a.print(r, func() string {
				return fmt.Sprintf("Rollout %d of %s to %s begins. Watch it with: unitas rollout watch %s\n", r.Number, r.Group, r.To, r.Group)
			})
		}}
	flags := cmd.Flags()
	flags.StringVar(&to, "to", "", "the template version to go to, `NAME@N`")
	flags.StringSliceVar(&waves, "waves", []string{"1", "50%", "100%"}, "how far each wave goes")
	numberVar(flags, &above, "above", 1, "how many instances more than the size there may be")
	numberVar(flags, &below, "below", 0, "how many serving instances fewer than the size there may be")
	flags.DurationVar(&soak, "soak", 30*time.Second, "how long a wave must stay good")
	gates.add(flags)
	flags.BoolVar(&watch, "watch", false, "watch it to its end; exit 3 when it is held or not done")
	_ = cmd.MarkFlagRequired("to")
	return cmd
}

// find takes a group's name, for its latest rollout, or a rollout's number.
func (a *app) find(ctx context.Context, which string) (contract.Rollout, string, error) {
	if n, err := strconv.ParseInt(which, 10, 64); err == nil {
		return ask[contract.Rollout](a, func(c *client.Client) (*http.Response, error) { return c.GetRollout(ctx, n) })
	}
	one := 1
	page, _, err := ask[contract.RolloutList](a, func(c *client.Client) (*http.Response, error) {
		return c.ListRollouts(ctx, &contract.ListRolloutsParams{Group: &which, Limit: &one})
	})
	if err != nil {
		return contract.Rollout{}, "", err
	}
	if len(page.Items) == 0 {
		return contract.Rollout{}, "", fmt.Errorf("the group %s has had no rollout; start one with: unitas rollout start %s --to NAME@N", which, which)
	}
	r := page.Items[0]
	return r, strconv.Quote(strconv.FormatInt(r.Revision, 10)), nil
}

func (a *app) rolloutWatch() *cobra.Command {
	return &cobra.Command{Use: "watch GROUP|NUMBER", Short: "Watch a rollout until it ends or is held", Args: exactly("GROUP|NUMBER"),
		Long: `Watches a rollout until it ends or is held. The exit status is 0 when it is done,
and 3 when it is held, reverted or abandoned.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			r, _, err := a.find(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.watchRollout(cmd.Context(), r.Number)
		}}
}

func (a *app) watchRollout(ctx context.Context, number int64) error {
	var last contract.Rollout
	err := a.live(ctx, func() (string, string, bool, error) {
		r, _, err := a.find(ctx, strconv.FormatInt(number, 10))
		if err != nil {
			return "", "", false, err
		}
		g, err := a.readGroup(ctx, r.Group)
		if client.Is(err, "not-found") {
			last = r
			return rolloutHead(r), r.Sentence, true, nil
		}
		if err != nil {
			return "", "", false, err
		}
		last = r
		over := r.EndedAt != nil || r.State == contract.RolloutStateHeld
		return rolloutPicture(r, g), r.Sentence, over, nil
	})
	if err != nil {
		return err
	}
	switch last.State {
	case contract.RolloutStateHeld:
		return badEnd{fmt.Sprintf("the rollout is held: %s; go on with: unitas rollout proceed %s, or back with: unitas rollout revert %s", last.Why, last.Group, last.Group)}
	case contract.RolloutStateReverted, contract.RolloutStateAbandoned:
		return badEnd{fmt.Sprintf("the rollout is %s: %s", last.State, last.Why)}
	}
	return nil
}

func (a *app) rolloutShow() *cobra.Command {
	as := ""
	cmd := &cobra.Command{Use: "show GROUP|NUMBER", Short: "Show a rollout", Args: exactly("GROUP|NUMBER"),
		Long: `Shows a rollout: its waves and gates, what it waits for, and why it is where it is.
As markdown it is a record for a change ticket: who, what, when, waves, gates with
their numbers, and what was decided.`,
		Example: "  unitas rollout show timetable\n  unitas rollout show 7 --as markdown > change-7.md",
		RunE: func(cmd *cobra.Command, args []string) error {
			if as != "" && as != "markdown" {
				return misused("--as %s: there is markdown", as)
			}
			r, _, err := a.find(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if as == "markdown" {
				text, _, err := ask[string](a, func(c *client.Client) (*http.Response, error) { return c.GetRolloutRecord(cmd.Context(), r.Number) })
				if err == nil {
					_, err = io.WriteString(a.out, text)
				}
				return err
			}
			return a.print(r, func() string {
				g, err := a.readGroup(cmd.Context(), r.Group)
				if err != nil || r.EndedAt != nil {
					return rolloutHead(r)
				}
				return rolloutPicture(r, g)
			})
		}}
	cmd.Flags().StringVar(&as, "as", "", "write it as `FORM`: markdown")
	return cmd
}

func (a *app) rolloutList() *cobra.Command {
	var of string
	cmd := &cobra.Command{Use: "list", Short: "List rollouts, newest first", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			rollouts, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
				return c.ListRollouts(cmd.Context(), &contract.ListRolloutsParams{Group: given(cmd, "group", of), After: after})
			}, func(l contract.RolloutList) ([]contract.Rollout, *string) { return l.Items, l.Next })
			if err != nil {
				return err
			}
			return a.print(rollouts, func() string {
				rows := [][]string{{">number", "group", "from", "to", "state", "started", "by", "because"}}
				for _, r := range rollouts {
					rows = append(rows, []string{strconv.FormatInt(r.Number, 10), r.Group, r.From, r.To, string(r.State), ago(r.StartedAt), r.StartedBy, clip(r.Why, 60)})
				}
				return orNone(rows, "There have been no rollouts.")
			})
		}}
	cmd.Flags().StringVar(&of, "group", "", "only those of this `GROUP`")
	return cmd
}

func (a *app) rolloutTell(command contract.RolloutCommandCommand, short string) *cobra.Command {
	var reason string
	cmd := &cobra.Command{Use: string(command) + " GROUP|NUMBER", Short: short, Args: exactly("GROUP|NUMBER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, _, err := a.find(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			// Whatever wave it has come to meanwhile, this is what is wanted of it.
			whatever := "*"
			told, _, err := ask[contract.Rollout](a, func(c *client.Client) (*http.Response, error) {
				return c.TellRollout(cmd.Context(), r.Number, &contract.TellRolloutParams{IfMatch: &whatever},
					contract.RolloutCommand{Command: command, Reason: given(cmd, "reason", reason)})
			})
			if err != nil {
				return err
			}
			return a.print(told, func() string {
				return fmt.Sprintf("Rollout %d of %s to %s is %s. %s\n", told.Number, told.Group, told.To, told.State, told.Sentence)
			})
		}}
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is kept in the journal")
	return cmd
}

// rolloutHead is what a rollout is and how it stands.
func rolloutHead(r contract.Rollout) string {
	end := time.Now()
	if r.EndedAt != nil {
		end = *r.EndedAt
	}
	t := plain
	if r.State == contract.RolloutStateHeld {
		t = waiting
	}
	state := fmt.Sprintf("%s, %s", r.State, words.Span(end.Sub(r.StartedAt)))
	if r.LeftSeconds != nil {
		state += fmt.Sprintf(" so far, about %s left", spanOf(*r.LeftSeconds))
	}
	return fmt.Sprintf("%s  %s → %s  rollout %d, %s\n%s\n\n%s", strong.paint(r.Group), r.From, r.To, r.Number, state, t.paint(r.Sentence), wavesPicture(r)+gatesPicture(r.Gates))
}

func rolloutPicture(r contract.Rollout, g groupView) string {
	return rolloutHead(r) + "\n" + slips(g.Zones, r.From, g.instances) + "\n" + versions(g.Summary) +
		fmt.Sprintf("\n  %s\n  %d of %d serving, between %d and %d; up to %d above and %d below the size\n",
			g.verdicts(), g.Summary.Serving, g.Size, g.Min, g.Max, r.Above, r.Below)
}

// wavesPicture is a line for each wave with the tide in it.
func wavesPicture(r contract.Rollout) string {
	total := 0
	for _, w := range r.Waves {
		total = max(total, w.Target)
	}
	rows := [][]string{{"  wave", ">to", "state", "", ">replaced in", ">soaked"}}
	for i, w := range r.Waves {
		replaced, soaked := "", ""
		if w.BeganAt != nil && w.FilledAt != nil {
			replaced = words.Span(w.FilledAt.Sub(*w.BeganAt))
			end := time.Now()
			if w.PassedAt != nil {
				end = *w.PassedAt
			}
			if w.PassedAt != nil || w.State == contract.WaveStateSoaking {
				soaked = words.Span(end.Sub(*w.FilledAt))
			}
		} else if w.State == contract.WaveStateReplacing && w.BeganAt != nil {
			replaced = words.Span(time.Since(*w.BeganAt)) + " …"
		}
		rows = append(rows, []string{fmt.Sprintf("  %d  %s", i+1, w.Wave), fmt.Sprintf("%d of %d", w.Target, total), string(w.State), tide(w, total), replaced, soaked})
	}
	return table(rows)
}

// tide is how far a wave goes, filled when it has passed.
func tide(w contract.Wave, total int) string {
	const width = 24
	if total == 0 {
		return ""
	}
	n := (w.Target*width + total - 1) / total
	mark := "·"
	switch w.State {
	case contract.WaveStatePassed:
		mark = "█"
	case contract.WaveStateSoaking:
		mark = "▓"
	case contract.WaveStateReplacing, contract.WaveStateHeld:
		mark = "▒"
	}
	return strings.Repeat(mark, n)
}
