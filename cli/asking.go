package cli

import (
	"bufio"
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

	"unitas/client"
)

// asking asks a person one thing after another.
type asking struct {
	in  *bufio.Scanner
	out io.Writer
}

// line asks for a line; without an answer it is the usual one.
func (q asking) line(what, usual string) (string, error) {
	if usual != "" {
		what += " [" + usual + "]"
	}
	fmt.Fprint(q.out, what+": ")
	if !q.in.Scan() {
		return "", errors.New("there was no answer, and nothing was made")
	}
	answer := strings.TrimSpace(q.in.Text())
	if answer == "" {
		answer = usual
	}
	return answer, nil
}

// number asks until it is one.
func (q asking) number(what string, usual int) (*int, error) {
	for {
		answer, err := q.line(what, strconv.Itoa(usual))
		if err != nil {
			return nil, err
		}
		if n, err := strconv.Atoi(answer); err == nil && n >= 0 {
			return &n, nil
		}
		fmt.Fprintf(q.out, "  %q is not a whole number from 0 on.\n", answer)
	}
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

// duration asks until it is one.
func (q asking) duration(what, usual string) (*span, error) {
	for {
		answer, err := q.line(what, usual)
		if err != nil {
			return nil, err
		}
		var s span
		if err := s.UnmarshalText([]byte(answer)); err == nil {
			return &s, nil
		}
		fmt.Fprintf(q.out, "  %q is not a duration, such as 90s or 5m.\n", answer)
	}
}

// askForGroup asks for a whole group, in the order in which people think.
func (a *app) askForGroup(ctx context.Context, form groupForm) (groupForm, error) {
	q := asking{bufio.NewScanner(os.Stdin), a.err}
	steps := []func(context.Context, asking, *groupForm) error{a.askWhat, a.askWhere, a.askHowMany, a.askTraffic, a.askHealing, a.askLabels}
	for {
		for _, step := range steps {
			if err := step(ctx, q, &form); err != nil {
				return form, err
			}
		}
		g, err := a.makeGroup(ctx, form, true)
		if err != nil {
			fmt.Fprintf(a.err, "\nThis cannot be made:\n  %s\nThe answers so far are offered again.\n\n", strings.ReplaceAll(err.Error(), "\n", "\n  "))
			continue
		}
		fmt.Fprintf(a.err, "\n%s\n", review(g))
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

func valueOr[T any](p *T, otherwise T) T {
	if p == nil {
		return otherwise
	}
	return *p
}

func (a *app) askWhat(ctx context.Context, q asking, form *groupForm) error {
	fmt.Fprintln(q.out, "What runs?")
	var err error
	for form.Name == "" {
		fmt.Fprintln(q.out, "  A name begins with a letter, goes on with letters, digits or hyphens, has 63 characters\n  at most and does not end with a hyphen.")
		if form.Name, err = q.line("  group", ""); err != nil {
			return err
		}
	}
	templates, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListTemplates(ctx, &client.ListTemplatesParams{After: after})
	}, func(l client.TemplateList) ([]client.Template, *string) { return l.Items, l.Next })
	if err != nil {
		return err
	}
	offered := []string{"new"}
	usual := "new"
	for _, t := range templates {
		if t.State == client.TemplateStateReady {
			if len(offered) == 1 {
				usual = fmt.Sprintf("%s@%d", t.Name, t.Version)
			}
			offered = append(offered, fmt.Sprintf("%s@%d", t.Name, t.Version))
			fmt.Fprintf(q.out, "  %s@%d launches %s  %s\n", t.Name, t.Version, t.Image, t.Note)
		}
	}
	answer, err := q.oneOf("  template version, or new for a new template", valueOr(form.Template, usual), offered)
	if err != nil {
		return err
	}
	if answer == "new" {
		if answer, err = a.askTemplate(ctx, q, form.Name); err != nil {
			return err
		}
	}
	form.Template = &answer
	return nil
}

// askTemplate makes a new template in place.
func (a *app) askTemplate(ctx context.Context, q asking, groupName string) (string, error) {
	images, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListImages(ctx, &client.ListImagesParams{After: after})
	}, func(l client.ImageList) ([]client.Image, *string) { return l.Items, l.Next })
	if err != nil {
		return "", err
	}
	var offered []string
	for _, i := range images {
		if i.State == client.ImageStateReady {
			offered = append(offered, fmt.Sprintf("%s@%d", i.Name, i.Version))
		}
	}
	if len(offered) == 0 {
		return "", errors.New("there is no image that could be launched; bring one in first with: unitas image import NAME --from FILE")
	}
	for {
		name, err := q.line("  name of the new template", groupName)
		if err != nil {
			return "", err
		}
		image, err := q.oneOf("  image ("+strings.Join(offered, ", ")+")", offered[0], offered)
		if err != nil {
			return "", err
		}
		port, err := q.number("  port that it listens on", 8080)
		if err != nil {
			return "", err
		}
		t, _, err := ask[client.Template](a, func(c *client.Client) (*http.Response, error) {
			return c.CreateTemplate(ctx, &client.CreateTemplateParams{IdempotencyKey: freshKey()}, client.NewTemplate{Name: name, Image: image, Port: port})
		})
		if err == nil {
			return fmt.Sprintf("%s@%d", t.Name, t.Version), nil
		}
		if !refused(err) {
			return "", err
		}
		fmt.Fprintf(q.out, "  %s\n", err)
	}
}

