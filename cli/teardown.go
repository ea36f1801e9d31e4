package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/client"
)

// environment is all that has a label, in the order in which it can go: what uses
// others before what is used.
type environmentOf struct {
	groups    []client.Group
	instances []client.Instance // of the groups
	alone     []client.Instance // that belong to no group
	pools     []client.Pool
	checks    []client.Check
	templates []client.Template
	images    []client.Image
}

func (a *app) teardownCommand() *cobra.Command {
	var label string
	var yes, dry bool
	cmd := &cobra.Command{Use: "teardown --label NAME=VALUE", Short: "Remove everything that has a label, in the right order", Args: exactly(),
		Long: `Removes a whole environment: all groups, instances, pools, checks, templates and images
that have the label. Groups drain and stop first; then, once they are gone, what they
used goes. What something without the label still uses stays, and is named.`,
		Example: "  unitas teardown --label env=trial --dry-run\n  unitas teardown --label env=trial",
		RunE: func(cmd *cobra.Command, _ []string) error {
			name, value, ok := strings.Cut(label, "=")
			if !ok || name == "" {
				return misused("--label %s: give NAME=VALUE", label)
			}
			e, err := a.findLabelled(cmd.Context(), name, value)
			if err != nil {
				return err
			}
			lines := e.lines()
			if len(lines) == 0 {
				fmt.Fprintf(a.out, "Nothing has the label %s.\n", label)
				return nil
			}
			text := "This removes, in this order:\n  " + strings.Join(lines, "\n  ") + "\nJournals stay.\n"
			if dry {
				return a.print(lines, func() string { return text + "Nothing was removed; leave out --dry-run to remove it.\n" })
			}
			if frozen := e.frozen(); frozen != "" {
				return fmt.Errorf("the group %s is frozen; thaw it first with: unitas group thaw %s; nothing was removed", frozen, frozen)
			}
			if err := a.confirm(yes, fmt.Sprintf("teardown of %s removes %s", label, strings.Join(lines, "; ")), text+"Remove all of it?"); err != nil {
				return err
			}
			return a.tearDown(cmd.Context(), e)
		}}
	cmd.Flags().StringVar(&label, "label", "", "the label, `NAME=VALUE`")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only say what would be removed")
	_ = cmd.MarkFlagRequired("label")
	return cmd
}

func (a *app) findLabelled(ctx context.Context, name, value string) (e environmentOf, err error) {
	has := func(labels map[string]string) bool { v, ok := labels[name]; return ok && v == value }
	without := func(labels map[string]string) bool { return !has(labels) }
	if e.groups, err = a.allGroups(ctx); err != nil {
		return e, err
	}
	e.groups = slices.DeleteFunc(e.groups, func(g client.Group) bool { return without(g.Labels) })
	all, err := a.instancesOf(ctx, "", false)
	if err != nil {
		return e, err
	}
	for _, in := range all {
		if in.Group == "" && has(in.Labels) {
			e.alone = append(e.alone, in)
		}
		if slices.ContainsFunc(e.groups, func(g client.Group) bool { return g.Name == in.Group }) {
			e.instances = append(e.instances, in)
		}
	}
	if e.pools, err = a.pools(ctx); err != nil {
		return e, err
	}
	e.pools = slices.DeleteFunc(e.pools, func(p client.Pool) bool { return without(p.Labels) })
	if e.checks, err = list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListChecks(ctx, &client.ListChecksParams{After: after})
	}, func(l client.CheckList) ([]client.Check, *string) { return l.Items, l.Next }); err != nil {
		return e, err
	}
	e.checks = slices.DeleteFunc(e.checks, func(c client.Check) bool { return without(c.Labels) })
	if e.templates, err = list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListTemplates(ctx, &client.ListTemplatesParams{After: after})
	}, func(l client.TemplateList) ([]client.Template, *string) { return l.Items, l.Next }); err != nil {
		return e, err
	}
	e.templates = slices.DeleteFunc(e.templates, func(t client.Template) bool { return without(t.Labels) })
	labels := []string{name + "=" + value}
	e.images, err = list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListImages(ctx, &client.ListImagesParams{After: after, Label: &labels})
	}, func(l client.ImageList) ([]client.Image, *string) { return l.Items, l.Next })
	return e, err
}

func (a *app) allGroups(ctx context.Context) ([]client.Group, error) {
	return list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListGroups(ctx, &client.ListGroupsParams{After: after})
	}, func(l client.GroupList) ([]client.Group, *string) { return l.Items, l.Next })
}

func (e environmentOf) frozen() string {
	for _, g := range e.groups {
		if g.Frozen != "" {
			return g.Name
		}
	}
	return ""
}

