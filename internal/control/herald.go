package control

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"unitas/internal/caught"
	"unitas/internal/fleet"
	"unitas/internal/fleet/say"
	"unitas/internal/fleet/words"
	"unitas/internal/notice"
	"unitas/internal/store"
)

// How those are told who asked to hear of something: what happens is gathered for a while, and
// sent as one message.

const (
	// heraldEvery is how often is looked for what is to be told.
	heraldEvery = time.Second
	// sendAtOnce is how many messages are sent at a time.
	sendAtOnce = 8
	// mostTries is how often a message is tried; the pauses between double from firstPause to
	// lastTry, so this is about two hours.
	mostTries = 20
	lastTry   = 10 * time.Minute
	// standingsShown is how many groups a message shows.
	standingsShown = 5
)

// herald tells them until the context ends.
func (c *Control) herald(ctx context.Context) {
	tick := time.NewTicker(heraldEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if err := c.tellAll(ctx); err != nil && ctx.Err() == nil {
			c.warn("", "notices wait: what is to be told could not be read", err)
		}
	}
}

func (c *Control) tellAll(ctx context.Context) error {
	now := c.Clock.Now()
	if some, err := c.Store.Gather(ctx, now, pickLine); err != nil || !some {
		return err
	}
	if err := c.Store.Flush(ctx, now); err != nil {
		return err
	}
	for {
		due, err := c.Store.Claim(ctx, now, sendAtOnce)
		if err != nil || len(due) == 0 {
			return err
		}
		each(due, sendAtOnce, func(m store.Message) { c.sendMessage(ctx, m) })
	}
}

// pickLine is a line of the journal as a notice has it, nil when it asked for no such thing. A fault
// with one line holds up no other.
func pickLine(n store.Notice, e store.Entry) (line any) {
	if caught.Do("a line of a notice", func() { line = lineOf(n, e) }) != nil {
		return nil
	}
	return line
}

func lineOf(n store.Notice, e store.Entry) any {
	if len(n.Groups) > 0 && !slices.Contains(n.Groups, e.Group) {
		return nil
	}
	topics := topicsOf(e)
	topics = slices.DeleteFunc(topics, func(t string) bool { return !slices.Contains(n.Topics, t) })
	if len(topics) == 0 {
		return nil
	}
	because := e.Because
	if e.Cause.Code != fleet.CodeWords {
		because = say.Because(e.Cause)
	}
	return notice.Line{At: e.At.UTC(), Topics: topics, Kind: e.Kind, Group: e.Group, Number: e.Number, Text: words.Plain(e.Text, 500), Because: words.Plain(because, 500), Actor: e.Actor}
}

// topicsOf are the topics of a line of the journal.
func topicsOf(e store.Entry) (all []string) {
	var numbers fleet.Numbers
	for name, v := range e.Numbers {
		if f, ok := v.(float64); ok {
			numbers = append(numbers, fleet.Measured(name, f))
		}
	}
	for _, t := range say.Topics(fleet.Entry{Kind: e.Kind, Cause: e.Cause, Numbers: numbers}) {
		all = append(all, string(t))
	}
	return all
}

// contentOf is a message as it is sent now: its lines, and how the groups stand.
func (c *Control) contentOf(ctx context.Context, m store.Message) notice.Content {
	out := notice.Content{Notice: m.Notice, URL: c.page("notices"), Lines: []notice.Line{}, Groups: []notice.GroupNow{}}
	if json.Unmarshal(m.Content, &out.Lines) != nil || len(out.Lines) == 0 {
		out.Test = true
	}
	var seen []string
	for _, l := range out.Lines {
		if l.Group == "" || slices.Contains(seen, l.Group) || len(seen) == standingsShown {
			continue
		}
		seen = append(seen, l.Group)
		if p, err := c.Picture(ctx, l.Group); err == nil {
			out.Groups = append(out.Groups, c.standing(p))
		}
	}
	return out
}

