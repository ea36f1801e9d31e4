package notice

import (
	"bytes"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet/words"
)

// Line is one thing that somebody asked to hear of.
type Line struct {
	At      time.Time `json:"at"`
	Topics  []string  `json:"topics"`
	Kind    string    `json:"kind"`
	Group   string    `json:"group,omitempty"`
	Number  int64     `json:"number"` // in the journal
	Text    string    `json:"text"`
	Because string    `json:"because"`
	Actor   string    `json:"actor"`
}

// GroupNow is how a group stands while a message about it is sent.
type GroupNow struct {
	Group    string   `json:"group"`
	Sentence string   `json:"sentence"`
	Slips    []string `json:"slips"` // a row for each zone
	URL      string   `json:"url"`
}

// Content is all of a message that is grouped of many lines.
type Content struct {
	Notice string     `json:"notice"`
	Lines  []Line     `json:"lines"`
	Groups []GroupNow `json:"groups"`
	Test   bool       `json:"test,omitempty"`
	URL    string     `json:"url"`
}

// linesShown is how many lines stand in a mail.
const linesShown = 40

// topics are how often each is among the lines, the most frequent first.
func (c *Content) topics() string {
	counts := map[string]int{}
	var names []string
	for _, l := range c.Lines {
		for _, t := range l.Topics {
			if counts[t] == 0 {
				names = append(names, t)
			}
			counts[t]++
		}
	}
	slices.SortStableFunc(names, func(a, b string) int { return counts[b] - counts[a] })
	for k, name := range names {
		names[k] = fmt.Sprintf("%d %s", counts[name], name)
	}
	return strings.Join(names, ", ")
}

// where names the groups that it is about.
func (c *Content) where() string {
	var names []string
	for _, l := range c.Lines {
		if l.Group != "" && !slices.Contains(names, l.Group) {
			names = append(names, l.Group)
		}
	}
	switch {
	case len(names) == 0:
		return "Unitas"
	case len(names) > 2:
		return fmt.Sprintf("%s and %s", names[0], words.Count(len(names)-1, "other group"))
	}
	return strings.Join(names, " and ")
}

// Subject says in one line what it is about.
func (c *Content) Subject() string {
	switch {
	case c.Test:
		return fmt.Sprintf("A test of the notice %s", c.Notice)
	case len(c.Lines) == 1:
		return words.Plain(strings.TrimSuffix(c.Lines[0].Text, "."), 150)
	}
	return words.Plain(fmt.Sprintf("%s: %s", c.where(), c.topics()), 150)
}

// shown are the lines that stand in a mail, and how many more there are.
func (c *Content) shown() ([]Line, int) {
	return c.Lines[:min(len(c.Lines), linesShown)], max(len(c.Lines)-linesShown, 0)
}

func (l Line) sentence() string {
	text := l.At.UTC().Format("15:04:05") + "  " + l.Text
	if l.Because != "" {
		text += " Because " + l.Because + "."
	}
	if l.Actor != "" && l.Actor != "unitas" {
		text += " By " + l.Actor + "."
	}
	return text
}

// Text is the message as plain text.
func (c *Content) Text() string {
	var b strings.Builder
	if c.Test {
		fmt.Fprintf(&b, "This is a test: somebody had the notice %s send it.\n", c.Notice)
	}
	for _, g := range c.Groups {
		fmt.Fprintf(&b, "%s: %s\n", g.Group, g.Sentence)
		for _, row := range g.Slips {
			b.WriteString("    " + row + "\n")
		}
		b.WriteString(g.URL + "\n\n")
	}
	lines, more := c.shown()
	for _, l := range lines {
		b.WriteString(l.sentence() + "\n")
	}
	if more > 0 {
		fmt.Fprintf(&b, "and %d more, in the journal.\n", more)
	}
	fmt.Fprintf(&b, "\nTimes are in UTC. You are told by the notice %s; see %s\n", c.Notice, c.URL)
	return b.String()
}

var page = template.Must(template.New("mail").Parse(`<!doctype html>
<html lang="en"><body style="font-family:system-ui,sans-serif;font-size:14px;color:#1b1a18">
{{if .Test}}<p>This is a test: somebody had the notice {{.Notice}} send it.</p>{{end}}
{{range .Groups}}<p><b>{{.Group}}</b>: {{.Sentence}}</p>
<pre style="font-size:13px">{{range .Slips}}{{.}}
{{end}}</pre>
<p><a href="{{.URL}}">{{.URL}}</a></p>
{{end}}<ul style="padding-left:1.2em">
{{range .Lines}}<li>{{.}}</li>
{{end}}</ul>
{{if .More}}<p>and {{.More}} more, in the journal.</p>{{end}}
<p style="color:#5d5a54">Times are in UTC. You are told by the notice {{.Notice}}; see <a href="{{.URL}}">{{.URL}}</a></p>
</body></html>
`))

// HTML is the message with the same words, to be looked at.
func (c *Content) HTML() string {
	lines, more := c.shown()
	said := make([]string, len(lines))
	for k, l := range lines {
		said[k] = l.sentence()
	}
	var b bytes.Buffer
	_ = page.Execute(&b, map[string]any{"Test": c.Test, "Notice": c.Notice, "Groups": c.Groups, "Lines": said, "More": more, "URL": c.URL})
	return b.String()
}
