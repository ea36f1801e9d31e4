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

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

// environment is all that has a label, in the order in which it can go: what uses
// others before what is used.
type environmentOf struct {
	groups    []contract.Group
	instances []contract.Instance // of the groups
	alone     []contract.Instance // that belong to no group
	pools     []contract.Pool
	checks    []contract.Check
	templates []contract.Template
	images    []contract.Image
	// stays says of pools, checks, templates and images why they cannot go, by what
	// lines calls them.
	stays map[string]string
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
			if err := a.judge(cmd.Context(), &e); err != nil {
				return err
			}
			lines, stay := e.lines(), e.stayLines()
			if len(lines)+len(stay) == 0 {
				fmt.Fprintf(a.out, "Nothing has the label %s.\n", label)
				return nil
			}
			text := "This removes, in this order:\n  " + strings.Join(lines, "\n  ") + "\n"
			if len(lines) == 0 {
				text = "This removes nothing.\n"
			}
			if len(stay) > 0 {
				text += "This stays, since something without the label uses it:\n  " + strings.Join(stay, "\n  ") + "\n"
			}
			text += "Journals stay.\n"
			if dry {
				return a.print(map[string]any{"removes": lines, "stays": append([]string{}, stay...)}, func() string { return text + "Nothing was removed; leave out --dry-run to remove it.\n" })
			}
			if pinned := e.pinned(); len(pinned) > 0 {
				return fmt.Errorf("%s pinned: %s; unpin first what may go; nothing was removed", words.Are(len(pinned), "instance"), strings.Join(pinned, ", "))
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
	e.groups = slices.DeleteFunc(e.groups, func(g contract.Group) bool { return without(g.Labels) })
	all, err := a.instancesOf(ctx, "", false)
	if err != nil {
		return e, err
	}
	for _, in := range all {
		if in.Group == "" && has(in.Labels) {
			e.alone = append(e.alone, in)
		}
		if slices.ContainsFunc(e.groups, func(g contract.Group) bool { return g.Name == in.Group }) {
			e.instances = append(e.instances, in)
		}
	}
	if e.pools, err = a.pools(ctx); err != nil {
		return e, err
	}
	e.pools = slices.DeleteFunc(e.pools, func(p contract.Pool) bool { return without(p.Labels) })
	if e.checks, err = list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListChecks(ctx, &contract.ListChecksParams{After: after})
	}, func(l contract.CheckList) ([]contract.Check, *string) { return l.Items, l.Next }); err != nil {
		return e, err
	}
	e.checks = slices.DeleteFunc(e.checks, func(c contract.Check) bool { return without(c.Labels) })
	if e.templates, err = list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListTemplates(ctx, &contract.ListTemplatesParams{After: after})
	}, func(l contract.TemplateList) ([]contract.Template, *string) { return l.Items, l.Next }); err != nil {
		return e, err
	}
	e.templates = slices.DeleteFunc(e.templates, func(t contract.Template) bool { return without(t.Labels) })
	labels := []string{name + "=" + value}
	e.images, err = list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListImages(ctx, &contract.ListImagesParams{After: after, Label: &labels})
	}, func(l contract.ImageList) ([]contract.Image, *string) { return l.Items, l.Next })
	return e, err
}

func (a *app) allGroups(ctx context.Context) ([]contract.Group, error) {
	return list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListGroups(ctx, &contract.ListGroupsParams{After: after})
	}, func(l contract.GroupList) ([]contract.Group, *string) { return l.Items, l.Next })
}

func (e environmentOf) frozen() string {
	for _, g := range e.groups {
		if g.Frozen != "" {
			return g.Name
		}
	}
	return ""
}

// pinned are the instances that nothing may remove.
func (e environmentOf) pinned() []string {
	var all []string
	for _, in := range slices.Concat(e.instances, e.alone) {
		if in.Pinned {
			all = append(all, in.Id)
		}
	}
	return all
}

func (e environmentOf) lines() []string {
	var all []string
	for _, g := range e.groups {
		n := 0
		var pinned []string
		for _, in := range e.instances {
			if in.Group == g.Name {
				n++
				if in.Pinned {
					pinned = append(pinned, in.Id)
				}
			}
		}
		line := fmt.Sprintf("the group %s with %s, out of %s", g.Name, words.Count(n, "instance"), orWord(strings.Join(g.Pools, ", "), "no pool"))
		if len(pinned) > 0 {
			line += fmt.Sprintf(" (pinned: %s; unpin first)", strings.Join(pinned, ", "))
		}
		if g.Frozen != "" {
			line += fmt.Sprintf(" (frozen: %s; it must be thawed first)", g.Frozen)
		}
		all = append(all, line)
	}
	for _, in := range e.alone {
		all = append(all, fmt.Sprintf("the instance %s in %s, which belongs to no group", in.Id, in.Zone))
	}
	for _, p := range e.pools {
		if e.stays["the pool "+p.Name] == "" {
			all = append(all, fmt.Sprintf("the pool %s with its listener on %s", p.Name, addressesOf(p)))
		}
	}
	for _, one := range e.deletions(context.Background())[len(e.pools):] {
		if e.stays[one.what] == "" {
			all = append(all, one.what)
		}
	}
	return all
}

