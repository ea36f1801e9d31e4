package cli

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

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
			body := client.NewCheck{Name: args[0], Kind: client.NewCheckKind(kind), Port: &f.port, Passes: &f.passes, Fails: &f.fails, Path: given(cmd, "path", f.path),
				Host: given(cmd, "host", f.host), Statuses: given(cmd, "statuses", f.statuses), Text: given(cmd, "text", f.text), Service: given(cmd, "service", f.service),
				Verify: given(cmd, "no-verify", !f.lenient), IntervalSeconds: &interval, TimeoutSeconds: given(cmd, "timeout", f.timeout.Seconds())}
			check, _, err := ask[client.Check](a, func(c *client.Client) (*http.Response, error) {
				return c.CreateCheck(cmd.Context(), &client.CreateCheckParams{IdempotencyKey: freshKey()}, body)
			})
			if err != nil {
				return err
			}
			return a.print(check, func() string { return fmt.Sprintf("%s asks %s.\n", check.Name, question(check)) })
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
			_, tag, err := ask[client.Check](a, func(c *client.Client) (*http.Response, error) { return c.GetCheck(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			body := client.CheckChange{Port: given(cmd, "port", to.port), Passes: given(cmd, "passes", to.passes), Fails: given(cmd, "fails", to.fails),
				Path: given(cmd, "path", to.path), Host: given(cmd, "host", to.host), Statuses: given(cmd, "statuses", to.statuses), Text: given(cmd, "text", to.text),
				Service: given(cmd, "service", to.service), Verify: given(cmd, "no-verify", !to.lenient), IntervalSeconds: given(cmd, "interval", to.interval.Seconds()),
				TimeoutSeconds: given(cmd, "timeout", to.timeout.Seconds()), Reason: given(cmd, "reason", reason)}
			check, _, err := ask[client.Check](a, func(c *client.Client) (*http.Response, error) {
				return c.ChangeCheck(cmd.Context(), args[0], &client.ChangeCheckParams{IfMatch: &tag}, body)
			})
			if err != nil {
				return err
			}
			return a.print(check, func() string {
				return fmt.Sprintf("%s asks %s from now on; it judges %s.\n", check.Name, question(check), judged(check))
			})
		},
	}
	to.add(setting)
	setting.Flags().StringVar(&reason, "reason", "", "why; it is kept in the journal")
	listing := &cobra.Command{Use: "list", Short: "List health checks", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			checks, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
				return c.ListChecks(cmd.Context(), &client.ListChecksParams{After: after})
			}, func(l client.CheckList) ([]client.Check, *string) { return l.Items, l.Next })
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
			c, _, err := ask[client.Check](a, func(c *client.Client) (*http.Response, error) { return c.GetCheck(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(c, func() string {
				return facts("check", c.Name, "asks", question(c), "good statuses", map[bool]string{true: c.Statuses}[webKind(c)], "wants the text", c.Text,
					"host header", c.Host, "certificate", map[bool]string{true: "is not verified"}[c.Kind == client.CheckKindHttps && !c.Verify],
					"healthy after", fmt.Sprintf("%d good answers in a row", c.Passes), "unhealthy after", fmt.Sprintf("%d bad answers in a row", c.Fails),
					"judges", judged(c), "made", moment(c.CreatedAt))
			})
		}}
	return group("check", "Health checks: how instances are asked whether they are well", creating, setting, listing, showing)
}

// checkFlags are what a check may be told besides its kind.
type checkFlags struct {
	path, host, statuses, text, service string
	port, passes, fails                 int
	interval, timeout                   time.Duration
	lenient                             bool
}

func (f *checkFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.IntVar(&f.port, "port", 8080, "the `PORT` that is asked")
	flags.StringVar(&f.path, "path", "/", "the `PATH` that an http or https check gets")
	flags.StringVar(&f.host, "host", "", "the host header that it sends; without it the address")
	flags.StringVar(&f.statuses, "statuses", "200-299", "the statuses that are good, `RANGE,…`")
	flags.StringVar(&f.text, "text", "", "a `TEXT` that must be in the body")
	flags.StringVar(&f.service, "service", "", "the service that a grpc check asks after; without it the whole server")
	flags.BoolVar(&f.lenient, "no-verify", false, "let an https check take any certificate")
	flags.DurationVar(&f.interval, "interval", 5*time.Second, "time between two questions")
	flags.DurationVar(&f.timeout, "timeout", 2*time.Second, "time for a whole answer; at most the interval")
	flags.IntVar(&f.passes, "passes", 2, "good answers in a row to become healthy")
	flags.IntVar(&f.fails, "fails", 3, "bad answers in a row to become unhealthy")
}

