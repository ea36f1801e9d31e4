package cli

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

// Rules over what was measured, and calendars as files.

func (a *app) ruleReplay() *cobra.Command {
	var f ruleFlags
	var since time.Duration
	cmd := &cobra.Command{Use: "replay GROUP [RULE]", Short: "Run the rules over what was measured, and show the sizes that would have been", Args: cobra.RangeArgs(1, 2),
		Long: `Runs the rules of a group over what was measured since a time, and shows the sizes that
would have been with what they would have cost. With a RULE and settings that one is
otherwise for the replay; nothing of the group changes. What a full processor hid stays
hidden, and what is launched counts as serving at once.`,
		Example: "  unitas rule replay timetable --since 24h\n  unitas rule replay timetable even --keep-at 50 --since 168h",
		RunE: func(cmd *cobra.Command, args []string) error {
			body := contract.NewRuleReplay{SinceSeconds: secondsOf(cmd, "since", since)}
			settings, err := f.settings(cmd)
			if err != nil {
				return err
			}
			if settings != (contract.RuleSettings{}) {
				if len(args) < 2 {
					return misused("say which rule is to be otherwise: unitas rule replay %s RULE", args[0])
				}
				body.Rule, body.Settings = &args[1], &settings
			}
			replay, _, err := ask[contract.RuleReplay](a, func(c *client.Client) (*http.Response, error) {
				return c.ReplayRules(cmd.Context(), args[0], body)
			})
			if err != nil {
				return err
			}
			return a.print(replay, func() string { return replayPicture(replay) })
		}}
	f.add(cmd)
	_ = cmd.Flags().MarkHidden("dry-run")
	cmd.Flags().DurationVar(&since, "since", 24*time.Hour, "how far back, 5m to 720h")
	return cmd
}

// mostChangesShown is how many changes of a replay are listed.
const mostChangesShown = 20

func replayPicture(r contract.RuleReplay) string {
	size, was := chart{from: r.From, to: r.To, height: 6}, chart{from: r.From, to: r.To, height: 4}
	for _, p := range r.Points {
		size.points = append(size.points, dot{p.At, float64(p.Size)})
		was.points = append(was.points, dot{p.At, float64(p.Was)})
	}
	size.held, was.held = r.To.Sub(r.From), r.To.Sub(r.From)
	text := strong.paint(r.Sentence) + "\n\nThe size that would have been\n" + size.draw() + "\nHow many served\n" + was.draw()
	rows := [][]string{{"at", ">size", "because"}}
	for k, c := range r.Changes {
		if k == mostChangesShown {
			break
		}
		rows = append(rows, []string{moment(c.At), fmt.Sprint(c.Size), c.Because})
	}
	if len(rows) > 1 {
		text += "\n" + table(rows)
	}
	if more := len(r.Changes) - mostChangesShown; more > 0 {
		text += fmt.Sprintf("and %d more; all with: --output json\n", more)
	}
	return text
}

func (a *app) ruleImport() *cobra.Command {
	var from string
	var least, most, size int
	var dry bool
	cmd := &cobra.Command{Use: "import GROUP --from FILE", Short: "Make a calendar of each event of an iCalendar file", Args: exactly("GROUP"),
		Long: `Makes a calendar rule of each event of an iCalendar file (RFC 5545), with its recurrence,
its time zone, its exceptions and how long it lasts; an event without an end is from then
on. What an event sets it says itself by X-UNITAS-MIN, X-UNITAS-MAX and X-UNITAS-SIZE, or
the options here say it for all. Rules of the same names are replaced.`,
		Example: "  unitas rule import timetable --from sailings.ics --min 6 --dry-run",
		RunE: func(cmd *cobra.Command, args []string) error {
			file, err := readFile(from)
			if err != nil {
				return err
			}
			tag, err := a.groupTag(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			body := contract.NewCalendar{File: string(file), Min: given(cmd, "min", least), Max: given(cmd, "max", most), Size: given(cmd, "size", size)}
			all, _, err := ask[contract.RuleReviewList](a, func(c *client.Client) (*http.Response, error) {
				return c.AddCalendar(cmd.Context(), args[0], &contract.AddCalendarParams{IfMatch: &tag, DryRun: &dry}, body)
			})
			if err != nil {
				return err
			}
			return a.print(all.Items, func() string {
				parts := make([]string, len(all.Items))
				for k, r := range all.Items {
					parts[k] = reviewPicture(r)
				}
				text := strings.Join(parts, "\n")
				if dry {
					text += "\nNothing was made.\n"
				}
				return text
			})
		}}
	cmd.Flags().StringVar(&from, "from", "", "the `FILE`; - for standard input")
	cmd.Flags().IntVar(&least, "min", 0, "the min of events that do not say it")
	cmd.Flags().IntVar(&most, "max", 0, "the max of events that do not say it")
	cmd.Flags().IntVar(&size, "size", 0, "the size of events that do not say it")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only show what would be made")
	_ = cmd.MarkFlagRequired("from")
	return cmd
}

// readFile reads a file, or standard input for -.
func readFile(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(os.Stdin, 1<<20))
	}
	return os.ReadFile(name)
}

func (a *app) ruleExport() *cobra.Command {
	return &cobra.Command{Use: "export GROUP", Short: "Write the calendars of a group as an iCalendar file", Args: exactly("GROUP"),
		Example: "  unitas rule export timetable > timetable.ics",
		RunE: func(cmd *cobra.Command, args []string) error {
			text, _, err := ask[string](a, func(c *client.Client) (*http.Response, error) { return c.GetCalendar(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			_, err = io.WriteString(a.data(), text)
			return err
		}}
}
