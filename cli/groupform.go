package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"sigs.k8s.io/yaml"

	"unitas/api/contract"
	"unitas/client"
)

// groupForm is a group as people write it: in flags, in a file, or in answers.
// What is nil is not given.
type groupForm struct {
	Name     string  `json:"name,omitempty"`
	Template *string `json:"template,omitempty"`
	// NewTemplate is made with the group, which launches its first version.
	NewTemplate *contract.NewTemplate `json:"-"`
	Zones       *[]string             `json:"zones,omitempty"`
	Spread      *contract.Spread      `json:"spread,omitempty"`
	Size        *int                  `json:"size,omitempty"`
	Min         *int                  `json:"min,omitempty"`
	Max         *int                  `json:"max,omitempty"`
	Above       *int                  `json:"above,omitempty"`
	Shed        *contract.Shed        `json:"shed,omitempty"`
	Pools       *[]string             `json:"pools,omitempty"`
	Heal        *string               `json:"heal,omitempty"`
	HealLimit   *int                  `json:"heal-limit,omitempty"` // percent
	Settle      *span                 `json:"settle,omitempty"`
	Drain       *span                 `json:"drain,omitempty"`
	PinNew      *bool                 `json:"pin-new,omitempty"`
	Course      *string               `json:"course,omitempty"`
	Scrape      *string               `json:"scrape,omitempty"`
	HooksAtOnce *bool                 `json:"hooks-at-once,omitempty"`
	Labels      *contract.Labels      `json:"labels,omitempty"`
}

// span is a duration as people write it, such as 90s.
type span time.Duration

// UnmarshalText reads a Go duration.
func (s *span) UnmarshalText(text []byte) error {
	d, err := time.ParseDuration(string(text))
	if err != nil {
		return fmt.Errorf("time: %q is not a time", text)
	}
	*s = span(d)
	return nil
}

func secondsIn(s *span) *float64 {
	if s == nil {
		return nil
	}
	seconds := time.Duration(*s).Seconds()
	return &seconds
}

func (f groupForm) body() contract.NewGroup {
	out := contract.NewGroup{Name: f.Name, NewTemplate: f.NewTemplate, Min: f.Min, Max: f.Max, Zones: f.Zones, Spread: f.Spread, Above: f.Above, Shed: f.Shed, Pools: f.Pools, Heal: f.Heal,
		HealLimitPercent: f.HealLimit, SettleSeconds: secondsIn(f.Settle), DrainSeconds: secondsIn(f.Drain), PinNew: f.PinNew, HooksAtOnce: f.HooksAtOnce, Labels: f.Labels}
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
		put(&f.Drain, o.Drain), put(&f.PinNew, o.PinNew), put(&f.HooksAtOnce, o.HooksAtOnce), put(&f.Course, o.Course), put(&f.Scrape, o.Scrape), put(&f.Labels, o.Labels),
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
	size, least, most, above, healLimit                  int
	template, shed, spread, heal, reason, course, scrape string
	zones, pools, trust                                  []string
	settle, drain                                        time.Duration
	pinNew, hooksAtOnce, dryRun, yes                     bool
	labels                                               map[string]string
}

func (f *groupFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.template, "template", "", "the template version for new launches, `NAME@N`")
	numberVar(flags, &f.size, "size", 0, "how many instances there should be")
	numberVar(flags, &f.least, "min", 0, "the least size")
	numberVar(flags, &f.most, "max", 0, "the most size")
	numberVar(flags, &f.above, "above", 1, "how many instances more than the size there may be while one is replaced")
	flags.StringSliceVar(&f.zones, "zones", nil, "the zones, in this order")
	flags.StringVar(&f.spread, "spread", "even", "how zones are filled: even, in-order (the first that takes machines) or cheapest (by the template's price)")
	flags.StringSliceVar(&f.pools, "pool", nil, "the `POOL` that sends it requests; may be given again, and none takes it out of all")
	flags.StringVar(&f.shed, "shed", "outdated", "who goes first when it shrinks: outdated, oldest or newest")
	flags.StringVar(&f.heal, "heal", "machine", "what makes an instance be replaced: off, machine (it is gone), traffic (its pools ejected it three times in a row, see pool --eject), or a check's `NAME`")
	numberVar(flags, &f.healLimit, "heal-limit", 30, "the `PERCENT` of the size, unhealthy at once, above which healing stops")
	flags.BoolVar(&f.pinNew, "pin-new", false, "pin every new instance")
	flags.BoolVar(&f.hooksAtOnce, "hooks-at-once", false, "have the hooks of a point hold an instance all at once, not one after another")
	pairsVar(flags, &f.labels, "label", "labels, `NAME=VALUE,…`; replaces all")
	flags.DurationVar(&f.settle, "settle", time.Minute, "how long after boot an instance may take to become healthy")
	flags.DurationVar(&f.drain, "drain", 30*time.Second, "how long an instance may finish its requests")
	flags.BoolVar(&f.dryRun, "dry-run", false, "only say what would happen")
}

