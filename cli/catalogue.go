package cli

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"unitas/client"
	"unitas/internal/fleet/words"
)

func group(use, short string, children ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: func(_ *cobra.Command, args []string) error {
		if len(args) > 0 {
			return misused("there is no command %q", args[0])
		}
		return nil
	}, RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	c.AddCommand(children...)
	return c
}

// reference reads NAME@N from an argument.
func reference(text string) (name string, n int, err error) {
	name, number, ok := strings.Cut(text, "@")
	n, convErr := strconv.Atoi(number)
	if !ok || name == "" || convErr != nil || n < 1 {
		return "", 0, misused("%q is not a version; give NAME@NUMBER, such as timetable@3", text)
	}
	return name, n, nil
}

func (a *app) imageCommand() *cobra.Command {
	var from string
	importing := &cobra.Command{
		Use: "import NAME --from FILE", Short: "Bring in an archive as the next version of an image",
		Long: `Brings in a gzip-compressed tar archive as the next version of an image.

The archive has a manifest, unitas.yaml, at its root that says what a machine
starts:

  start: [./timetable, --verbose]`,
		Example: "  tar -czf timetable.tar.gz -C build .\n  unitas image import timetable --from timetable.tar.gz",
		Args:    exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := os.Open(from)
			if err != nil {
				return fmt.Errorf("--from: %w", err)
			}
			defer f.Close()
			info, err := f.Stat()
			if err != nil {
				return err
			}
			if info.IsDir() {
				return misused("--from: %s is a directory; pack it first with: tar -czf FILE -C %s .", from, from)
			}
			body := &progress{Reader: f, a: a, total: info.Size(), begun: time.Now()}
			image, _, err := ask[client.Image](a, func(c *client.Client) (*http.Response, error) {
				return c.ImportImageWithBody(cmd.Context(), &client.ImportImageParams{Name: args[0], IdempotencyKey: freshKey()}, "application/gzip", body)
			})
			body.end()
			if err != nil {
				return err
			}
			return a.print(image, func() string {
				return fmt.Sprintf("%s@%d is ready (%s, %s).\n", image.Name, image.Version, size(image.SizeBytes), short(image.Digest))
			})
		},
	}
	importing.Flags().StringVar(&from, "from", "", "the archive's `FILE`")
	_ = importing.MarkFlagRequired("from")

	listing := &cobra.Command{Use: "list [NAME]", Short: "List image versions, newest first", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			params := client.ListImagesParams{}
			if len(args) == 1 {
				params.Name = &args[0]
			}
			images, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
				params.After = after
				return c.ListImages(cmd.Context(), &params)
			}, func(l client.ImageList) ([]client.Image, *string) { return l.Items, l.Next })
			if err != nil {
				return err
			}
			return a.print(images, func() string {
				rows := [][]string{{"image", "state", ">size", "digest", "made", "by"}}
				for _, i := range images {
					rows = append(rows, []string{fmt.Sprintf("%s@%d", i.Name, i.Version), string(i.State), size(i.SizeBytes), short(i.Digest), ago(i.CreatedAt), i.CreatedBy})
				}
				return orNone(rows, "There are no images yet; bring one in with: unitas image import NAME --from FILE")
			})
		}}
	showing := &cobra.Command{Use: "show NAME@N", Short: "Show one version of an image", Args: exactly("NAME@N"),
		RunE: func(cmd *cobra.Command, args []string) error {
			name, n, err := reference(args[0])
			if err != nil {
				return err
			}
			i, _, err := ask[client.Image](a, func(c *client.Client) (*http.Response, error) { return c.GetImage(cmd.Context(), name, n) })
			if err != nil {
				return err
			}
			return a.print(i, func() string {
				return facts("image", args[0], "state", string(i.State), "starts", strings.Join(i.Start, " "), "size", size(i.SizeBytes),
					"digest", i.Digest, "made", moment(i.CreatedAt)+" by "+i.CreatedBy)
			})
		}}
	return group("image", "Machine images: what machines start from", importing, listing, showing)
}

// progress shows how far an upload is, on standard error of a terminal.
type progress struct {
	io.Reader
	a           *app
	total, done int64
	begun, said time.Time
}

