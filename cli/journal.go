package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

// journalKinds are what entries are about.
var journalKinds = []string{"instance", "verdict", "group", "rollout", "zone", "ticket", "hook", "rule", "pool", "listener", "check", "image", "template", "course", "drill", "notice", "service"}

func (a *app) journalCommand() *cobra.Command {
	var of, instance, by, since, until, outcome string
	var kinds []string
	var rollout int64
	var limit int
	var follow bool
	cmd := &cobra.Command{Use: "journal", Short: "Everything that happened and every decision, with its cause", Args: exactly(),
		Long: `Everything that happened and every decision, with its cause, oldest first. A time is
one of today (22:15), a day (2026-11-26), both ('2026-11-26 22:15'), a time with its zone
(2026-11-26T22:15:00Z), or how long ago it is (90m).`,
		Example: "  unitas journal --group timetable --follow\n  unitas journal --outcome bad --since 2h\n" +
			"  unitas journal --kind rollout --by ada --since 2026-11-26 --until '2026-11-27 06:00'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if limit < 1 || limit > 1000 {
				return misused("--limit %d: give 1 to 1000", limit)
			}
			params := contract.ListJournalParams{Group: given(cmd, "group", of), Instance: given(cmd, "instance", instance), Rollout: given(cmd, "rollout", rollout), Limit: &limit,
				Kind: given(cmd, "kind", kinds), By: given(cmd, "by", by), Outcome: (*contract.ListJournalParamsOutcome)(given(cmd, "outcome", outcome))}
			for flag, to := range map[string]**time.Time{"since": &params.Since, "until": &params.Until} {
				text := map[string]string{"since": since, "until": until}[flag]
				if text == "" {
					continue
				}
				t, err := timeIn(text, time.Now())
				if err != nil {
					return misused("--%s %s %s", flag, text, err)
				}
				*to = &t
			}
			if params.Since != nil && params.Until != nil && !params.Since.Before(*params.Until) {
				return misused("--since %s is not before --until %s", since, until)
			}
			read := func() ([]contract.JournalEntry, bool, error) {
				page, _, err := ask[contract.JournalList](a, func(c *client.Client) (*http.Response, error) { return c.ListJournal(cmd.Context(), &params) })
				slices.Reverse(page.Items)
				return page.Items, page.Next != nil, err
			}
			if follow {
				a.sayZone()
				return a.followJournal(cmd.Context(), params, read)
			}
			entries, more, err := read()
			if err != nil {
				return err
			}
			if len(entries) > 0 {
				a.sayZone()
			}
			if more && a.output == "table" {
				fmt.Fprintf(a.err, "these are the newest %d; there are more: --limit shows up to 1000, --until goes further back\n", len(entries))
			}
			return a.print(entries, func() string {
				var b strings.Builder
				for _, e := range entries {
					b.WriteString(line(e))
				}
				return orWord(b.String(), "There are no such entries.\n")
			})
		}}
	flags := cmd.Flags()
	flags.StringVar(&of, "group", "", "only what concerns this `GROUP`")
	flags.StringVar(&instance, "instance", "", "only what concerns this `INSTANCE`")
	numberVar(flags, &rollout, "rollout", 0, "only what concerns the rollout of this `NUMBER`")
	flags.StringSliceVar(&kinds, "kind", nil, "only of this `KIND`: what it is about, such as rollout, or exactly, such as rollout.held; may be given again")
	flags.StringVar(&by, "by", "", "only what this `PERSON` did; unitas for what the service decided")
	flags.StringVar(&since, "since", "", "only from this `TIME` on")
	flags.StringVar(&until, "until", "", "only before this `TIME`")
	flags.StringVar(&outcome, "outcome", "", "only what came out `SO`: good or bad")
	numberVar(flags, &limit, "limit", 50, "how many entries of the past to show, 1 to 1000")
	flags.BoolVar(&follow, "follow", false, "go on with what happens from now on, until Ctrl-C")
	cmd.MarkFlagsMutuallyExclusive("follow", "until")
	return cmd
}

// sayZone says once which zone the times are in.
func (a *app) sayZone() {
	if a.output == "table" {
		fmt.Fprintln(a.err, zoneWords())
	}
}

