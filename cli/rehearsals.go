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

func (a *app) rolloutRehearse() *cobra.Command {
	var f rolloutFlags
	var runs int
	var seed int64
	var rate float64
	var faults []string
	cmd := &cobra.Command{Use: "rehearse GROUP --to NAME@N", Short: "Play a rollout on a virtual clock with simulated machines, before it is begun", Args: exactly("GROUP"),
		Long: `Plays a rollout on a virtual clock, by the very decisions of the service, with machines
that boot, settle, are held and finish their requests as those of the group were seen
to. Nothing of the group is touched. It tells how long the rollout takes, how many
serve at the lowest, what it costs, and where gates stop it. Each run has another seed;
the same seed plays the same. Takes the settings of rollout start, and --fault, which
may be given again:

  zone=mid-pier@wave2             the zone's machines vanish as wave 2 begins (or @30s)
  new-version-unhealthy           no new instance becomes healthy
  new-version-crashes-after=20s   each ends so long after it served
  slow-boots=3x                   machines take three times as long to come up
  errors=2%                       the new version fails so many requests more
  service-down=10m@wave2          Unitas itself is down for so long`,
		Example: "  unitas rollout rehearse timetable --to timetable-web@2\n  unitas rollout rehearse timetable --to timetable-web@2 --fault errors=2% --runs 100",
		RunE: func(cmd *cobra.Command, args []string) error {
			body, err := f.body(cmd)
			if err != nil {
				return err
			}
			r, _, err := ask[contract.Rehearsal](a, func(c *client.Client) (*http.Response, error) {
				return c.Rehearse(cmd.Context(), args[0], contract.NewRehearsal{Rollout: body, Runs: given(cmd, "runs", runs), Seed: given(cmd, "seed", seed),
					Faults: given(cmd, "fault", faults), RequestsPerSecond: given(cmd, "requests-per-second", rate)})
			})
			if err != nil {
				return err
			}
			return a.print(r, func() string { return rehearsalPicture(r) })
		}}
	f.add(cmd)
	flags := cmd.Flags()
	numberVar(flags, &runs, "runs", 20, "how often it is played")
	flags.Int64Var(&seed, "seed", 1, "the seed of the first run")
	flags.Float64Var(&rate, "requests-per-second", 0, "how many requests the group gets (default as in the last five minutes)")
	flags.StringArrayVar(&faults, "fault", nil, "what goes wrong; may be given again")
	return cmd
}

// decimal writes a number to six places, without the zeros after the last other.
func decimal(f float64) string {
	return strings.TrimRight(strings.TrimRight(fmt.Sprintf("%.6f", f), "0"), ".")
}

func rehearsalPicture(r contract.Rehearsal) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %s → %s  rehearsal %d, played in %.1f ms\n%s\n", strong.paint(r.Group), r.From, r.To, r.Number, r.WallMs, r.Sentence)
	if r.Cut {
		b.WriteString(waiting.paint("It was broken off before all runs were played.") + "\n")
	}
	takes := ""
	if r.Takes != nil {
		takes = fmt.Sprintf("%s (95 %% within %s), in the %s that are done", spanOf(r.Takes.MedianSeconds), spanOf(r.Takes.SlowSeconds), words.Count(r.Done, "run"))
	}
	extra := decimal(r.ExtraHours) + " machine hours"
	if r.ExtraCost != nil {
		extra += fmt.Sprintf(", %s by the template's prices", decimal(*r.ExtraCost))
	}
	b.WriteString("\n" + facts("takes", takes, "lowest serving", fmt.Sprintf("%d of %d", r.LowestServing, r.Size), "most at once", words.Count(r.MostInstances, "instance")+", those on their way out as well",
		"extra", extra, "goes wrong", strings.Join(r.Faults, ", ")))
	if len(r.Stops) > 0 {
		rows := [][]string{{">runs", ">in wave", ">after", ">new answered", "what stops it"}}
		for _, s := range r.Stops {
			rows = append(rows, []string{fmt.Sprintf("%d of %d", s.Runs, r.Runs), fmt.Sprint(*s.Wave), spanOf(s.After.MedianSeconds), fmt.Sprintf("%d requests", *s.Requests), s.Why})
		}
		b.WriteString("\n" + table(rows))
	}
	b.WriteString("\n" + timeline(r))
	rows := [][]string{{"what is assumed", ">usually", ">95 % within", ">seen", "from"}}
	for _, as := range r.Assumed {
		usual, slow := "-", "-"
		if as.Span != nil {
			usual, slow = spanOf(as.Span.MedianSeconds), spanOf(as.Span.SlowSeconds)
		}
		rows = append(rows, []string{as.What, usual, slow, fmt.Sprint(as.Seen), as.From})
	}
	b.WriteString("\n" + table(rows))
	return b.String()
}

