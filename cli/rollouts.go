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
		a.rolloutStart(), a.rolloutRehearse(), a.rolloutWatch(), a.rolloutShow(), a.rolloutList(), a.rolloutFindings(), a.rolloutReplay(),
		a.rolloutTell(contract.RolloutCommandCommandHold, "Stop where it is; nothing more is replaced until proceed or revert"),
		a.rolloutTell(contract.RolloutCommandCommandProceed, "Go on with a rollout that is held or reverts; what failed before is tried once more"),
		a.rolloutTell(contract.RolloutCommandCommandRevert, "Bring every instance back to the version before"))
}

// rolloutFlags are a rollout as people ask for it.
type rolloutFlags struct {
	courseFlags
	to, course, startAt string
	exclude             []string
	supersede           bool
}

func (f *rolloutFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.to, "to", "", "the template version to go to: `NAME@N`, NAME@MARK, or last-good (what the group ran before, and was not taken back from)")
	flags.StringVar(&f.course, "course", "", "go by this `COURSE` (default the group's usual one); other flags go before it")
	f.courseFlags.add(cmd)
	flags.StringSliceVar(&f.exclude, "exclude", nil, "`INSTANCES` that stay as they are; pinned ones always do")
	flags.StringVar(&f.startAt, "start-at", "", "begin to replace at this `TIME`, such as 2026-11-27T22:00:00+01:00")
	flags.BoolVar(&f.supersede, "supersede", false, "end the rollout that is under way, and go on from where things stand")
	_ = cmd.MarkFlagRequired("to")
}

func (f *rolloutFlags) body(cmd *cobra.Command) (contract.NewRollout, error) {
	body := contract.NewRollout{To: f.to, Course: given(cmd, "course", f.course), Waves: given(cmd, "waves", f.waves), Above: given(cmd, "above", f.above), Below: given(cmd, "below", f.below),
		SoakSeconds: secondsOf(cmd, "soak", f.soak), Order: given(cmd, "order", contract.NewRolloutOrder(f.order)), Pace: given(cmd, "pace", contract.NewRolloutPace(f.pace)),
		Hours: given(cmd, "hours", f.hours), Exclude: given(cmd, "exclude", f.exclude), Supersede: given(cmd, "supersede", f.supersede)}
	if f.startAt != "" {
		at, err := time.Parse(time.RFC3339, f.startAt)
		if err != nil {
			return body, misused("--start-at %s: give a time with its zone, such as 2026-11-27T22:00:00+01:00 or 2026-11-27T21:00:00Z", f.startAt)
		}
		body.StartAt = &at
	}
	var err error
	body.Gates, err = f.gates.read(cmd)
	return body, err
}