// timeIn reads a time as a person writes it, in the zone that times are told in.
func timeIn(text string, now time.Time) (time.Time, error) {
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	for _, form := range []string{time.DateOnly, "2006-01-02 15:04", time.DateTime} {
		if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return t, nil
		}
	}
	for _, form := range []string{"15:04", time.TimeOnly} {
		if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			y, m, d := now.In(time.Local).Date()
			return time.Date(y, m, d, t.Hour(), t.Minute(), t.Second(), 0, time.Local), nil
		}
	}
	return time.Time{}, errors.New("is not a time; give one such as 22:15, 2026-11-26, '2026-11-26 22:15', 2026-11-26T22:15:00Z, or 90m for so long ago")
}

// ofWhole keeps, newest first, what concerns a group as a whole: changes, its
// rollout, back-offs, healing that stopped, and losses; the last twenty.
func ofWhole(entries []contract.JournalEntry) []contract.JournalEntry {
	var out []contract.JournalEntry
	for _, e := range entries {
		if e.Instance == nil || e.Kind == "instance.lost" || e.Kind == "verdict.unhealthy" || e.Actor != "unitas" {
			out = append(out, e)
		}
		if len(out) == 20 {
			break
		}
	}
	return out
}

// followJournal prints the past and then each entry as it is written, once.
func (a *app) followJournal(ctx context.Context, p contract.ListJournalParams, past func() ([]contract.JournalEntry, bool, error)) error {
	c, err := a.connect()
	if err != nil {
		return err
	}
	printed := int64(0)
	show := func(e contract.JournalEntry) error {
		if e.Number <= printed || (p.Instance != nil && or(e.Instance, "") != *p.Instance) ||
			(p.Rollout != nil && (e.Rollout == nil || *e.Rollout != *p.Rollout)) || (p.By != nil && e.Actor != *p.By) ||
			(p.Outcome != nil && (e.Outcome == nil || string(*e.Outcome) != string(*p.Outcome))) || (p.Kind != nil && !ofKind(e.Kind, *p.Kind)) {
			return nil
		}
		printed = e.Number
		if a.output != "table" {
			return json.NewEncoder(a.data()).Encode(e)
		}
		_, err := fmt.Fprint(a.out, onScreen(line(e)))
		return err
	}
	catchUp := func() {
		entries, _, err := past()
		if err != nil {
			fmt.Fprintln(a.err, "unitas:", oneLine(err))
		}
		for _, e := range entries {
			_ = show(e)
		}
	}
	err = c.Events(ctx, or(p.Group, ""), catchUp, func(ev client.Event) error {
		var e contract.JournalEntry
		if err := json.Unmarshal(ev.Data, &e); err != nil {
			return errors.New("the service sent an entry that cannot be read; it may be of another version than this command")
		}
		return show(e)
	})
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return a.explain(err)
}

// ofKind reports whether a kind is one of those, or about what they are about.
func ofKind(kind string, all []string) bool {
	about, _, _ := strings.Cut(kind, ".")
	return slices.Contains(all, kind) || slices.Contains(all, about)
}

// line is one entry of the journal.
func line(e contract.JournalEntry) string {
	who := ""
	if e.Actor != "unitas" {
		who = " [" + e.Actor + "]"
	}
	text := strings.TrimSuffix(e.Text, ".")
	if e.Outcome != nil && *e.Outcome == contract.JournalEntryOutcomeBad {
		text = trouble.paint(text)
	}
	return fmt.Sprintf("%s  %s%s, %s%s\n", faint.paint(clock(e.At)), text, who,
		faint.paint("because "), e.Because+numbers(e.Numbers))
}

func numbers(m map[string]any) string {
	if len(m) == 0 {
		return ""
	}
	parts := make([]string, 0, len(m))
	for k, v := range m {
		unit := ""
		for suffix, u := range map[string]string{"_seconds": " s", "_bytes": " B"} {
			if name, ok := strings.CutSuffix(k, suffix); ok {
				k, unit = name, u
			}
		}
		parts = append(parts, fmt.Sprintf("%s %v%s", strings.ReplaceAll(k, "_", " "), v, unit))
	}
	return faint.paint(" (" + strings.Join(sorted(parts), ", ") + ")")
}
