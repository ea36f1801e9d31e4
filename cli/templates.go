package cli

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

func (a *app) templateCommand() *cobra.Command {
	return group("template", "Instance templates: everything needed to launch one instance", a.templateCreate(), a.templateRevise(), a.templateFromInstance(),
		a.templateList(), a.templateShow(), a.templateDiff(), a.markCommand("template"), a.marksCommand("template"), a.unmarkCommand("template"),
		a.withdrawCommand("template"), a.deleteCommand("template"))
}

// templateFlags are the fields of a template; those that are not given are nil.
type templateFlags struct {
	image, note, userData, text string
	port, processes, addresses  int
	cpus, price                 float64
	memory, disk                Size
	open                        []string
	interruptible, dryRun       bool
	environment, labels         map[string]string
	zonePrices                  map[string]string
}

func (f *templateFlags) add(cmd *cobra.Command) {
	f.memory, f.disk = 256<<20, 1<<30
	flags := cmd.Flags()
	flags.StringVar(&f.image, "image", "", "the image version to launch, `NAME@N`")
	numberVar(flags, &f.port, "port", 8080, "the `PORT` that the workload listens on")
	flags.Float64Var(&f.cpus, "cpus", 1, "processors, also in parts such as 0.5")
	flags.Var(&f.memory, "memory", "memory, such as 512MiB")
	flags.Var(&f.disk, "disk", "room for the files of one instance, such as 2GiB")
	numberVar(flags, &f.processes, "processes", 512, "how many processes and threads an instance may have at once")
	numberVar(flags, &f.addresses, "addresses", 1, "how many network addresses an instance gets, 1 to 8")
	flags.StringArrayVar(&f.open, "open", nil, "an open port with who may come in, `PORT[/tcp|udp][=RANGE,…]`; may be repeated. Without it the workload's port, from this machine")
	flags.StringVar(&f.userData, "user-data", "", "a `FILE` that runs once at first boot: a script with #!, or a #cloud-config with write_files and runcmd; - reads standard input")
	flags.StringVar(&f.text, "user-data-text", "", "the user data itself, as `TEXT`")
	pairsVar(flags, &f.environment, "environment", "variables for the workload, `NAME=VALUE,…`; replaces all")
	pairsVar(flags, &f.labels, "label", "labels, `NAME=VALUE,…`; replaces all")
	flags.Float64Var(&f.price, "price-per-hour", 0, "for one instance, in the currency that you count in")
	pairsVar(flags, &f.zonePrices, "zone-price", "the price in zones where it is another, `ZONE=PRICE,…`; replaces all")
	flags.BoolVar(&f.interruptible, "interruptible", false, "its machine may be taken away at short notice")
	flags.StringVar(&f.note, "note", "", "why there is this version")
	flags.BoolVar(&f.dryRun, "dry-run", false, "only say what would be made")
	cmd.MarkFlagsMutuallyExclusive("user-data", "user-data-text")
}

// fields are the given flags as the interface takes them.
type fields struct {
	image         *string
	port          *int
	cpus, price   *float64
	memory, disk  *int64
	processes     *int
	addresses     *int
	ports         *contract.OpenPorts
	interruptible *bool
	userData      *string
	environment   *contract.Environment
	labels        *contract.Labels
	zonePrices    *contract.ZonePrices
}

func (f *templateFlags) given(cmd *cobra.Command) (out fields, err error) {
	out = fields{image: given(cmd, "image", f.image), port: given(cmd, "port", f.port), cpus: given(cmd, "cpus", f.cpus), price: given(cmd, "price-per-hour", f.price),
		memory: given(cmd, "memory", int64(f.memory)), disk: given(cmd, "disk", int64(f.disk)), processes: given(cmd, "processes", f.processes), addresses: given(cmd, "addresses", f.addresses),
		interruptible: given(cmd, "interruptible", f.interruptible), environment: given(cmd, "environment", contract.Environment(f.environment)),
		labels: given(cmd, "label", contract.Labels(f.labels))}
	if cmd.Flags().Changed("zone-price") {
		prices := contract.ZonePrices{}
		for zone, text := range f.zonePrices {
			if prices[zone], err = strconv.ParseFloat(text, 64); err != nil {
				return out, misused("--zone-price %s=%s: %q is not a price", zone, text, text)
			}
		}
		out.zonePrices = &prices
	}
	if out.userData, err = userData(cmd, f.userData, f.text); err != nil || !cmd.Flags().Changed("open") {
		return out, err
	}
	ports := contract.OpenPorts{}
	for _, text := range f.open {
		p, err := openPort(text)
		if err != nil {
			return out, err
		}
		ports = append(ports, p)
	}
	out.ports = &ports
	return out, nil
}