func (a *app) askWhere(ctx context.Context, q asking, form *groupForm) error {
	places, _, err := ask[client.PlaceList](a, func(c *client.Client) (*http.Response, error) { return c.ListPlaces(ctx) })
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
	spread, err := q.oneOf("  spread: even, in-order or cheapest", string(valueOr(form.Spread, client.Even)), []string{"even", "in-order", "cheapest"})
	form.Spread = (*client.Spread)(&spread)
	return err
}

func (a *app) askHowMany(_ context.Context, q asking, form *groupForm) (err error) {
	fmt.Fprintln(q.out, "How many?")
	if form.Size, err = q.number("  size now", valueOr(form.Size, len(valueOr(form.Zones, nil)))); err != nil {
		return err
	}
	if form.Min, err = q.number("  min, the least size", valueOr(form.Min, min(*form.Size, 1))); err != nil {
		return err
	}
	form.Max, err = q.number("  max, the bound whatever the size is now", valueOr(form.Max, *form.Size))
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
	form.Drain, err = q.duration("  drain: how long one may finish its requests", time.Duration(valueOr(form.Drain, span(30*time.Second))).String())
	return err
}

func (a *app) askHealing(ctx context.Context, q asking, form *groupForm) error {
	checks, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListChecks(ctx, &client.ListChecksParams{After: after})
	}, func(l client.CheckList) ([]client.Check, *string) { return l.Items, l.Next })
	if err != nil {
		return err
	}
	fmt.Fprintln(q.out, "How is it judged and healed?")
	offered, usual := []string{"off", "machine"}, "machine"
	for _, c := range checks {
		offered, usual = append(offered, c.Name), c.Name
		fmt.Fprintf(q.out, "  %s asks %s\n", c.Name, question(c))
	}
	heal, err := q.oneOf("  heal: off, machine, or a check", valueOr(form.Heal, usual), offered)
	if err != nil {
		return err
	}
	form.Heal = &heal
	if form.HealLimit, err = q.number("  heal-limit in percent of the size", valueOr(form.HealLimit, 30)); err != nil {
		return err
	}
	form.Settle, err = q.duration("  settle: how long after boot one may take to become healthy", time.Duration(valueOr(form.Settle, span(time.Minute))).String())
	return err
}

func (a *app) askLabels(_ context.Context, q asking, form *groupForm) error {
	for {
		answer, err := q.line("Labels, NAME=VALUE with commas between, or none", orWord(pairs(valueOr(form.Labels, nil)), "none"))
		if err != nil {
			return err
		}
		labels := client.Labels{}
		bad := ""
		for pair := range strings.SplitSeq(answer, ",") {
			name, value, ok := strings.Cut(strings.TrimSpace(pair), "=")
			switch {
			case answer == "none":
			case !ok || name == "":
				bad = pair
			default:
				labels[name] = value
			}
		}
		if bad == "" {
			form.Labels = &labels
			return nil
		}
		fmt.Fprintf(q.out, "  %q is not NAME=VALUE.\n", bad)
	}
}