func webKind(c client.Check) bool {
	return c.Kind == client.CheckKindHttp || c.Kind == client.CheckKindHttps
}

// judged names who a check judges.
func judged(c client.Check) string {
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

func question(c client.Check) string {
	what := fmt.Sprintf("%s port %d", c.Kind, c.Port)
	switch {
	case webKind(c):
		what += " for " + c.Path
	case c.Service != "":
		what += " after " + c.Service
	}
	return fmt.Sprintf("%s every %s, for up to %s", what, spanOf(c.IntervalSeconds), spanOf(c.TimeoutSeconds))
}

func (a *app) poolCommand() *cobra.Command {
	var listen, check string
	creating := &cobra.Command{
		Use: "create NAME --listen ADDRESS:PORT --check NAME", Short: "Make a pool behind a listener", Args: exactly("NAME"),
		Example: "  unitas pool create front --listen 127.0.0.1:8000 --check sailings-up",
		RunE: func(cmd *cobra.Command, args []string) error {
			pool, _, err := ask[client.Pool](a, func(c *client.Client) (*http.Response, error) {
				return c.CreatePool(cmd.Context(), &client.CreatePoolParams{IdempotencyKey: freshKey()}, client.NewPool{Name: args[0], Listen: listen, Check: check})
			})
			if err != nil {
				return err
			}
			return a.print(pool, func() string {
				if pool.Listening != "yes" {
					return fmt.Sprintf("%s is made, but its listener is not open: %s. It is tried again every 2 s.\n", pool.Name, pool.Listening)
				}
				return fmt.Sprintf("%s listens on %s.\n", pool.Name, pool.Listen)
			})
		},
	}
	creating.Flags().StringVar(&listen, "listen", "", "the listener's `ADDRESS:PORT`")
	creating.Flags().StringVar(&check, "check", "", "the check that decides which targets get traffic, by `NAME`")
	_ = creating.MarkFlagRequired("listen")
	_ = creating.MarkFlagRequired("check")
	listing := &cobra.Command{Use: "list", Short: "List pools", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			pools, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
				return c.ListPools(cmd.Context(), &client.ListPoolsParams{After: after})
			}, func(l client.PoolList) ([]client.Pool, *string) { return l.Items, l.Next })
			if err != nil {
				return err
			}
			return a.print(pools, func() string {
				rows := [][]string{{"pool", "listens on", "check", ">open targets", ">requests", ">failures", "listener"}}
				for _, p := range pools {
					open := 0
					for _, t := range p.Targets {
						if t.Open {
							open++
						}
					}
					listener := "open"
					if p.Listening != "yes" {
						listener = p.Listening
					}
					rows = append(rows, []string{p.Name, p.Listen, p.Check, fmt.Sprintf("%d of %d", open, len(p.Targets)),
						strconv.FormatInt(p.Requests, 10), strconv.FormatInt(p.Failures, 10), listener})
				}
				return orNone(rows, "There are no pools yet; make one with: unitas pool create NAME --listen ADDRESS:PORT --check NAME")
			})
		}}
	showing := &cobra.Command{Use: "show NAME", Short: "Show one pool with its targets", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, _, err := ask[client.Pool](a, func(c *client.Client) (*http.Response, error) { return c.GetPool(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(p, func() string { return poolPicture(p) })
		}}
	return group("pool", "Pools: the targets behind a listener", creating, listing, showing)
}

func poolPicture(p client.Pool) string {
	listening := "open"
	if p.Listening != "yes" {
		listening = trouble.paint("not open: " + p.Listening)
	}
	head := facts("pool", p.Name, "listens on", p.Listen+"  "+listening, "check", p.Check,
		"requests", fmt.Sprintf("%d, %d of them failed", p.Requests, p.Failures))
	rows := [][]string{{"target", "version", "address", "traffic", ">in flight", ">requests", ">failures", ">retried", ">median", ">99 %"}}
	for _, t := range p.Targets {
		open := "open"
		if !t.Open {
			open = "closed"
		}
		rows = append(rows, []string{t.Instance, t.Version, t.Address, open, strconv.Itoa(t.InFlight), strconv.FormatInt(t.Requests, 10),
			strconv.FormatInt(t.Failures, 10), strconv.FormatInt(t.Retried, 10), fmt.Sprintf("%.1f ms", t.MedianMs), fmt.Sprintf("%.1f ms", t.P99Ms)})
	}
	return head + "\n" + orNone(rows, "It has no targets; groups that name the pool bring theirs.")
}