// noneOf is a list that may be written as the word none.
func noneOf(names []string) []string {
	if len(names) == 1 && names[0] == "none" {
		return []string{}
	}
	return names
}

// given are those flags that were.
func (f *groupFlags) given(cmd *cobra.Command) groupForm {
	return groupForm{Size: given(cmd, "size", f.size), Min: given(cmd, "min", f.least), Max: given(cmd, "max", f.most), Above: given(cmd, "above", f.above),
		Template: given(cmd, "template", f.template), Zones: given(cmd, "zones", f.zones), Spread: given(cmd, "spread", contract.Spread(f.spread)),
		Pools: given(cmd, "pool", noneOf(f.pools)), Shed: given(cmd, "shed", contract.Shed(f.shed)), Heal: given(cmd, "heal", f.heal),
		HealLimit: given(cmd, "heal-limit", f.healLimit), PinNew: given(cmd, "pin-new", f.pinNew), HooksAtOnce: given(cmd, "hooks-at-once", f.hooksAtOnce), Course: given(cmd, "course", f.course), Scrape: given(cmd, "scrape", f.scrape), Labels: given(cmd, "label", contract.Labels(f.labels)),
		Settle: given(cmd, "settle", span(f.settle)), Drain: given(cmd, "drain", span(f.drain))}
}

func (a *app) groupCreate() *cobra.Command {
	var f groupFlags
	var file string
	var asks bool
	var p patience
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
				p.watch = true
			}
			switch {
			case form.Name == "":
				return misused("give the group a NAME")
			case form.Template == nil:
				return misused("give --template NAME@N")
			case form.Size == nil:
				return misused("give --size")
			}
			return a.createGroup(cmd.Context(), form, f.dryRun, p)
		},
	}
	f.add(cmd)
	flags := cmd.Flags()
	flags.StringVar(&file, "file", "", "a YAML `FILE` with the settings; - reads standard input")
	flags.BoolVarP(&asks, "interactive", "i", false, "ask for everything")
	p.add(cmd, "all instances serve")
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
	if err != nil {
		return form, onFile("--file", name, err)
	}
	if err := yaml.UnmarshalStrict(raw, &form); err != nil {
		return form, fmt.Errorf("--file %s: %s", name, inYAML(err))
	}
	return form, nil
}

func (a *app) makeGroup(ctx context.Context, form groupForm, dry bool) (contract.Group, error) {
	g, _, err := ask[contract.Group](a, func(c *client.Client) (*http.Response, error) {
		return c.CreateGroup(ctx, &contract.CreateGroupParams{IdempotencyKey: freshKey(), DryRun: &dry}, form.body())
	})
	return g, err
}

func (a *app) createGroup(ctx context.Context, form groupForm, dry bool, p patience) error {
	stays, err := p.stays()
	if err != nil {
		return err
	}
	g, err := a.makeGroup(ctx, form, dry)
	if err != nil {
		return err
	}
	if stays && !dry {
		return a.stayWithGroup(ctx, g.Name, p, &g.Size)
	}
	return a.print(g, func() string {
		if dry {
			return review(g) + "Nothing was made; leave out --dry-run to make it.\n"
		}
		return fmt.Sprintf("%s is made: %d of %s, between %d and %d. Watch it with: unitas group show %s --watch\n", g.Name, g.Size, g.Template, g.Min, g.Max, g.Name) + advices(g.Advice)
	})
}

// review is a group before it is made.
func review(g contract.Group) string {
	return facts("group", g.Name, "launches", g.Template, "zones", strings.Join(g.Zones, ", "), "zone loss", g.ZoneLoss, "spread", spreadWords(g.Spread),
		"size", fmt.Sprintf("%d, between %d and %d", g.Size, g.Min, g.Max), "above", fmt.Sprintf("%d more than the size while one is replaced", g.Above),
		"pools", orWord(strings.Join(g.Pools, ", "), "none: nothing sends it requests through Unitas"),
		"heals by", g.Heal, "heal-limit", fmt.Sprintf("%d %% of the size at once", g.HealLimitPercent), "sheds", string(g.Shed)+" first",
		"settle", spanOf(g.SettleSeconds), "drain", spanOf(g.DrainSeconds), "labels", pairs(g.Labels)) + advices(g.Advice)
}
