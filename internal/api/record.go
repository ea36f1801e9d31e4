package api

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// mostRecorded is how many decisions a record has at most; a rollout has far fewer.
const mostRecorded = 1000

// GetRolloutRecord writes a rollout down for a change ticket.
func (s *Server) GetRolloutRecord(ctx context.Context, r routes.GetRolloutRecordRequestObject) (routes.GetRolloutRecordResponseObject, error) {
	ro, err := s.Store.Rollout(ctx, r.Number)
	if err != nil {
		return nil, about("rollout", strconv.FormatInt(r.Number, 10), err)
	}
	told, err := s.rollout(ctx, ro)
	if err != nil {
		return nil, err
	}
	decisions, err := s.Store.Journal(ctx, store.JournalQuery{Rollout: r.Number, Kinds: []string{"rollout"}, Page: store.Page{Limit: mostRecorded}})
	if err != nil {
		return nil, err
	}
	text := record(told, decisions)
	return routes.GetRolloutRecord200TextmarkdownResponse{Body: strings.NewReader(text), ContentLength: int64(len(text))}, nil
}

// record is a rollout in Markdown, with its decisions, which come newest first.
func record(r contract.Rollout, decisions []store.Entry) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# Rollout %d of %s: %s → %s\n\n", r.Number, r.Group, r.From, r.To)
	fmt.Fprintf(&b, "- **state**: %s, because %s\n- **started**: %s by %s\n", r.State, plainly(r.Why), moment(r.StartedAt), plainly(r.StartedBy))
	if r.EndedAt != nil {
		fmt.Fprintf(&b, "- **ended**: %s, after %s\n", moment(*r.EndedAt), words.Span(r.EndedAt.Sub(r.StartedAt)))
	}
	waves := make([]string, len(r.Waves))
	for i, w := range r.Waves {
		waves[i] = w.Wave + " for " + spanText(w.SoakSeconds)
	}
	fmt.Fprintf(&b, "- **settings**: waves %s; up to %d above and %d below the size; order %s, pace %s%s\n", strings.Join(waves, ", "), r.Above, r.Below, r.Order, r.Pace, besides(r))
	if r.LowestServing != nil {
		fmt.Fprintf(&b, "- **lowest serving**: %d\n", *r.LowestServing)
	}

	b.WriteString("\n## Waves\n\n| wave | goes to | state | began | replaced in | soaked |\n| --- | --- | --- | --- | --- | --- |\n")
	for _, w := range r.Waves {
		fmt.Fprintf(&b, "| %s | %d | %s | %s | %s | %s |\n", w.Wave, w.UpTo, w.State, at(w.StartedAt), between(w.StartedAt, w.FilledAt), between(w.FilledAt, w.PassedAt))
	}
	if len(r.Gates) > 0 {
		b.WriteString("\n## Gates\n\n| gate | state | new | old | at most | by chance | when it breaks |\n| --- | --- | --- | --- | --- | --- | --- |\n")
	}
	for _, g := range r.Gates {
		if g.Floor != nil {
			fmt.Fprintf(&b, "| %s | %s | %s | – | at least %s | – | %s |\n", g.What, g.State, valueOf(g), words.Eased(*g.Floor, g.EasedFloor), g.OnBroken)
			continue
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s | +%g points | %s | %s |\n", g.What, g.State, words.Share(g.NewFailed, g.NewRequests), words.Share(g.OldFailed, g.OldRequests),
			g.MarginPercent, words.Chance(g.Evidence), g.OnBroken)
	}
	b.WriteString("\n## What was decided\n\n")
	for _, e := range slices.Backward(decisions) {
		fmt.Fprintf(&b, "- %s, %s: %s Because %s.\n", moment(e.At), plainly(e.Actor), plainly(e.Text), plainly(e.Because))
	}
	return b.String()
}

// besides are the settings that few rollouts have.
func besides(r contract.Rollout) string {
	text := ""
	for _, b := range [][2]string{{"by the course", r.Course}, {"only", r.Hours}, {"without", strings.Join(r.Exclude, ", ")}} {
		if b[1] != "" {
			text += "; " + b[0] + " " + plainly(b[1])
		}
	}
	return text
}

func valueOf(g contract.Gate) string {
	if g.Value == nil {
		return "none"
	}
	return fmt.Sprintf("%.3g", *g.Value)
}

// moment is a time of the record, in UTC.
func moment(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }

func at(t *time.Time) string {
	if t == nil {
		return "–"
	}
	return t.UTC().Format("15:04:05")
}

func between(from, to *time.Time) string {
	if from == nil || to == nil {
		return "–"
	}
	return words.Span(to.Sub(*from))
}

// marks are what Markdown reads as more than text.
var marks = strings.NewReplacer(`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "[", `\[`, "]", `\]`, "<", "&lt;", ">", "&gt;", "|", `\|`, "#", `\#`)

// plainly is a text from outside as Markdown shows it, and no more.
func plainly(text string) string { return marks.Replace(words.Plain(text, 1000)) }
