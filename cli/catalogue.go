package cli

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

func short(digest string) string {
	if len(digest) > 19 {
		return digest[:19]
	}
	return digest
}

// orNone is the table, or the sentence when it has no rows.
func orNone(rows [][]string, none string) string {
	if len(rows) == 1 {
		return none + "\n"
	}
	return table(rows)
}

func (a *app) checkCommand() *cobra.Command {
	var kind string
	var f checkFlags
	creating := &cobra.Command{
		Use: "create NAME", Short: "Make a health check", Args: exactly("NAME"),
		Long: `Makes a health check. An http or https check is good when the answer's status is
among the good ones, the text is in it when one is given, and all of it came within
the timeout; a redirect is not followed. A tcp check is good when the connection is
taken, a grpc check when the gRPC health protocol answers SERVING.`,
		Example: `  unitas check create sailings-up --kind http --path /up --interval 2s --passes 2 --fails 3
  unitas check create berths-safe --kind https --host berths.saltmere.example --no-verify --text "all berths" --statuses 200-299,404`,
		RunE: func(cmd *cobra.Command, args []string) error {
			interval := f.interval.Seconds()
			body := contract.NewCheck{Name: args[0], Kind: contract.NewCheckKind(kind), Port: &f.port, Passes: &f.passes, Fails: &f.fails, Path: given(cmd, "path", f.path),
				Host: given(cmd, "host", f.host), Statuses: given(cmd, "statuses", f.statuses), Text: given(cmd, "text", f.text), Service: given(cmd, "service", f.service),
				Verify: given(cmd, "no-verify", !f.lenient), Labels: given(cmd, "label", contract.Labels(f.labels)), IntervalSeconds: &interval, TimeoutSeconds: given(cmd, "timeout", f.timeout.Seconds())}
			check, _, err := ask[contract.Check](a, func(c *client.Client) (*http.Response, error) {
				return c.CreateCheck(cmd.Context(), &contract.CreateCheckParams{IdempotencyKey: freshKey()}, body)
			})
			if err != nil {
				return err
			}
			return a.print(check, func() string {
				return fmt.Sprintf("%s asks %s.\n", check.Name, question(check)) + advices(check.Advice)
			})
		},
	}
	creating.Flags().StringVar(&kind, "kind", "http", "http, https, tcp or grpc")
	f.add(creating)
	var reason string
	var to checkFlags
	setting := &cobra.Command{
		Use: "set NAME", Short: "Change a health check for all that use it, only what is given", Args: exactly("NAME"),
		Example: "  unitas check set sailings-up --fails 5 --reason \"the night boat answers late\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			_, tag, err := ask[contract.Check](a, func(c *client.Client) (*http.Response, error) { return c.GetCheck(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			body := contract.CheckChange{Port: given(cmd, "port", to.port), Passes: given(cmd, "passes", to.passes), Fails: given(cmd, "fails", to.fails),
				Path: given(cmd, "path", to.path), Host: given(cmd, "host", to.host), Statuses: given(cmd, "statuses", to.statuses), Text: given(cmd, "text", to.text),
				Service: given(cmd, "service", to.service), Verify: given(cmd, "no-verify", !to.lenient), Labels: given(cmd, "label", contract.Labels(to.labels)), IntervalSeconds: given(cmd, "interval", to.interval.Seconds()),
				TimeoutSeconds: given(cmd, "timeout", to.timeout.Seconds()), Reason: given(cmd, "reason", reason)}
			check, _, err := ask[contract.Check](a, func(c *client.Client) (*http.Response, error) {
				return c.ChangeCheck(cmd.Context(), args[0], &contract.ChangeCheckParams{IfMatch: &tag}, body)
			})
			if err != nil {
				return err
			}
			return a.print(check, func() string {
				return changed(check.Name, check.Changes) + fmt.Sprintf("It asks %s from now on; it judges %s.\n", question(check), judged(check)) + advices(check.Advice)
			})
		},
	}
	to.add(setting)
	setting.Flags().StringVar(&reason, "reason", "", "why; it is kept in the journal")
	listing := &cobra.Command{Use: "list", Short: "List health checks", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			checks, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
				return c.ListChecks(cmd.Context(), &contract.ListChecksParams{After: after})
			}, func(l contract.CheckList) ([]contract.Check, *string) { return l.Items, l.Next })
			if err != nil {
				return err
			}
			return a.print(checks, func() string {
				rows := [][]string{{"check", "kind", ">port", "path", ">interval", ">timeout", ">passes", ">fails"}}
				for _, c := range checks {
					rows = append(rows, []string{c.Name, string(c.Kind), strconv.Itoa(c.Port), c.Path, spanOf(c.IntervalSeconds),
						spanOf(c.TimeoutSeconds), strconv.Itoa(c.Passes), strconv.Itoa(c.Fails)})
				}
				return orNone(rows, "There are no checks yet; make one with: unitas check create NAME")
			})
		}}
	showing := &cobra.Command{Use: "show NAME", Short: "Show one health check", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, _, err := ask[contract.Check](a, func(c *client.Client) (*http.Response, error) { return c.GetCheck(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(c, func() string {
				return facts("check", c.Name, "asks", question(c), "good statuses", map[bool]string{true: c.Statuses}[webKind(c)], "wants the text", c.Text,
					"host header", c.Host, "certificate", map[bool]string{true: "is not verified"}[c.Kind == contract.CheckKindHttps && !c.Verify],
					"healthy after", fmt.Sprintf("%d good answers in a row", c.Passes), "unhealthy after", fmt.Sprintf("%d bad answers in a row", c.Fails),
					"judges", judged(c), "labels", pairs(c.Labels), "made", moment(c.CreatedAt)) + advices(c.Advice)
			})
		}}
	return group("check", "Health checks: how instances are asked whether they are well", creating, setting, listing, showing,
		a.deleting("check", func(ctx context.Context, c *client.Client, name string) (*http.Response, error) {
			return c.GetCheck(ctx, name)
		},
			func(ctx context.Context, c *client.Client, name, tag string) (*http.Response, error) {
				return c.DeleteCheck(ctx, name, &contract.DeleteCheckParams{IfMatch: &tag})
			}))
}

// checkFlags are what a check may be told besides its kind.
type checkFlags struct {
	path, host, statuses, text, service string
	port, passes, fails                 int
	interval, timeout                   time.Duration
	lenient                             bool
	labels                              map[string]string
}

func (f *checkFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	numberVar(flags, &f.port, "port", 8080, "the `PORT` that is asked")
	flags.StringVar(&f.path, "path", "/", "the `PATH` that an http or https check gets")
	flags.StringVar(&f.host, "host", "", "the host header that it sends, and with https the server name; without it the address")
	flags.StringVar(&f.statuses, "statuses", "200-299", "the statuses that are good, `RANGE,…`")
	flags.StringVar(&f.text, "text", "", "a `TEXT` that must be in the body")
	flags.StringVar(&f.service, "service", "", "the service that a grpc check asks after; without it the whole server")
	flags.BoolVar(&f.lenient, "no-verify", false, "let an https check take any certificate")
	flags.DurationVar(&f.interval, "interval", 5*time.Second, "time between two questions")
	flags.DurationVar(&f.timeout, "timeout", 2*time.Second, "time for a whole answer; at most the interval")
	numberVar(flags, &f.passes, "passes", 2, "good answers in a row to become healthy")
	pairsVar(flags, &f.labels, "label", "labels, `NAME=VALUE,…`; replaces all")
	numberVar(flags, &f.fails, "fails", 3, "bad answers in a row to become unhealthy")
}

// changed says what is another than it was.
func changed(name string, changes *[]string) string {
	return fmt.Sprintf("%s is changed: %s.\n", name, orWord(strings.Join(value(changes), "; "), "the same as before"))
}

// advices are warnings as lines.
func advices(all []string) string {
	var b strings.Builder
	for _, text := range all {
		b.WriteString(waiting.paint("Advice: "+text) + "\n")
	}
	return b.String()
}

// deleting is the command that deletes a check or a pool, which take nothing
// with them: what is in use is refused.
func (a *app) deleting(what string, get func(context.Context, *client.Client, string) (*http.Response, error),
	del func(ctx context.Context, c *client.Client, name, tag string) (*http.Response, error)) *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "delete NAME", Short: "Delete a " + what + " that nothing uses", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			name := args[0]
			_, tag, err := ask[struct{}](a, func(c *client.Client) (*http.Response, error) { return get(cmd.Context(), c, name) })
			if err != nil {
				return err
			}
			if err := a.confirm(yes, "deleting the "+what+" "+name+" cannot be undone", fmt.Sprintf("Delete the %s %s?", what, name)); err != nil {
				return err
			}
			if _, _, err := ask[struct{}](a, func(c *client.Client) (*http.Response, error) { return del(cmd.Context(), c, name, tag) }); err != nil {
				return err
			}
			return a.print(map[string]string{"deleted": name}, func() string { return name + " is deleted.\n" })
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

func webKind(c contract.Check) bool {
	return c.Kind == contract.CheckKindHttp || c.Kind == contract.CheckKindHttps
}

// judged names who a check judges.
func judged(c contract.Check) string {
	var all []string
	if c.Groups != nil {
		for _, g := range *c.Groups {
			all = append(all, "the group "+g)
		}
	}
	if c.Pools != nil {
		for _, p := range *c.Pools {
			all = append(all, "the pool "+p)
		}
	}
	return orWord(strings.Join(all, ", "), "nobody yet")
}

func question(c contract.Check) string {
	what := fmt.Sprintf("%s port %d", c.Kind, c.Port)
	switch {
	case webKind(c):
		what += " for " + c.Path
	case c.Service != "":
		what += " after " + c.Service
	}
	return fmt.Sprintf("%s every %s, for up to %s", what, spanOf(c.IntervalSeconds), spanOf(c.TimeoutSeconds))
}
