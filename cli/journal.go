package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

func (a *app) journalCommand() *cobra.Command {
	var of, instance string
	var rollout int64
	var limit int
	var follow bool
	cmd := &cobra.Command{Use: "journal", Short: "Everything that happened and every decision, with its cause", Args: exactly(),
		Example: "  unitas journal --group timetable --follow",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if limit < 1 || limit > 1000 {
				return misused("--limit %d: give 1 to 1000", limit)
			}
			params := contract.ListJournalParams{Group: given(cmd, "group", of), Instance: given(cmd, "instance", instance), Rollout: given(cmd, "rollout", rollout), Limit: &limit}
			read := func() ([]contract.JournalEntry, error) {
				page, _, err := ask[contract.JournalList](a, func(c *client.Client) (*http.Response, error) { return c.ListJournal(cmd.Context(), &params) })
				slices.Reverse(page.Items)
				return page.Items, err
			}
			if follow {
				return a.followJournal(cmd.Context(), params, read)
			}
			entries, err := read()
			if err != nil {
				return err
			}
			return a.print(entries, func() string {
				var b strings.Builder
				for _, e := range entries {
					b.WriteString(line(e))
				}
				return orWord(b.String(), "Nothing has happened yet.\n")
			})
		}}
	flags := cmd.Flags()
	flags.StringVar(&of, "group", "", "only what concerns this `GROUP`")
	flags.StringVar(&instance, "instance", "", "only what concerns this `INSTANCE`")
	numberVar(flags, &rollout, "rollout", 0, "only what concerns the rollout of this `NUMBER`")
	numberVar(flags, &limit, "limit", 50, "how many entries of the past to show, 1 to 1000")
	flags.BoolVar(&follow, "follow", false, "go on with what happens from now on, until Ctrl-C")
	return cmd
}

func (a *app) whyCommand() *cobra.Command {
	return &cobra.Command{Use: "why INSTANCE|GROUP", Short: "What led to the present state of an instance or a group, with the numbers", Args: exactly("INSTANCE|GROUP"),
		Long: `Prints the entries of the journal that led to the present state, oldest first: of an
instance all of its life, of a group the last twenty that concern it as a whole.`,
		Example: "  unitas why timetable-003\n  unitas why timetable",
		RunE: func(cmd *cobra.Command, args []string) error {
			name, limit := args[0], 1000
			in, _, err := ask[contract.Instance](a, func(c *client.Client) (*http.Response, error) { return c.GetInstance(cmd.Context(), name) })
			params, now := contract.ListJournalParams{Instance: &name, Limit: &limit}, ""
			switch {
			case err == nil:
				now = fmt.Sprintf("%s is %s, because %s.", in.Id, in.State, in.Why)
				if g, _, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) { return c.GetGroup(cmd.Context(), in.Group) }); err == nil && g.Stuck != nil {
					now += fmt.Sprintf(" Nothing can be decided about its group %s now, because %s.", g.Name, *g.Stuck)
				}
			case client.Is(err, "not-found"):
				g, _, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) { return c.GetGroup(cmd.Context(), name) })
				if client.Is(err, "not-found") {
					return fmt.Errorf("there is neither an instance nor a group %s", name)
				}
				if err != nil {
					return err
				}
				params, now = contract.ListJournalParams{Group: &name, Limit: &limit}, g.Summary.Sentence
			default:
				return err
			}
			l, _, err := ask[contract.JournalList](a, func(c *client.Client) (*http.Response, error) { return c.ListJournal(cmd.Context(), &params) })
			if err != nil {
				return err
			}
			chain := l.Items
			if params.Group != nil {
				chain = ofWhole(chain)
			}
			slices.Reverse(chain)
			return a.print(chain, func() string {
				var b strings.Builder
				for _, e := range chain {
					b.WriteString(line(e))
				}
				return b.String() + "\nNow: " + now + "\n"
			})
		}}
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
func (a *app) followJournal(ctx context.Context, p contract.ListJournalParams, past func() ([]contract.JournalEntry, error)) error {
	c, err := a.connect()
	if err != nil {
		return err
	}
	printed := int64(0)
	show := func(e contract.JournalEntry) error {
		if e.Number <= printed || (p.Instance != nil && or(e.Instance, "") != *p.Instance) ||
			(p.Rollout != nil && (e.Rollout == nil || *e.Rollout != *p.Rollout)) {
			return nil
		}
		printed = e.Number
		if a.output != "table" {
			return json.NewEncoder(a.out).Encode(e)
		}
		_, err := fmt.Fprint(a.out, line(e))
		return err
	}
	catchUp := func() {
		entries, err := past()
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

// line is one entry of the journal.
func line(e contract.JournalEntry) string {
	who := ""
	if e.Actor != "unitas" {
		who = " [" + e.Actor + "]"
	}
	return fmt.Sprintf("%s  %s%s, %s%s\n", faint.paint(clock(e.At)), strings.TrimSuffix(e.Text, "."), who,
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