func (a *app) rolloutStart() *cobra.Command {
	var f rolloutFlags
	var p patience
	var dry bool
	cmd := &cobra.Command{Use: "start GROUP --to NAME@N", Short: "Begin to replace a group's instances by another template version", Args: exactly("GROUP"),
		Long: `Begins to replace a group's instances by another template version, wave by wave: a
canary of one, a quarter, and all, unless --course or other flags say otherwise. A wave
must stay good for its soak before the next begins. When new instances do not
become healthy within the group's settle time, or end by themselves again and
again, the rollout holds itself and the old ones go on serving. A revert brings
back what most instances run now.

` + courseHelp,
		Example: "  unitas rollout start timetable --to timetable-web@2 --waves 1:1m,50%,100% --above 2 --soak 5s --watch\n" +
			"  unitas rollout start timetable --to timetable-web@2 --gate errors:margin=1,on-broken=hold,min-requests=200,on-undecided=extend\n" +
			"  unitas rollout start timetable --to last-good --supersede",
		RunE: func(cmd *cobra.Command, args []string) error {
			stays, err := p.stays()
			if err != nil {
				return err
			}
			body, err := f.body(cmd)
			if err != nil {
				return err
			}
			r, _, err := ask[contract.Rollout](a, func(c *client.Client) (*http.Response, error) {
				return c.StartRollout(cmd.Context(), args[0], &contract.StartRolloutParams{IdempotencyKey: freshKey(), DryRun: &dry}, body)
			})
			if err != nil {
				return err
			}
			for _, text := range valueOr(r.Advice, nil) {
				fmt.Fprintln(a.err, "▲", text)
			}
			if r.Pace == "at-once" {
				fmt.Fprintln(a.err, "unitas: it replaces all at once, and nobody need serve meanwhile")
			}
			if dry {
				return a.print(r, func() string {
					return rolloutHead(r) + "Nothing was begun; leave out --dry-run to begin it.\n"
				})
			}
			if stays {
				return a.watchRollout(cmd.Context(), r.Number, p)
			}
			return a.print(r, func() string {
				return fmt.Sprintf("Rollout %d of %s to %s begins. Watch it with: unitas rollout watch %s\n", r.Number, r.Group, r.To, r.Group)
			})
		}}
	f.add(cmd)
	p.add(cmd, "it is done")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only say what would begin, with advice")
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
	p := patience{watch: true}
	cmd := &cobra.Command{Use: "watch GROUP|NUMBER", Short: "Watch a rollout until it ends or is held", Args: exactly("GROUP|NUMBER"),
		Long: `Watches a rollout until it ends or is held. The exit status is 0 when it is done,
and 3 when it is held, reverted or abandoned.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			r, _, err := a.find(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.watchRollout(cmd.Context(), r.Number, p)
		}}
	cmd.Flags().DurationVar(&p.timeout, "timeout", 0, "stay no longer than this, and exit 3; 0s is as long as it takes")
	return cmd
}

func (a *app) watchRollout(ctx context.Context, number int64, p patience) error {
	return a.live(ctx, p, func() (sight, error) {
		r, _, err := a.find(ctx, strconv.FormatInt(number, 10))
		if err != nil {
			return sight{}, err
		}
		s := sight{picture: rolloutHead(r), sentence: r.Sentence, value: r, done: r.EndedAt != nil, bad: endedBadly(r)}
		g, err := a.readGroup(ctx, r.Group)
		switch {
		case client.Is(err, "not-found"):
			s.done = true
		case err != nil:
			return sight{}, err
		default:
			s.picture = rolloutPicture(r, g)
			if !s.done && s.bad == "" && g.Frozen != "" {
				s.bad = fmt.Sprintf("nothing moves while %s is frozen (%s); thaw it with: unitas group thaw %s", g.Name, g.Frozen, g.Name)
			}
		}
		return s, nil
	})
}

// endedBadly says why a rollout will not be done by itself any more, or "".
func endedBadly(r contract.Rollout) string {
	switch r.State {
	case contract.RolloutStateHeld:
		return fmt.Sprintf("the rollout is held: %s; go on with: unitas rollout proceed %s, or back with: unitas rollout revert %s", r.Why, r.Group, r.Group)
	case contract.RolloutStateReverted, contract.RolloutStateAbandoned:
		return fmt.Sprintf("the rollout is %s: %s", r.State, r.Why)
	}
	return ""
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
			rehearsal := ""
			if r.Rehearsal != nil && r.EndedAt != nil {
				if before, _, err := ask[contract.Rehearsal](a, func(c *client.Client) (*http.Response, error) { return c.GetRehearsal(cmd.Context(), r.Number) }); err == nil {
					rehearsal = "\n" + besideRehearsal(r, before)
				}
			}
			return a.print(r, func() string {
				g, err := a.readGroup(cmd.Context(), r.Group)
				if err != nil || r.EndedAt != nil {
					return rolloutHead(r) + rehearsal
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
				rows := [][]string{{">number", "group", "?from", "to", "state", "?started", "?by", "because"}}
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
	return fmt.Sprintf("%s  %s → %s  rollout %d, %s\n%s\n\n%s", strong.paint(r.Group), r.From, r.To, r.Number, state, t.paint(r.Sentence), wavesPicture(r)+gatesPicture(r.Gates)+manner(r))
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
		total = max(total, w.UpTo)
	}
	rows := [][]string{{"  wave", ">to", "state", "", ">replaced in", ">soaked"}}
	for i, w := range r.Waves {
		replaced, soaked := "", ""
		if w.StartedAt != nil && w.FilledAt != nil {
			replaced = words.Span(w.FilledAt.Sub(*w.StartedAt))
			end := time.Now()
			if w.PassedAt != nil {
				end = *w.PassedAt
			}
			if w.PassedAt != nil || w.State == contract.WaveStateSoaking {
				soaked = words.Span(end.Sub(*w.FilledAt))
			}
		} else if w.State == contract.WaveStateReplacing && w.StartedAt != nil {
			replaced = words.Span(time.Since(*w.StartedAt)) + " …"
		}
		rows = append(rows, []string{fmt.Sprintf("  %d  %s", i+1, w.Wave), fmt.Sprintf("%d of %d", w.UpTo, total), string(w.State), tide(w, total), replaced, soaked})
	}
	return table(rows)
}

// tide is how far a wave goes, filled when it has passed.
func tide(w contract.Wave, total int) string {
	const width = 24
	if total == 0 {
		return ""
	}
	n := (w.UpTo*width + total - 1) / total
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

// manner tells what else a rollout goes by.
func manner(r contract.Rollout) string {
	lowest := ""
	if r.LowestServing != nil {
		lowest = fmt.Sprint(*r.LowestServing)
	}
	order := r.Order
	if order == "mixed" {
		order = ""
	}
	pace := ""
	if r.Pace == "at-once" {
		pace = "all at once; nobody need serve meanwhile"
	}
	var goesBack []string
	for _, s := range valueOr(r.GoesBack, nil) {
		goesBack = append(goesBack, fmt.Sprintf("%d to %s", s.Count, s.Version))
	}
	starts := ""
	if r.StartAt != nil {
		starts = moment(*r.StartAt)
	}
	return "\n" + facts("  lowest serving", lowest, "  course", r.Course, "  order", order, "  pace", pace, "  hours", r.Hours, "  starts", starts, "  excluded", strings.Join(r.Exclude, ", "), "  a revert brings", strings.Join(goesBack, ", "))
}

// besideRehearsal lays what came of a rollout beside what its rehearsal said.
func besideRehearsal(r contract.Rollout, before contract.Rehearsal) string {
	took := "not done"
	if before.Takes != nil {
		took = fmt.Sprintf("%s (95 %% within %s)", spanOf(before.Takes.MedianSeconds), spanOf(before.Takes.SlowSeconds))
	}
	lowest := "-"
	if r.LowestServing != nil {
		lowest = fmt.Sprint(*r.LowestServing)
	}
	return table([][]string{{"", "rehearsed", "as it went"},
		{"  ends", rehearsedEnds(before), string(r.State)},
		{"  takes", took, words.Span(r.EndedAt.Sub(r.StartedAt))},
		{"  lowest serving", fmt.Sprintf("%d of %d", before.LowestServing, before.Size), lowest}})
}

// rehearsedEnds is how the runs of a rehearsal ended.
func rehearsedEnds(r contract.Rehearsal) string {
	var parts []string
	for _, end := range []struct {
		n    int
		what string
	}{{r.Done, "done"}, {r.Held, "held"}, {r.Reverted, "reverted"}, {r.Unfinished, "not over"}} {
		if end.n > 0 {
			parts = append(parts, fmt.Sprintf("%s in %d of %s", end.what, end.n, words.Count(r.Runs, "run")))
		}
	}
	return strings.Join(parts, ", ")
}
