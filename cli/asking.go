package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

// asking asks a person one thing after another, until the context ends.
type asking struct {
	ctx   context.Context
	lines <-chan string // closed at the end of what there is to read
	out   io.Writer
}

// askOn reads answers from in. Reading goes on by itself, so that Ctrl-C is heard
// while an answer is waited for.
func askOn(ctx context.Context, in io.Reader, out io.Writer) asking {
	lines := make(chan string)
	go func() {
		defer close(lines)
		for s := bufio.NewScanner(in); s.Scan(); {
			select {
			case lines <- s.Text():
			case <-ctx.Done():
				return
			}
		}
	}()
	return asking{ctx, lines, out}
}

// line asks for a line; without an answer it is the usual one.
func (q asking) line(what, usual string) (string, error) {
	if usual != "" {
		what += " [" + usual + "]"
	}
	fmt.Fprint(q.out, what+": ")
	select {
	case <-q.ctx.Done():
		fmt.Fprintln(q.out)
		return "", errors.New("it was broken off, and nothing was made")
	case text, more := <-q.lines:
		if !more {
			return "", errors.New("there was no answer, and nothing was made")
		}
		return cmp.Or(strings.TrimSpace(text), usual), nil
	}
}

// until asks for a line until it is good; good says what is wrong, or "".
func (q asking) until(what, usual string, good func(answer string) (wrong string, err error)) (string, error) {
	for {
		answer, err := q.line(what, usual)
		if err != nil {
			return "", err
		}
		wrong, err := good(answer)
		if wrong == "" || err != nil {
			return answer, err
		}
		fmt.Fprintf(q.out, "  %s.\n", wrong)
	}
}

// number asks until it is one of the range.
func (q asking) number(what string, usual, least, most int) (*int, error) {
	var n int
	_, err := q.until(what, strconv.Itoa(min(max(usual, least), most)), func(answer string) (string, error) {
		var err error
		if n, err = parseNumber(answer); err != nil {
			return err.Error(), nil
		}
		if n < least || n > most {
			return fmt.Sprintf("%d is not from %d to %d", n, least, most), nil
		}
		return "", nil
	})
	return &n, err
}

// oneOf asks until it is one of those offered.
func (q asking) oneOf(what, usual string, offered []string) (string, error) {
	for {
		answer, err := q.line(what, usual)
		if err != nil || slices.Contains(offered, answer) {
			return answer, err
		}
		fmt.Fprintf(q.out, "  %q is not one of: %s.\n", answer, strings.Join(offered, ", "))
	}
}

// several asks for names with commas between until all are among those offered.
func (q asking) several(what, usual string, offered []string) (*[]string, error) {
	for {
		answer, err := q.line(what, usual)
		if err != nil {
			return nil, err
		}
		names := []string{}
		for name := range strings.SplitSeq(answer, ",") {
			if name = strings.TrimSpace(name); name != "" && name != "none" {
				names = append(names, name)
			}
		}
		if i := slices.IndexFunc(names, func(n string) bool { return !slices.Contains(offered, n) }); i >= 0 {
			fmt.Fprintf(q.out, "  %q is not one of: %s.\n", names[i], strings.Join(offered, ", "))
			continue
		}
		return &names, nil
	}
}

// duration asks until it is one of the range.
func (q asking) duration(what string, usual, least, most time.Duration) (*span, error) {
	var s span
	_, err := q.until(what, usual.String(), func(answer string) (string, error) {
		if err := s.UnmarshalText([]byte(answer)); err != nil {
			return fmt.Sprintf("%q is not a duration, such as 90s or 5m", answer), nil
		}
		if d := time.Duration(s); d < least || d > most {
			return fmt.Sprintf("%s is not from %s to %s", answer, least, most), nil
		}
		return "", nil
	})
	return &s, err
}

// askForGroup asks for a whole group, in the order in which people think. Nothing is
// made before the review; a new template is made with the group.
func (a *app) askForGroup(ctx context.Context, form groupForm) (groupForm, error) {
	q := askOn(ctx, os.Stdin, a.err)
	steps := []func(context.Context, asking, *groupForm) error{a.askWhat, a.askWhere, a.askHowMany, a.askTraffic, a.askHealing, a.askLabels}
	for {
		for _, step := range steps {
			if err := step(ctx, q, &form); err != nil {
				return form, err
			}
		}
		g, err := a.makeGroup(ctx, form, true)
		if err != nil {
			if !refused(err) {
				return form, err
			}
			fmt.Fprintf(a.err, "\nThis cannot be made:\n  %s\nEvery question comes again, with the answers so far.\n\n", strings.ReplaceAll(err.Error(), "\n", "\n  "))
			continue
		}
		fmt.Fprintf(a.err, "\n%s%s\n", review(g), newTemplateLine(form))
		switch answer, err := q.oneOf("Make it? yes, no, or again to go through the answers", "yes", []string{"yes", "no", "again"}); {
		case err != nil:
			return form, err
		case answer == "yes":
			return form, nil
		case answer == "no":
			return form, errors.New("nothing was made")
		}
	}
}