func (e environmentOf) lines() []string {
	var all []string
	for _, g := range e.groups {
		n := 0
		for _, in := range e.instances {
			if in.Group == g.Name {
				n++
			}
		}
		line := fmt.Sprintf("the group %s with %s, out of %s", g.Name, counted(n, "instance"), orWord(strings.Join(g.Pools, ", "), "no pool"))
		if g.Frozen != "" {
			line += fmt.Sprintf(" (frozen: %s; it must be thawed first)", g.Frozen)
		}
		all = append(all, line)
	}
	for _, in := range e.alone {
		all = append(all, fmt.Sprintf("the instance %s in %s, which belongs to no group", in.Id, in.Zone))
	}
	for _, p := range e.pools {
		all = append(all, fmt.Sprintf("the pool %s with its listener on %s", p.Name, addressesOf(p)))
	}
	for _, c := range e.checks {
		all = append(all, "the check "+c.Name)
	}
	for _, t := range e.templates {
		all = append(all, fmt.Sprintf("the template %s@%d", t.Name, t.Version))
	}
	for _, i := range e.images {
		all = append(all, fmt.Sprintf("the image %s@%d", i.Name, i.Version))
	}
	return all
}

// tearDown removes the environment. What is refused is told and left, and the rest
// goes on.
func (a *app) tearDown(ctx context.Context, e environmentOf) error {
	whatever := "*"
	var left []string
	remove := func(what string, call func(c *client.Client) (*http.Response, error)) error {
		_, _, err := ask[struct{}](a, call)
		switch {
		case client.Is(err, "not-found"):
		case err != nil && !refused(err):
			return err
		case err != nil:
			left = append(left, what)
			fmt.Fprintf(a.err, "%s stays: %s\n", what, oneLine(err))
		default:
			fmt.Fprintf(a.err, "%s is removed\n", what)
		}
		return nil
	}
	for _, g := range e.groups {
		if _, _, err := ask[client.Group](a, func(c *client.Client) (*http.Response, error) {
			return c.DeleteGroup(ctx, g.Name, &client.DeleteGroupParams{IfMatch: &whatever})
		}); err != nil && !client.Is(err, "not-found") {
			return err
		}
		fmt.Fprintf(a.err, "the group %s drains and stops\n", g.Name)
	}
	for _, in := range e.alone {
		if _, err := a.tellInstance(ctx, in.Id, client.Retire, nil); err != nil && !client.Is(err, "not-found") {
			return err
		}
	}
	if err := a.awaitGone(ctx, e); err != nil {
		return err
	}
	for _, one := range e.deletions(ctx) {
		if err := remove(one.what, one.call); err != nil {
			return err
		}
	}
	if len(left) > 0 {
		return badEnd{fmt.Sprintf("not everything is removed: %s", strings.Join(left, ", "))}
	}
	return a.print(map[string]any{"removed": e.lines()}, func() string { return "All of it is removed.\n" })
}

// oneDeletion is one thing that goes by one call.
type oneDeletion struct {
	what string
	call func(c *client.Client) (*http.Response, error)
}

// deletions are those of what groups and instances used, in their order.
func (e environmentOf) deletions(ctx context.Context) []oneDeletion {
	whatever := "*"
	var all []oneDeletion
	add := func(what string, call func(c *client.Client) (*http.Response, error)) {
		all = append(all, oneDeletion{what, call})
	}
	for _, p := range e.pools {
		add("the pool "+p.Name, func(c *client.Client) (*http.Response, error) {
			return c.DeletePool(ctx, p.Name, &client.DeletePoolParams{IfMatch: &whatever})
		})
	}
	for _, check := range e.checks {
		add("the check "+check.Name, func(c *client.Client) (*http.Response, error) {
			return c.DeleteCheck(ctx, check.Name, &client.DeleteCheckParams{IfMatch: &whatever})
		})
	}
	for _, t := range e.templates {
		add(fmt.Sprintf("the template %s@%d", t.Name, t.Version), func(c *client.Client) (*http.Response, error) {
			return c.DeleteTemplate(ctx, t.Name, fmt.Sprint(t.Version), &client.DeleteTemplateParams{IfMatch: &whatever})
		})
	}
	for _, i := range e.images {
		add(fmt.Sprintf("the image %s@%d", i.Name, i.Version), func(c *client.Client) (*http.Response, error) {
			return c.DeleteImage(ctx, i.Name, fmt.Sprint(i.Version), &client.DeleteImageParams{IfMatch: &whatever})
		})
	}
	return all
}

// awaitGone tells how far the groups and instances are until none is left.
func (a *app) awaitGone(ctx context.Context, e environmentOf) error {
	tick := time.NewTicker(300 * time.Millisecond)
	defer tick.Stop()
	said := ""
	for {
		groups, err := a.allGroups(ctx)
		if err != nil {
			return err
		}
		instances, err := a.instancesOf(ctx, "", false)
		if err != nil {
			return err
		}
		var waits []string
		for _, g := range groups {
			if slices.ContainsFunc(e.groups, func(o client.Group) bool { return o.Name == g.Name }) {
				waits = append(waits, g.Name+": "+g.Summary.Sentence)
			}
		}
		for _, in := range instances {
			if slices.ContainsFunc(e.alone, func(o client.Instance) bool { return o.Id == in.Id }) {
				waits = append(waits, fmt.Sprintf("%s: %s.", in.Id, in.State))
			}
		}
		if len(waits) == 0 {
			return nil
		}
		if text := strings.Join(waits, "\n"); spans.ReplaceAllString(text, "") != said {
			fmt.Fprintln(a.err, text)
			said = spans.ReplaceAllString(text, "")
		}
		select {
		case <-ctx.Done():
			return errors.New("it goes on by itself for the groups; run the same command again for the rest")
		case <-tick.C:
		}
	}
}