// userData reads --user-data or --user-data-text.
func userData(cmd *cobra.Command, file, text string) (*string, error) {
	if cmd.Flags().Changed("user-data-text") {
		return &text, nil
	}
	if !cmd.Flags().Changed("user-data") {
		return nil, nil
	}
	if file == "-" {
		file = os.Stdin.Name()
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return nil, onFile("--user-data", file, err)
	}
	text = string(raw)
	return &text, nil
}

// openPort reads PORT[/PROTOCOL][=RANGE,…].
func openPort(text string) (contract.OpenPort, error) {
	where, from, narrowed := strings.Cut(text, "=")
	number, protocol, named := strings.Cut(where, "/")
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 || n > 65535 || (named && protocol != "tcp" && protocol != "udp") {
		return contract.OpenPort{}, misused("--open %s: give PORT, PORT/udp or PORT=RANGE,…, such as 8080=10.0.0.0/8", text)
	}
	p := contract.OpenPort{Port: n}
	if named {
		kind := contract.OpenPortProtocol(protocol)
		p.Protocol = &kind
	}
	if narrowed {
		sources := strings.Split(from, ",")
		p.Sources = &sources
	}
	return p, nil
}

func (a *app) templateCreate() *cobra.Command {
	var f templateFlags
	cmd := &cobra.Command{
		Use: "create NAME --image NAME@N", Short: "Make version 1 of a template", Args: exactly("NAME"),
		Example: `  unitas template create timetable-web --image timetable@1 --environment SEASON=summer
  unitas template create timetable-web --image timetable@stable --memory 512MiB --open 8080=10.0.0.0/8 --user-data first-boot.sh --dry-run`,
		RunE: func(cmd *cobra.Command, args []string) error {
			g, err := f.given(cmd)
			if err != nil {
				return err
			}
			return a.made(ask[contract.Template](a, func(c *client.Client) (*http.Response, error) {
				return c.CreateTemplate(cmd.Context(), &contract.CreateTemplateParams{IdempotencyKey: freshKey(), DryRun: &f.dryRun}, contract.NewTemplate{Name: args[0], Image: f.image,
					Port: g.port, Cpus: g.cpus, MemoryBytes: g.memory, DiskBytes: g.disk, Processes: g.processes, Addresses: g.addresses, Ports: g.ports, PricePerHour: g.price, ZonePrices: g.zonePrices,
					Interruptible: g.interruptible, UserData: g.userData, Environment: g.environment, Labels: g.labels, Note: given(cmd, "note", f.note)})
			}))(f.dryRun)
		},
	}
	f.add(cmd)
	_ = cmd.MarkFlagRequired("image")
	return cmd
}

func (a *app) templateRevise() *cobra.Command {
	var f templateFlags
	var from int
	cmd := &cobra.Command{
		Use: "revise NAME --note WHY", Short: "Make the next version of a template, changing only what is given", Args: exactly("NAME"),
		Long: `Makes the next version of a template from its latest, or from another with --from.
Only what is given changes; the difference is printed.`,
		Example: `  unitas template revise timetable-web --image timetable@2 --note "shows the summer sailings"
  unitas template revise timetable-web --from 2 --memory 512MiB --note "back, with more memory" --dry-run`,
		RunE: func(cmd *cobra.Command, args []string) error {
			g, err := f.given(cmd)
			if err != nil {
				return err
			}
			return a.made(ask[contract.Template](a, func(c *client.Client) (*http.Response, error) {
				return c.ReviseTemplate(cmd.Context(), args[0], &contract.ReviseTemplateParams{IdempotencyKey: freshKey(), DryRun: &f.dryRun}, contract.TemplateRevision{
					From: given(cmd, "from", from), Image: g.image, Port: g.port, Cpus: g.cpus, MemoryBytes: g.memory, DiskBytes: g.disk, Processes: g.processes, Addresses: g.addresses,
					Ports: g.ports, PricePerHour: g.price, ZonePrices: g.zonePrices, Interruptible: g.interruptible, UserData: g.userData, Environment: g.environment, Labels: g.labels, Note: f.note})
			}))(f.dryRun)
		},
	}
	f.add(cmd)
	numberVar(cmd.Flags(), &from, "from", 0, "the version `N` to start from; without it the latest")
	_ = cmd.MarkFlagRequired("note")
	return cmd
}