func (p *progress) Read(b []byte) (int, error) {
	n, err := p.Reader.Read(b)
	p.done += int64(n)
	if now := time.Now(); now.Sub(p.said) > 200*time.Millisecond && term.IsTerminal(int(os.Stderr.Fd())) {
		p.said = now
		rate := float64(p.done) / max(now.Sub(p.begun).Seconds(), 0.001)
		left := time.Duration(float64(p.total-p.done) / max(rate, 1) * float64(time.Second))
		fmt.Fprintf(p.a.err, "\r%s of %s, %s/s, %s left\x1b[K", size(p.done), size(p.total), size(int64(rate)), words.Span(left))
	}
	return n, err
}

func (p *progress) end() {
	if !p.said.IsZero() {
		fmt.Fprint(p.a.err, "\r\x1b[K")
	}
}

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

func (a *app) templateCommand() *cobra.Command {
	var f templateFlags
	creating := &cobra.Command{
		Use: "create NAME --image NAME@N", Short: "Make version 1 of a template", Args: exactly("NAME"),
		Example: "  unitas template create timetable-web --image timetable@1 --port 8080 --environment SEASON=summer",
		RunE: func(cmd *cobra.Command, args []string) error {
			body := client.NewTemplate{Name: args[0], Image: f.image, Port: given(cmd, "port", f.port), Note: given(cmd, "note", f.note)}
			var err error
			if body.UserData, body.Environment, body.Labels, err = f.rest(cmd); err != nil {
				return err
			}
			return a.made(ask[client.Template](a, func(c *client.Client) (*http.Response, error) {
				return c.CreateTemplate(cmd.Context(), &client.CreateTemplateParams{IdempotencyKey: freshKey()}, body)
			}))
		},
	}
	f.add(creating)
	_ = creating.MarkFlagRequired("image")
	revising := &cobra.Command{
		Use: "revise NAME --note WHY", Short: "Make the next version from the latest, changing only what is given", Args: exactly("NAME"),
		Example: "  unitas template revise timetable-web --image timetable@2 --note \"shows the summer sailings\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			body := client.TemplateRevision{Image: given(cmd, "image", f.image), Port: given(cmd, "port", f.port), Note: f.note}
			var err error
			if body.UserData, body.Environment, body.Labels, err = f.rest(cmd); err != nil {
				return err
			}
			return a.made(ask[client.Template](a, func(c *client.Client) (*http.Response, error) {
				return c.ReviseTemplate(cmd.Context(), args[0], &client.ReviseTemplateParams{IdempotencyKey: freshKey()}, body)
			}))
		},
	}
	f.add(revising)
	_ = revising.MarkFlagRequired("note")
	listing := &cobra.Command{Use: "list [NAME]", Short: "List template versions, newest first", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			params := client.ListTemplatesParams{}
			if len(args) == 1 {
				params.Name = &args[0]
			}
			templates, err := list(a, func(c *client.Client, after *string) (*http.Response, error) {
				params.After = after
				return c.ListTemplates(cmd.Context(), &params)
			}, func(l client.TemplateList) ([]client.Template, *string) { return l.Items, l.Next })
			if err != nil {
				return err
			}
			return a.print(templates, func() string {
				rows := [][]string{{"template", "image", ">port", "made", "by", "note"}}
				for _, t := range templates {
					rows = append(rows, []string{fmt.Sprintf("%s@%d", t.Name, t.Version), t.Image, strconv.Itoa(t.Port), ago(t.CreatedAt), t.CreatedBy, t.Note})
				}
				return orNone(rows, "There are no templates yet; make one with: unitas template create NAME --image NAME@N")
			})
		}}
	showing := &cobra.Command{Use: "show NAME@N", Short: "Show one version of a template", Args: exactly("NAME@N"),
		RunE: func(cmd *cobra.Command, args []string) error {
			name, n, err := reference(args[0])
			if err != nil {
				return err
			}
			t, _, err := ask[client.Template](a, func(c *client.Client) (*http.Response, error) { return c.GetTemplate(cmd.Context(), name, n) })
			if err != nil {
				return err
			}
			return a.print(t, func() string {
				return facts("template", args[0], "image", t.Image+"  "+short(t.ImageDigest), "port", strconv.Itoa(t.Port),
					"environment", pairs(t.Environment), "labels", pairs(t.Labels), "user data", t.UserData, "note", t.Note,
					"made", moment(t.CreatedAt)+" by "+t.CreatedBy)
			})
		}}
	return group("template", "Instance templates: everything needed to launch one instance", creating, revising, listing, showing)
}