// stayLines tell what cannot go, and why.
func (e environmentOf) stayLines() []string {
	var all []string
	for _, one := range e.deletions(context.Background()) {
		if why := e.stays[one.what]; why != "" {
			all = append(all, one.what+": "+why)
		}
	}
	return all
}

// judge finds out what cannot go, in the order of removal, since what stays keeps
// what it uses.
func (a *app) judge(ctx context.Context, e *environmentOf) error {
	e.stays = map[string]string{}
	stay := func(what string, users ...string) {
		users = slices.DeleteFunc(users, func(u string) bool {
			_, stays := e.stays[u]
			return !stays && slices.ContainsFunc(e.deletions(ctx), func(d oneDeletion) bool { return d.what == u })
		})
		if len(users) > 0 {
			e.stays[what] = strings.Join(users, ", ") + either(len(users), " uses it", " use it")
		}
	}
	named := func(kind string, names []string) (all []string) {
		for _, n := range names {
			switch {
			case kind == "the group" && slices.ContainsFunc(e.groups, func(g contract.Group) bool { return g.Name == n }):
			case kind == "the instance" && slices.ContainsFunc(append(slices.Clone(e.instances), e.alone...), func(i contract.Instance) bool { return i.Id == n }):
			default:
				all = append(all, kind+" "+n)
			}
		}
		return all
	}
	for _, p := range e.pools {
		stay("the pool "+p.Name, named("the group", p.Groups)...)
	}
	for _, check := range e.checks {
		c, _, err := ask[contract.Check](a, func(c *client.Client) (*http.Response, error) { return c.GetCheck(ctx, check.Name) })
		if err != nil {
			return err
		}
		stay("the check "+check.Name, append(named("the pool", valueOr(c.Pools, nil)), named("the group", valueOr(c.Groups, nil))...)...)
	}
	for _, t := range e.templates {
		ref := fmt.Sprintf("%s@%d", t.Name, t.Version)
		whole, _, err := a.readTemplate(ctx, ref)
		if err != nil {
			return err
		}
		stay("the template "+ref, append(named("the group", whole.Users.Groups), named("the instance", whole.Users.Instances)...)...)
	}
	for _, i := range e.images {
		ref := fmt.Sprintf("%s@%d", i.Name, i.Version)
		whole, _, err := a.readImage(ctx, ref)
		if err != nil {
			return err
		}
		stay("the image "+ref, slices.Concat(named("the template", whole.Users.Templates), named("the group", whole.Users.Groups), named("the instance", whole.Users.Instances))...)
	}
	return nil
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
		if _, _, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) {
			return c.DeleteGroup(ctx, g.Name, &contract.DeleteGroupParams{IfMatch: &whatever})
		}); err != nil && !client.Is(err, "not-found") {
			return err
		}
		fmt.Fprintf(a.err, "the group %s drains and stops\n", g.Name)
	}
	for _, in := range e.alone {
		if _, err := a.tellInstances(ctx, []string{in.Id}, contract.InstancesCommandCommandRetire, nil, nil, nil); err != nil && !client.Is(err, "not-found") {
			return err
		}
	}
	if err := a.awaitGone(ctx, e); err != nil {
		return err
	}
	for _, one := range e.deletions(ctx) {
		if why := e.stays[one.what]; why != "" {
			fmt.Fprintf(a.err, "%s stays: %s\n", one.what, why)
			continue
		}
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
			return c.DeletePool(ctx, p.Name, &contract.DeletePoolParams{IfMatch: &whatever})
		})
	}
	for _, check := range e.checks {
		add("the check "+check.Name, func(c *client.Client) (*http.Response, error) {
			return c.DeleteCheck(ctx, check.Name, &contract.DeleteCheckParams{IfMatch: &whatever})
		})
	}
	for _, t := range e.templates {
		add(fmt.Sprintf("the template %s@%d", t.Name, t.Version), func(c *client.Client) (*http.Response, error) {
			return c.DeleteTemplate(ctx, t.Name, fmt.Sprint(t.Version), &contract.DeleteTemplateParams{IfMatch: &whatever})
		})
	}
	for _, i := range e.images {
		add(fmt.Sprintf("the image %s@%d", i.Name, i.Version), func(c *client.Client) (*http.Response, error) {
			return c.DeleteImage(ctx, i.Name, fmt.Sprint(i.Version), &contract.DeleteImageParams{IfMatch: &whatever})
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
			if slices.ContainsFunc(e.groups, func(o contract.Group) bool { return o.Name == g.Name }) {
				waits = append(waits, g.Name+": "+g.Summary.Sentence)
			}
		}
		for _, in := range instances {
			if slices.ContainsFunc(e.alone, func(o contract.Instance) bool { return o.Id == in.Id }) {
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