func (a *app) templateFromInstance() *cobra.Command {
	var name, note string
	cmd := &cobra.Command{
		Use: "from-instance INSTANCE --name NAME", Short: "Make a template that launches the like of an instance", Args: exactly("INSTANCE"),
		Long: `Makes a template with everything that an instance was launched with, what was
given for it alone and its present image included. Under a name that is there
already it is the next version.`,
		Example: "  unitas template from-instance trial --name timetable-patched",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.made(ask[contract.Template](a, func(c *client.Client) (*http.Response, error) {
				return c.TemplateFromInstance(cmd.Context(), &contract.TemplateFromInstanceParams{IdempotencyKey: freshKey()},
					contract.TemplateFromInstance{Instance: args[0], Name: name, Note: given(cmd, "note", note)})
			}))(false)
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "the template's `NAME`")
	cmd.Flags().StringVar(&note, "note", "", "why there is this version")
	_ = cmd.MarkFlagRequired("name")
	return cmd
}

// made prints a new version with its difference, and the advice beside it.
func (a *app) made(t contract.Template, _ string, err error) func(dryRun bool) error {
	return func(dryRun bool) error {
		if err != nil {
			return err
		}
		if t.Advice != nil {
			for _, advice := range *t.Advice {
				fmt.Fprintln(a.err, waiting.paint("advice on "+advice.Field+": "+advice.Text))
			}
		}
		return a.print(t, func() string {
			verb := "launches"
			if dryRun {
				verb = "would launch"
			}
			text := fmt.Sprintf("%s@%d %s %s.\n", t.Name, t.Version, verb, t.Image)
			if t.Changes != nil && t.RevisedFrom != nil {
				text += fmt.Sprintf("\nSince %s@%d:\n%s", t.Name, *t.RevisedFrom, changesTable(*t.Changes))
			}
			if dryRun {
				text += "\nNothing was made; leave out --dry-run to make it.\n"
			}
			return text
		})
	}
}

func changesTable(changes []contract.Change) string {
	if len(changes) == 0 {
		return "  nothing is different\n"
	}
	rows := [][]string{{"  field", "was", "now"}}
	for _, c := range changes {
		rows = append(rows, []string{"  " + c.Field, orWord(c.Was, "—"), orWord(c.Now, "—")})
	}
	return table(rows)
}

func (a *app) templateList() *cobra.Command {
	return &cobra.Command{Use: "list [NAME]", Short: "List template versions, newest first", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			params := contract.ListTemplatesParams{}
			if len(args) == 1 {
				params.Name = &args[0]
			}
			templates, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
				params.After = after
				return c.ListTemplates(cmd.Context(), &params)
			}, func(l contract.TemplateList) ([]contract.Template, *string) { return l.Items, l.Next })
			if err != nil {
				return err
			}
			return a.print(templates, func() string {
				rows := [][]string{{"template", "state", "marks", "image", "?>cpus", "?>memory", "?>port", "?made", "?by", "note"}}
				for _, t := range templates {
					rows = append(rows, []string{fmt.Sprintf("%s@%d", t.Name, t.Version), string(t.State), strings.Join(t.Marks, ", "), t.Image,
						strconv.FormatFloat(t.Cpus, 'f', -1, 64), size(t.MemoryBytes), strconv.Itoa(t.Port), ago(t.CreatedAt), t.CreatedBy, t.Note})
				}
				return orNone(rows, "There are no templates yet; make one with: unitas template create NAME --image NAME@N")
			})
		}}
}

