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

	"github.com/spf13/cobra"
	"sigs.k8s.io/yaml"

	"unitas/client"
)

// groupForm is a group as people write it: in flags, in a file, or in answers.
// What is nil is not given.
type groupForm struct {
	Name      string         `json:"name,omitempty"`
	Template  *string        `json:"template,omitempty"`
	Zones     *[]string      `json:"zones,omitempty"`
	Spread    *client.Spread `json:"spread,omitempty"`
	Size      *int           `json:"size,omitempty"`
	Min       *int           `json:"min,omitempty"`
	Max       *int           `json:"max,omitempty"`
	Above     *int           `json:"above,omitempty"`
	Shed      *client.Shed   `json:"shed,omitempty"`
	Pools     *[]string      `json:"pools,omitempty"`
	Heal      *string        `json:"heal,omitempty"`
	HealLimit *int           `json:"heal-limit,omitempty"` // percent
	Settle    *span          `json:"settle,omitempty"`
	Drain     *span          `json:"drain,omitempty"`
	PinNew    *bool          `json:"pin-new,omitempty"`
	Labels    *client.Labels `json:"labels,omitempty"`
}

// span is a duration as people write it, such as 90s.
type span time.Duration

// UnmarshalText reads a Go duration.
func (s *span) UnmarshalText(text []byte) error {
	d, err := time.ParseDuration(string(text))
	*s = span(d)
	return err
}

func secondsIn(s *span) *float64 {
	if s == nil {
		return nil
	}
	seconds := time.Duration(*s).Seconds()
	return &seconds
}

func (f groupForm) body() client.NewGroup {
	out := client.NewGroup{Name: f.Name, Min: f.Min, Max: f.Max, Zones: f.Zones, Spread: f.Spread, Above: f.Above, Shed: f.Shed, Pools: f.Pools, Heal: f.Heal,
		HealLimitPercent: f.HealLimit, SettleSeconds: secondsIn(f.Settle), DrainSeconds: secondsIn(f.Drain), PinNew: f.PinNew, Labels: f.Labels}
	if f.Template != nil {
		out.Template = *f.Template
	}
	if f.Size != nil {
		out.Size = *f.Size
	}
	return out
}

// over returns the form with what the other gives put over it.
func (f groupForm) over(o groupForm) groupForm {
	for _, set := range []func(){
		put(&f.Template, o.Template), put(&f.Zones, o.Zones), put(&f.Spread, o.Spread), put(&f.Size, o.Size), put(&f.Min, o.Min), put(&f.Max, o.Max),
		put(&f.Above, o.Above), put(&f.Shed, o.Shed), put(&f.Pools, o.Pools), put(&f.Heal, o.Heal), put(&f.HealLimit, o.HealLimit), put(&f.Settle, o.Settle),
		put(&f.Drain, o.Drain), put(&f.PinNew, o.PinNew), put(&f.Labels, o.Labels),
	} {
		set()
	}
	if o.Name != "" {
		f.Name = o.Name
	}
	return f
}

func put[T any](to **T, from *T) func() {
	return func() {
		if from != nil {
			*to = from
		}
	}
}

// groupFlags are the settings of a group as flags.
type groupFlags struct {
	size, least, most, above, healLimit  int
	template, shed, spread, heal, reason string
	zones, pools                         []string
	settle, drain                        time.Duration
	pinNew, dryRun                       bool
	labels                               map[string]string
}

func (f *groupFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.template, "template", "", "the template version for new launches, `NAME@N`")
	flags.IntVar(&f.size, "size", 0, "how many instances there should be")
	flags.IntVar(&f.least, "min", 0, "the least size")
	flags.IntVar(&f.most, "max", 0, "the most size")
	flags.IntVar(&f.above, "above", 1, "how many instances more than the size there may be while one is replaced")
	flags.StringSliceVar(&f.zones, "zones", nil, "the zones, in this order")
	flags.StringVar(&f.spread, "spread", "even", "how zones are filled: even, in-order (the first that takes machines) or cheapest (by the template's price)")
	flags.StringSliceVar(&f.pools, "pool", nil, "the `POOL` that sends it requests; may be given again")
	flags.StringVar(&f.shed, "shed", "outdated", "who goes first when it shrinks: outdated, oldest or newest")
	flags.StringVar(&f.heal, "heal", "machine", "what makes an instance be replaced: off, machine (it is gone), or a check's `NAME`")
	flags.IntVar(&f.healLimit, "heal-limit", 30, "the `PERCENT` of the size, unhealthy at once, above which healing stops")
	flags.BoolVar(&f.pinNew, "pin-new", false, "pin every new instance")
	flags.StringToStringVar(&f.labels, "label", nil, "labels, `NAME=VALUE,…`; replaces all")
	flags.DurationVar(&f.settle, "settle", time.Minute, "how long after boot an instance may take to become healthy")
	flags.DurationVar(&f.drain, "drain", 30*time.Second, "how long an instance may finish its requests")
	flags.BoolVar(&f.dryRun, "dry-run", false, "only say what would happen")
}