// newTemplateLine tells of the template that is made with the group.
func newTemplateLine(form groupForm) string {
	t := form.NewTemplate
	if t == nil {
		return ""
	}
	return fmt.Sprintf("The template %s@1 is made with it: it launches %s and listens on port %d.\n", t.Name, t.Image, *t.Port)
}

func valueOr[T any](p *T, otherwise T) T {
	if p == nil {
		return otherwise
	}
	return *p
}

func (a *app) askWhat(ctx context.Context, q asking, form *groupForm) (err error) {
	fmt.Fprintln(q.out, "What runs?")
	fmt.Fprintln(q.out, "  A name begins with a letter, goes on with letters, digits or hyphens, has 63 characters\n  at most and does not end with a hyphen.")
	if form.Name, err = q.until("  group", form.Name, func(name string) (string, error) {
		return a.freeName(ctx, name, "group", func(c *client.Client) (*http.Response, error) { return c.GetGroup(ctx, name) })
	}); err != nil {
		return err
	}
	templates, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListTemplates(ctx, &contract.ListTemplatesParams{After: after})
	}, func(l contract.TemplateList) ([]contract.Template, *string) { return l.Items, l.Next })
	if err != nil {
		return err
	}
	offered := []string{"new"}
	usual := "new"
	for _, t := range templates {
		if t.State == contract.TemplateStateReady {
			if len(offered) == 1 {
				usual = fmt.Sprintf("%s@%d", t.Name, t.Version)
			}
			offered = append(offered, fmt.Sprintf("%s@%d", t.Name, t.Version))
			fmt.Fprintf(q.out, "  %s@%d launches %s  %s\n", t.Name, t.Version, t.Image, t.Note)
		}
	}
	if form.NewTemplate != nil {
		usual = "new"
	} else if form.Template != nil {
		usual = *form.Template
	}
	answer, err := q.oneOf("  template version, or new for a new template", usual, offered)
	if err != nil {
		return err
	}
	if answer == "new" {
		return a.askTemplate(ctx, q, form)
	}
	form.Template, form.NewTemplate = &answer, nil
	return nil
}

// freeName says why something cannot have a name, or "".
func (a *app) freeName(ctx context.Context, name, kind string, read func(*client.Client) (*http.Response, error)) (wrong string, err error) {
	if !words.IsName(name) {
		return fmt.Sprintf("%q is not a name: %s", name, words.NamingRule), nil
	}
	_, _, err = ask[struct{}](a, read)
	switch {
	case client.Is(err, "not-found"):
		return "", nil
	case err != nil:
		return "", err
	}
	return fmt.Sprintf("there is a %s %s already; choose another name", kind, name), nil
}

// askTemplate asks for a new template, which is made with the group.
func (a *app) askTemplate(ctx context.Context, q asking, form *groupForm) error {
	images, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListImages(ctx, &contract.ListImagesParams{After: after})
	}, func(l contract.ImageList) ([]contract.Image, *string) { return l.Items, l.Next })
	if err != nil {
		return err
	}
	var offered []string
	for _, i := range images {
		if i.State == contract.ImageStateReady {
			offered = append(offered, fmt.Sprintf("%s@%d", i.Name, i.Version))
		}
	}
	if len(offered) == 0 {
		return errors.New("there is no image that could be launched; bring one in first with: unitas image import NAME --from FILE")
	}
	had := valueOr(form.NewTemplate, contract.NewTemplate{Name: form.Name, Image: offered[0]})
	t := contract.NewTemplate{}
	if t.Name, err = q.until("  name of the new template", had.Name, func(name string) (string, error) {
		return a.freeName(ctx, name, "template", func(c *client.Client) (*http.Response, error) { return c.GetTemplate(ctx, name, "1") })
	}); err != nil {
		return err
	}
	if t.Image, err = q.oneOf("  image ("+strings.Join(offered, ", ")+")", had.Image, offered); err != nil {
		return err
	}
	if t.Port, err = q.number("  port that it listens on", valueOr(had.Port, 8080), 1, 65535); err != nil {
		return err
	}
	version := t.Name + "@1"
	form.Template, form.NewTemplate = &version, &t
	return nil
}