func (a *app) readTemplate(ctx context.Context, ref string) (contract.Template, string, error) {
	name, version, err := reference(ref)
	if err != nil {
		return contract.Template{}, "", err
	}
	return ask[contract.Template](a, func(c *client.Client) (*http.Response, error) { return c.GetTemplate(ctx, name, version) })
}

func (a *app) templateShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME@N", Short: "Show one version of a template with what uses it", Args: exactly("NAME@N"),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, _, err := a.readTemplate(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(t, func() string {
				state := string(t.State)
				if t.Why != "" {
					state += ": " + t.Why
				}
				from := ""
				if t.RevisedFrom != nil {
					from = fmt.Sprintf("%s@%d", t.Name, *t.RevisedFrom)
				}
				return facts("template", fmt.Sprintf("%s@%d", t.Name, t.Version), "state", state, "use instead", or(t.Successor, ""), "marks", strings.Join(t.Marks, ", "),
					"image", t.Image+"  "+short(t.ImageDigest), "cpus", strconv.FormatFloat(t.Cpus, 'f', -1, 64), "memory", size(t.MemoryBytes), "disk", size(t.DiskBytes),
					"processes", strconv.Itoa(t.Processes)+" at most", "addresses", strconv.Itoa(t.Addresses), "port", strconv.Itoa(t.Port), "open ports", portsText(t.Ports), "price", priceText(t),
					"interruptible", map[bool]string{true: "yes", false: "no"}[t.Interruptible],
					"environment", pairs(t.Environment), "labels", pairs(t.Labels), "user data", t.UserData, "note", t.Note, "revised from", from,
					"used by", usersText(t.Users), "made", moment(t.CreatedAt)+" by "+t.CreatedBy)
			})
		}}
}

func priceText(t contract.Template) string {
	if t.PricePerHour == 0 && len(t.ZonePrices) == 0 {
		return ""
	}
	text := price(t.PricePerHour) + " per hour"
	for _, zone := range slices.Sorted(maps.Keys(t.ZonePrices)) {
		text += fmt.Sprintf(", %s in %s", price(t.ZonePrices[zone]), zone)
	}
	return text
}

func price(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }

func portsText(ports contract.OpenPorts) string {
	if len(ports) == 0 {
		return "none"
	}
	var lines []string
	for _, p := range ports {
		lines = append(lines, fmt.Sprintf("%d/%s from %s", p.Port, *p.Protocol, strings.Join(*p.Sources, " and ")))
	}
	return strings.Join(lines, "\n")
}

func pairs(m map[string]string) string {
	var lines []string
	for k, v := range m {
		lines = append(lines, k+"="+v)
	}
	return strings.Join(sorted(lines), "\n")
}

func (a *app) templateDiff() *cobra.Command {
	return &cobra.Command{Use: "diff A B", Short: "Show what is different in another version", Args: exactly("A", "B"),
		Long:    "Shows the fields that are different, and user data line by line: - was there\nbefore, + is there now.",
		Example: "  unitas template diff timetable-web@1 timetable-web@2\n  unitas template diff timetable-web@stable timetable-web@4",
		RunE: func(cmd *cobra.Command, args []string) error {
			name, version, err := reference(args[0])
			if err != nil {
				return err
			}
			if _, _, err := reference(args[1]); err != nil {
				return err
			}
			d, _, err := ask[contract.TemplateDiff](a, func(c *client.Client) (*http.Response, error) {
				return c.DiffTemplates(cmd.Context(), name, version, &contract.DiffTemplatesParams{To: args[1]})
			})
			if err != nil {
				return err
			}
			return a.print(d, func() string { return diffPicture(d) })
		}}
}

func diffPicture(d contract.TemplateDiff) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s → %s\n\n%s", d.From, d.To, changesTable(d.Changes))
	if len(d.UserData) == 0 {
		return b.String()
	}
	b.WriteString("\nuser data\n")
	for _, l := range d.UserData {
		switch l.Kind {
		case contract.LineChangeKindGone:
			b.WriteString(trouble.paint("- "+l.Text) + "\n")
		case contract.LineChangeKindNew:
			b.WriteString(newer.paint("+ "+l.Text) + "\n")
		default:
			b.WriteString("  " + l.Text + "\n")
		}
	}
	return b.String()
}