func (a *app) made(t client.Template, _ string, err error) error {
	if err != nil {
		return err
	}
	return a.print(t, func() string { return fmt.Sprintf("%s@%d launches %s.\n", t.Name, t.Version, t.Image) })
}

type templateFlags struct {
	image, note, userData string
	port                  int
	environment, labels   map[string]string
}

func (f *templateFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.image, "image", "", "the image version, `NAME@N`")
	flags.IntVar(&f.port, "port", 8080, "the `PORT` that the workload listens on")
	flags.StringVar(&f.note, "note", "", "why there is this version")
	flags.StringVar(&f.userData, "user-data", "", "a `FILE` that each instance is given as it is")
	flags.StringToStringVar(&f.environment, "environment", nil, "variables for the workload, `NAME=VALUE,…`")
	flags.StringToStringVar(&f.labels, "label", nil, "labels, `NAME=VALUE,…`")
}

func (f *templateFlags) rest(cmd *cobra.Command) (userData *string, env *client.Environment, labels *client.Labels, err error) {
	if cmd.Flags().Changed("user-data") {
		raw, err := os.ReadFile(f.userData)
		if err != nil {
			return nil, nil, nil, fmt.Errorf("--user-data: %w", err)
		}
		text := string(raw)
		userData = &text
	}
	return userData, given(cmd, "environment", client.Environment(f.environment)), given(cmd, "label", client.Labels(f.labels)), nil
}

func pairs(m map[string]string) string {
	var lines []string
	for k, v := range m {
		lines = append(lines, k+"="+v)
	}
	return strings.Join(sorted(lines), "\n")
}

func (a *app) checkCommand() *cobra.Command {
	var kind, path string
	var port, passes, fails int
	var interval, timeout time.Duration
	creating := &cobra.Command{
		Use: "create NAME", Short: "Make a health check", Args: exactly("NAME"),
		Long: `Makes a health check. An http check is good when the answer's status is 200 to
299 and all of it came within the timeout; a redirect is not good. A tcp check is
good when the connection is taken.`,
		Example: "  unitas check create sailings-up --kind http --path /up --interval 2s --passes 2 --fails 3",
		RunE: func(cmd *cobra.Command, args []string) error {
			body := client.NewCheck{Name: args[0], Kind: client.NewCheckKind(kind), Port: &port, Passes: &passes, Fails: &fails,
				Path: given(cmd, "path", path)}
			seconds := interval.Seconds()
			body.IntervalSeconds = &seconds
			limit := timeout.Seconds()
			body.TimeoutSeconds = given(cmd, "timeout", limit)
			check, _, err := ask[client.Check](a, func(c *client.Client) (*http.Response, error) {
				return c.CreateCheck(cmd.Context(), &client.CreateCheckParams{IdempotencyKey: freshKey()}, body)
			})
			if err != nil {
				return err
			}
			return a.print(check, func() string { return fmt.Sprintf("%s asks %s.\n", check.Name, question(check)) })
		},
	}
	flags := creating.Flags()
	flags.StringVar(&kind, "kind", "http", "http or tcp")
	flags.IntVar(&port, "port", 8080, "the `PORT` that is asked")
	flags.StringVar(&path, "path", "/", "the `PATH` that an http check gets")
	flags.DurationVar(&interval, "interval", 5*time.Second, "time between two questions")
	flags.DurationVar(&timeout, "timeout", 2*time.Second, "time for a whole answer; at most the interval")
	flags.IntVar(&passes, "passes", 2, "good answers in a row to become healthy")
	flags.IntVar(&fails, "fails", 3, "bad answers in a row to become unhealthy")
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
				return facts("check", c.Name, "asks", question(c), "healthy after", fmt.Sprintf("%d good answers in a row", c.Passes),
					"unhealthy after", fmt.Sprintf("%d bad answers in a row", c.Fails), "made", moment(c.CreatedAt))
			})
		}}
	return group("check", "Health checks: how instances are asked whether they are well", creating, listing, showing)
}

func question(c client.Check) string {
	what := fmt.Sprintf("tcp port %d", c.Port)
	if c.Kind == client.CheckKindHttp {
		what = fmt.Sprintf("http port %d for %s", c.Port, c.Path)
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