// standing is how a group stands: its sentence, and its slips as text.
func (c *Control) standing(p Picture) notice.GroupNow {
	now := c.Clock.Now()
	v := p.View()
	out := notice.GroupNow{Group: p.Group.Name, Sentence: say.Summarise(now, v).Sentence, URL: c.page("groups", p.Group.Name), Slips: []string{}}
	if len(v.Instances) > 200 {
		return out
	}
	wide := 0
	for _, z := range p.Group.Zones {
		wide = max(wide, len(z))
	}
	for _, z := range p.Group.Zones {
		row := fmt.Sprintf("%-*s", wide, z)
		for i := range v.Instances {
			if in := &v.Instances[i]; in.Zone == z {
				row += " " + say.Slip(in, p.Group.IsOverdue(now, in))
			}
		}
		out.Slips = append(out.Slips, row)
	}
	return out
}

// page is where the console shows something.
func (c *Control) page(path ...string) string {
	for k := range path {
		path[k] = url.PathEscape(path[k])
	}
	return strings.TrimSuffix(c.URL, "/") + "/" + strings.Join(path, "/")
}

// sendMessage sends one once, and records what came of it.
func (c *Control) sendMessage(ctx context.Context, m store.Message) {
	n, err := c.Store.Notice(ctx, m.Notice)
	if err != nil {
		c.warn("", "a message waits: its notice could not be read", err)
		return
	}
	out := c.sendOnce(ctx, n, m)
	if ctx.Err() != nil {
		return // whoever is next sends it
	}
	now := c.Clock.Now()
	m.State, m.TookMs, m.Status, m.CameBack = "sent", out.Took.Milliseconds(), out.Status, out.CameBack
	next := now
	if !out.Heard {
		m.State = "waiting"
		next = now.Add(min(firstPause<<min(m.Tries, 12), lastTry))
		if m.Tries >= mostTries {
			m.State = "failed"
		}
	}
	changed, err := c.Store.Sent(ctx, m, out.Heard, now, next)
	if err != nil {
		c.warn("", "what came of a message was not recorded; it is sent again", err)
		return
	}
	if changed {
		c.sayHeard(ctx, n, out)
	}
}

// sendOnce sends a message where its notice says.
func (c *Control) sendOnce(ctx context.Context, n store.Notice, m store.Message) notice.Delivery {
	content := c.contentOf(ctx, m)
	id := fmt.Sprintf("notice.%s.%d", m.Notice, m.Number)
	if n.Send == "" {
		if c.Mailer == nil {
			return notice.Delivery{CameBack: "this service knows no mail server; it is told one with --mail-server"}
		}
		return c.Mailer.Send(ctx, n.Mail, id, &content)
	}
	secret, err := c.Store.NoticeSecret(ctx, n.Name)
	if err != nil {
		return notice.Delivery{CameBack: "its secret could not be read"}
	}
	kind := "unitas.notice"
	if content.Test {
		kind = "unitas.notice.test"
	}
	return c.sender.Send(ctx, notice.Message{URL: n.Send, Secret: secret, Headers: n.Headers, ID: id, Type: kind, Source: "unitas", Subject: n.Name, Time: m.At, Data: content})
}

// sayHeard writes into the journal that a notice is not heard, or is heard again.
func (c *Control) sayHeard(ctx context.Context, n store.Notice, out notice.Delivery) {
	e := fleet.Entry{Kind: "notice.failing", Text: fmt.Sprintf("The notice %s is not delivered; its messages are tried again.", n.Name), Cause: fleet.Because(out.CameBack)}
	if out.Heard {
		e = fleet.Entry{Kind: "notice.heard", Text: fmt.Sprintf("The notice %s is delivered again.", n.Name), Cause: fleet.Because("a message was taken")}
	}
	if err := c.Store.Record(ctx, c.Clock.Now(), store.Service, "", e); err != nil {
		c.warn("", "that a notice is not heard was not written", err)
	}
}

// SendNow sends a message of a notice now, by a person, and returns it with what came of it: one
// that was sent before, or a test when number is 0.
func (c *Control) SendNow(ctx context.Context, actor, name string, number int64) (store.Message, error) {
	now := c.Clock.Now()
	if number == 0 {
		var err error
		if number, err = c.Store.AddMessage(ctx, now, actor, name, []notice.Line{}); err != nil {
			return store.Message{}, err
		}
	}
	m, err := c.Store.ClaimOne(ctx, now, actor, name, number)
	if err != nil {
		return m, err
	}
	c.sendMessage(ctx, m)
	all, err := c.Store.Messages(ctx, name, 1000)
	for _, one := range all {
		if one.Number == number {
			return one, err
		}
	}
	return m, err
}