// timeline draws the typical run: how many serve, and how many of them are new, as time goes.
func timeline(r contract.Rehearsal) string {
	const width, height = 60, 6
	if len(r.Points) == 0 || r.Size == 0 {
		return ""
	}
	end := max(r.Points[len(r.Points)-1].AtSeconds, 1)
	if n := len(r.Events); n > 0 {
		end = max(end, r.Events[n-1].AtSeconds)
	}
	serving, fresh := make([]int, width), make([]int, width)
	at := 0
	for x := range width {
		for at+1 < len(r.Points) && r.Points[at+1].AtSeconds <= end*float64(x)/(width-1) {
			at++
		}
		serving[x], fresh[x] = r.Points[at].Serving, r.Points[at].NewServing
	}
	top := max(r.Size, 1)
	for _, n := range serving {
		top = max(top, n)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "a typical run: █ serve on %s, ░ on what runs now\n", r.To)
	for y := height; y >= 1; y-- {
		line := float64(top) * (float64(y) - 0.5) / height
		label := "    "
		if y == height {
			label = fmt.Sprintf("%4d", top)
		}
		b.WriteString(label + " ")
		for x := range width {
			switch {
			case float64(fresh[x]) >= line:
				b.WriteString("█")
			case float64(serving[x]) >= line:
				b.WriteString("░")
			default:
				b.WriteString(" ")
			}
		}
		b.WriteString("\n")
	}
	fmt.Fprintf(&b, "   0 %s\n     0 s%*s\n", strings.Repeat("─", width), width-3, spanOf(end))
	for _, e := range r.Events {
		fmt.Fprintf(&b, "  %8s  %s Because %s.\n", spanOf(e.AtSeconds), e.Text, e.Because)
	}
	return b.String()
}

func (a *app) rolloutReplay() *cobra.Command {
	return &cobra.Command{Use: "replay GROUP|NUMBER", Short: "Decide a rollout that is over again, from its journal, and compare", Args: exactly("GROUP|NUMBER"),
		Long: `Decides a rollout that is over again, from how the group stood when it began and what
the journal says happened, and compares with what was decided then. The exit status is
3 when something else is decided.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			r, _, err := a.find(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			found, _, err := ask[contract.Replay](a, func(c *client.Client) (*http.Response, error) { return c.ReplayRollout(cmd.Context(), r.Number) })
			if err != nil {
				return err
			}
			if err := a.print(found, func() string {
				text := found.Sentence + "\n"
				if len(found.Given) > 0 {
					text += "Taken as given: " + strings.Join(found.Given, ", ") + ".\n"
				}
				for _, d := range found.Differences {
					text += fmt.Sprintf("\n%s\n  was  %s\n  now  %s\n", moment(d.At), strings.Join(d.Was, "\n       "), strings.Join(d.Now, "\n       "))
				}
				return text
			}); err != nil {
				return err
			}
			if found.Same < found.Decisions {
				return badEnd{fmt.Sprintf("%s decided otherwise", words.Are(found.Decisions-found.Same, "moment"))}
			}
			return nil
		}}
}

func (a *app) rolloutFindings() *cobra.Command {
	return &cobra.Command{Use: "findings GROUP|NUMBER", Short: "What the new instances of a rollout had in common: boot logs, checks, answers by path, what their template has otherwise", Args: exactly("GROUP|NUMBER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, _, err := a.find(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			found, _, err := ask[contract.Findings](a, func(c *client.Client) (*http.Response, error) { return c.GetFindings(cmd.Context(), r.Number) })
			if err != nil {
				return err
			}
			return a.print(found, func() string { return findingsPicture(r, found) })
		}}
}

func findingsPicture(r contract.Rollout, f contract.Findings) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %s → %s  rollout %d\n%s\n", strong.paint(r.Group), r.From, r.To, r.Number, f.Sentence)
	for _, line := range f.Common {
		fmt.Fprintf(&b, "  - %s\n", line)
	}
	if len(f.Changes) > 0 {
		rows := [][]string{{"  field", r.From, r.To}}
		for _, c := range f.Changes {
			rows = append(rows, []string{"  " + c.Field, orWord(c.Was, "—"), orWord(c.Now, "—")})
		}
		b.WriteString("\n" + table(rows))
	}
	if len(f.Paths) > 0 {
		rows := [][]string{{"  path", ">requests", ">failed", ">2xx", ">3xx", ">4xx", ">5xx", ">none"}}
		for _, p := range f.Paths {
			row := []string{"  " + p.Path, fmt.Sprint(p.Requests), fmt.Sprint(p.Failed)}
			for _, n := range p.Classes[1:] {
				row = append(row, fmt.Sprint(n))
			}
			rows = append(rows, row)
		}
		b.WriteString("\n" + table(rows))
	}
	for _, in := range f.Instances {
		fmt.Fprintf(&b, "\n%s in %s, %s: %s\n", strong.paint(in.Instance), in.Zone, in.State, in.Why)
		for _, report := range in.Reports {
			fmt.Fprintf(&b, "  %s says %s: %s\n", report.Check, report.Verdict, report.Why)
		}
		lines := strings.Split(strings.TrimSpace(in.BootLog), "\n")
		for _, line := range lines[max(0, len(lines)-6):] {
			if line != "" {
				fmt.Fprintf(&b, "  %s %s\n", faint.paint("│"), line)
			}
		}
	}
	return b.String()
}