// given are those flags that were.
func (f *groupFlags) given(cmd *cobra.Command) groupForm {
	return groupForm{Size: given(cmd, "size", f.size), Min: given(cmd, "min", f.least), Max: given(cmd, "max", f.most), Above: given(cmd, "above", f.above),
		Template: given(cmd, "template", f.template), Zones: given(cmd, "zones", f.zones), Spread: given(cmd, "spread", client.Spread(f.spread)),
		Pools: given(cmd, "pool", f.pools), Shed: given(cmd, "shed", client.Shed(f.shed)), Heal: given(cmd, "heal", f.heal),
		HealLimit: given(cmd, "heal-limit", f.healLimit), PinNew: given(cmd, "pin-new", f.pinNew), Labels: given(cmd, "label", client.Labels(f.labels)),
		Settle: given(cmd, "settle", span(f.settle)), Drain: given(cmd, "drain", span(f.drain))}
}

func (a *app) groupCreate() *cobra.Command {
	var f groupFlags
	var file string
	var watch, asks bool
	cmd := &cobra.Command{
		Use: "create NAME --template NAME@N --size N", Short: "Make a group; its instances are launched at once",
		Long: `Makes a group; its instances are launched at once. --interactive asks for everything
in the order in which people think: what runs, where, how many, who gets traffic, how
it is judged and healed, labels; then it shows all of it with advice and asks once.

--file names a YAML file with the same settings under the names of the flags; flags
are put over what it says:

  name: timetable
  template: timetable-web@1
  size: 6
  min: 3
  max: 9
  zones: [east-pier, mid-pier, west-pier]
  pools: [front]
  heal: sailings-up
  settle: 20s
  labels: {env: trial}`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return misused("takes at most a NAME, and was given %d", len(args))
			}
			return nil
		},
		Example: `  unitas group create timetable --template timetable-web@1 --size 6 --min 3 --max 9 \
    --zones east-pier,mid-pier,west-pier --pool front --heal sailings-up --settle 20s --watch
  unitas group create --file timetable.yaml --dry-run
  unitas group create --interactive`,
		RunE: func(cmd *cobra.Command, args []string) error {
			form := f.given(cmd)
			if len(args) == 1 {
				form.Name = args[0]
			}
			if file != "" {
				from, err := readGroupFile(file)
				if err != nil {
					return err
				}
				form = from.over(form)
			}
			if asks {
				var err error
				if form, err = a.askForGroup(cmd.Context(), form); err != nil {
					return err
				}
				watch = true
			}
			switch {
			case form.Name == "":
				return misused("give the group a NAME")
			case form.Template == nil:
				return misused("give --template NAME@N")
			case form.Size == nil:
				return misused("give --size")
			}
			return a.createGroup(cmd.Context(), form, f.dryRun, watch)
		},
	}
	f.add(cmd)
	flags := cmd.Flags()
	flags.StringVar(&file, "file", "", "a YAML `FILE` with the settings; - reads standard input")
	flags.BoolVarP(&asks, "interactive", "i", false, "ask for everything")
	flags.BoolVar(&watch, "watch", false, "watch until all instances serve")
	cmd.MarkFlagsMutuallyExclusive("interactive", "file")
	return cmd
}

func readGroupFile(name string) (groupForm, error) {
	var form groupForm
	var raw []byte
	var err error
	if name == "-" {
		raw, err = io.ReadAll(os.Stdin)
	} else {
		raw, err = os.ReadFile(name)
	}
	if err == nil {
		err = yaml.UnmarshalStrict(raw, &form)
	}
	if err != nil {
		return form, fmt.Errorf("--file %s: %w", name, err)
	}
	return form, nil
}

func (a *app) makeGroup(ctx context.Context, form groupForm, dry bool) (client.Group, error) {
	g, _, err := ask[client.Group](a, func(c *client.Client) (*http.Response, error) {
		return c.CreateGroup(ctx, &client.CreateGroupParams{IdempotencyKey: freshKey(), DryRun: &dry}, form.body())
	})
	return g, err
}

func (a *app) createGroup(ctx context.Context, form groupForm, dry, watch bool) error {
	g, err := a.makeGroup(ctx, form, dry)
	if err != nil {
		return err
	}
	if watch && !dry {
		return a.watchGroup(ctx, g.Name, true)
	}
	return a.print(g, func() string {
		if dry {
			return review(g) + "Nothing was made; leave out --dry-run to make it.\n"
		}
		return fmt.Sprintf("%s is made: %d of %s, between %d and %d. Watch it with: unitas group show %s --watch\n", g.Name, g.Size, g.Template, g.Min, g.Max, g.Name) + advices(g.Advice)
	})
}

// review is a group before it is made.
func review(g client.Group) string {
	return facts("group", g.Name, "launches", g.Template, "zones", strings.Join(g.Zones, ", "), "spread", spreadWords(g.Spread),
		"size", fmt.Sprintf("%d, between %d and %d", g.Size, g.Min, g.Max), "above", fmt.Sprintf("%d more than the size while one is replaced", g.Above),
		"pools", orWord(strings.Join(g.Pools, ", "), "none: nothing sends it requests through Unitas"),
		"heals by", g.Heal, "heal-limit", fmt.Sprintf("%d %% of the size at once", g.HealLimitPercent), "sheds", string(g.Shed)+" first",
		"settle", spanOf(g.SettleSeconds), "drain", spanOf(g.DrainSeconds), "labels", pairs(g.Labels)) + advices(g.Advice)
}

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