func (a *app) askWhere(ctx context.Context, q asking, form *groupForm) error {
	places, _, err := ask[contract.PlaceList](a, func(c *client.Client) (*http.Response, error) { return c.ListPlaces(ctx) })
	if err != nil {
		return err
	}
	var zones, home []string
	for _, region := range places.Items {
		for _, z := range region.Zones {
			zones = append(zones, z.Name)
			if region.Home {
				home = append(home, z.Name)
			}
		}
	}
	fmt.Fprintln(q.out, "Where?")
	if form.Zones, err = q.several("  zones ("+strings.Join(zones, ", ")+")", strings.Join(valueOr(form.Zones, home), ","), zones); err != nil {
		return err
	}
	spread, err := q.oneOf("  spread: even, in-order or cheapest", string(valueOr(form.Spread, contract.Even)), []string{"even", "in-order", "cheapest"})
	form.Spread = (*contract.Spread)(&spread)
	return err
}

// largestGroup is the most that a group may have.
const largestGroup = 10_000

func (a *app) askHowMany(_ context.Context, q asking, form *groupForm) (err error) {
	fmt.Fprintln(q.out, "How many?")
	if form.Size, err = q.number("  size now", valueOr(form.Size, len(valueOr(form.Zones, nil))), 0, largestGroup); err != nil {
		return err
	}
	if form.Min, err = q.number("  min, the least size", valueOr(form.Min, min(*form.Size, 1)), 0, *form.Size); err != nil {
		return err
	}
	form.Max, err = q.number("  max, the bound whatever the size is now", valueOr(form.Max, *form.Size), *form.Size, largestGroup)
	return err
}

func (a *app) askTraffic(ctx context.Context, q asking, form *groupForm) error {
	pools, err := a.pools(ctx)
	if err != nil {
		return err
	}
	fmt.Fprintln(q.out, "Who gets traffic?")
	if len(pools) == 0 {
		fmt.Fprintln(q.out, "  There are no pools; make one later with: unitas pool create")
		form.Pools = &[]string{}
		return nil
	}
	var names []string
	for _, p := range pools {
		names = append(names, p.Name)
		fmt.Fprintf(q.out, "  %s listens on %s, judged by %s\n", p.Name, addressesOf(p), p.Check)
	}
	if form.Pools, err = q.several("  pools, or none", strings.Join(valueOr(form.Pools, names[:1]), ","), names); err != nil {
		return err
	}
	form.Drain, err = q.duration("  drain: how long one may finish its requests", time.Duration(valueOr(form.Drain, span(30*time.Second))), 0, time.Hour)
	return err
}

func (a *app) askHealing(ctx context.Context, q asking, form *groupForm) error {
	checks, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListChecks(ctx, &contract.ListChecksParams{After: after})
	}, func(l contract.CheckList) ([]contract.Check, *string) { return l.Items, l.Next })
	if err != nil {
		return err
	}
	fmt.Fprintln(q.out, "How is it judged and healed?")
	offered := []string{"off", "machine", "traffic"}
	for _, c := range checks {
		offered = append(offered, c.Name)
		fmt.Fprintf(q.out, "  %s asks %s\n", c.Name, question(c))
	}
	heal, err := q.oneOf("  heal: off, machine, traffic, or a check", valueOr(form.Heal, "machine"), offered)
	if err != nil {
		return err
	}
	form.Heal = &heal
	if form.HealLimit, err = q.number("  heal-limit in percent of the size", valueOr(form.HealLimit, 30), 1, 100); err != nil {
		return err
	}
	form.Settle, err = q.duration("  settle: how long after boot one may take to become healthy", time.Duration(valueOr(form.Settle, span(time.Minute))), time.Second, time.Hour)
	return err
}

func (a *app) askLabels(_ context.Context, q asking, form *groupForm) error {
	for {
		answer, err := q.line("Labels, NAME=VALUE with commas between, or none", orWord(pairs(valueOr(form.Labels, nil)), "none"))
		if err != nil {
			return err
		}
		labels := map[string]string{}
		if answer != "none" {
			err = (&pairsValue{&labels}).Set(answer)
		}
		if err == nil {
			form.Labels = (*contract.Labels)(&labels)
			return nil
		}
		fmt.Fprintf(q.out, "  %s.\n", err)
	}
}
