package cli

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

// poolFlags are what a pool may be told.
type poolFlags struct {
	listen, zones, shares              []string
	check, algorithm, whenNone, reason string
	slowStart                          time.Duration
	enough                             int
	weights                            []string
	labels                             map[string]string
	spoken                             spokenFlags
}

func (f *poolFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringArrayVar(&f.listen, "listen", nil, "a listener that sends it all, `ADDRESS:PORT[=CERTIFICATE]`; with a certificate, by its name among those of the service, it speaks https. May be repeated. See listener create for other ones")
	flags.StringVar(&f.check, "check", "", "the check that decides which targets get traffic, by `NAME`")
	flags.StringVar(&f.algorithm, "algorithm", "round-robin", "which target gets the next request: round-robin or least-busy")
	flags.StringVar(&f.whenNone, "when-none-healthy", "refuse", "when no target is healthy: refuse (503 at once) or try-all")
	flags.DurationVar(&f.slowStart, "slow-start", 0, "how long a fresh target takes to come to its full share")
	flags.StringArrayVar(&f.shares, "share", nil, "how a group shares with others, `GROUP=WEIGHT[,reserve]`; a reserve gets requests when too few of the others are healthy. May be repeated; none takes all away")
	numberVar(flags, &f.enough, "enough", 50, "with a reserve: the `PERCENT` of the others that must be healthy")
	flags.StringSliceVar(&f.weights, "weight", nil, "the weight of single instances against others of their group, `INSTANCE=WEIGHT,…`; the others keep theirs, 100 when they have none. 100 takes one away, none all")
	flags.StringSliceVar(&f.zones, "zones", nil, "where the listeners stand, for advice")
	pairsVar(flags, &f.labels, "label", "labels, `NAME=VALUE,…`; replaces all")
	f.spoken.add(cmd)
}

// read reads what flags say in a form of their own. The weights are put over those
// that were.
func (f *poolFlags) read(was contract.TargetWeights) (listeners []contract.PoolListener, shares []contract.GroupShare, weights contract.TargetWeights, err error) {
	if listeners, err = f.listeners(); err != nil {
		return nil, nil, nil, err
	}
	if shares, err = f.groupShares(); err != nil {
		return nil, nil, nil, err
	}
	weights, err = f.targetWeights(was)
	return listeners, shares, weights, err
}

// targetWeights reads INSTANCE=WEIGHT over the weights that were.
func (f *poolFlags) targetWeights(was contract.TargetWeights) (contract.TargetWeights, error) {
	all := contract.TargetWeights{}
	maps.Copy(all, was)
	for _, text := range f.weights {
		if text == "none" {
			clear(all)
			continue
		}
		name, rest, given := strings.Cut(text, "=")
		weight, err := parseNumber(rest)
		switch {
		case !given || err != nil:
			return nil, misused("--weight %s: give INSTANCE=WEIGHT with a weight from 0 to 1000, or none", text)
		case weight == usualWeight:
			delete(all, name)
		default:
			all[name] = weight
		}
	}
	return all, nil
}

// usualWeight is that of an instance that has none of its own.
const usualWeight = 100

// listeners reads ADDRESS:PORT[=CERTIFICATE].
func (f *poolFlags) listeners() ([]contract.PoolListener, error) {
	var all []contract.PoolListener
	for _, text := range f.listen {
		address, certificate, secure := strings.Cut(text, "=")
		l := contract.PoolListener{Address: address}
		if secure {
			if certificate == "" {
				return nil, misused("--listen %s: give the name of a certificate after the =, or leave it out", text)
			}
			l.Certificate = &certificate
		}
		all = append(all, l)
	}
	return all, nil
}

// groupShares reads GROUP=WEIGHT[,reserve].
func (f *poolFlags) groupShares() ([]contract.GroupShare, error) {
	all := []contract.GroupShare{}
	for _, text := range f.shares {
		if text == "none" {
			continue
		}
		name, rest, given := strings.Cut(text, "=")
		number, word, _ := strings.Cut(rest, ",")
		weight, err := parseNumber(number)
		if !given || err != nil || (word != "" && word != "reserve") {
			return nil, misused("--share %s: give GROUP=WEIGHT or GROUP=WEIGHT,reserve", text)
		}
		reserve := word == "reserve"
		all = append(all, contract.GroupShare{Group: name, Weight: &weight, Reserve: &reserve})
	}
	return all, nil
}

func (a *app) poolCommand() *cobra.Command {
	return group("pool", "Pools: the targets behind listeners", a.poolCreate(), a.poolSet(), a.poolList(), a.poolShow(), a.poolTry(),
		a.deleting("pool", func(ctx context.Context, c *client.Client, name string) (*http.Response, error) {
			return c.GetPool(ctx, name)
		},
			func(ctx context.Context, c *client.Client, name, tag string) (*http.Response, error) {
				return c.DeletePool(ctx, name, &contract.DeletePoolParams{IfMatch: &tag})
			}))
}

func (a *app) poolCreate() *cobra.Command {
	var f poolFlags
	cmd := &cobra.Command{
		Use: "create NAME --check NAME", Short: "Make a pool, and listeners that send it all", Args: exactly("NAME"),
		Example: `  unitas pool create front --listen 127.0.0.1:8000 --check sailings-up
  unitas pool create front --listen 127.0.0.1:8000 --listen 127.0.0.1:8443=saltmere --check sailings-up --algorithm least-busy --slow-start 30s
  unitas pool create front --listen 127.0.0.1:8000 --check sailings-up --share timetable=100 --share timetable-headland=100,reserve --enough 40
  unitas pool create quays --check quays-up --protocol http2 --affinity header:X-Berth --eject usual --limit first-byte=5s`,
		RunE: func(cmd *cobra.Command, args []string) error {
			listeners, shares, weights, err := f.read(nil)
			if err != nil {
				return err
			}
			spoken, err := f.spoken.read(cmd)
			if err != nil {
				return err
			}
			body := contract.NewPool{Name: args[0], Listeners: given(cmd, "listen", listeners), Check: f.check, Zones: given(cmd, "zones", f.zones), Algorithm: given(cmd, "algorithm", contract.Algorithm(f.algorithm)),
				WhenNoneHealthy: given(cmd, "when-none-healthy", contract.WhenNoneHealthy(f.whenNone)), SlowStartSeconds: given(cmd, "slow-start", f.slowStart.Seconds()),
				Shares: given(cmd, "share", shares), EnoughPercent: given(cmd, "enough", f.enough), Weights: given(cmd, "weight", weights),
				Labels:   given(cmd, "label", contract.Labels(f.labels)),
				Protocol: spoken.protocol, Trust: spoken.trust, ServerName: spoken.serverName, Affinity: spoken.affinity, Eject: spoken.eject, Limits: spoken.limits}
			pool, _, err := ask[contract.Pool](a, func(c *client.Client) (*http.Response, error) {
				return c.CreatePool(cmd.Context(), &contract.CreatePoolParams{IdempotencyKey: freshKey()}, body)
			})
			if err != nil {
				return err
			}
			return a.print(pool, func() string {
				text := fmt.Sprintf("%s listens on %s.\n", pool.Name, addressesOf(pool))
				if len(pool.Listeners) == 0 {
					text = fmt.Sprintf("%s is made. Nothing sends to it yet: unitas listener create ADDRESS:PORT --pool %s, or a route of a listener.\n", pool.Name, pool.Name)
				}
				for _, l := range pool.Listeners {
					if l.Trouble != "" {
						text = fmt.Sprintf("%s is made, but its listener %s is not open: %s. It is tried again every 2 s.\n", pool.Name, l.Address, l.Trouble)
					}
				}
				return text
			})
		},
	}
	f.add(cmd)
	_ = cmd.MarkFlagRequired("check")
	return cmd
}

func addressesOf(p contract.Pool) string {
	all := make([]string, len(p.Listeners))
	for i, l := range p.Listeners {
		all[i] = l.Address
		if l.Protocol != contract.ListenerProtocolHttp {
			all[i] += " (" + string(l.Protocol) + ")"
		}
	}
	return strings.Join(all, " and ")
}

func (a *app) poolSet() *cobra.Command {
	var f poolFlags
	cmd := &cobra.Command{
		Use: "set NAME", Short: "Change a pool, only what is given; it applies at once", Args: exactly("NAME"),
		Long: "Changes a pool, only what is given. Connections and requests that are under way go on.",
		Example: `  unitas pool set front --share timetable=90 --share timetable-next=10 --reason "a tenth to the new one"
  unitas pool set front --weight timetable-003=25`,
		RunE: func(cmd *cobra.Command, args []string) error {
			was, tag, err := ask[contract.Pool](a, func(c *client.Client) (*http.Response, error) { return c.GetPool(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			listeners, shares, weights, err := f.read(was.Weights)
			if err != nil {
				return err
			}
			spoken, err := f.spoken.read(cmd)
			if err != nil {
				return err
			}
			body := contract.PoolChange{Listeners: given(cmd, "listen", listeners), Check: given(cmd, "check", f.check), Zones: given(cmd, "zones", f.zones),
				Algorithm: given(cmd, "algorithm", contract.Algorithm(f.algorithm)), WhenNoneHealthy: given(cmd, "when-none-healthy", contract.WhenNoneHealthy(f.whenNone)),
				SlowStartSeconds: given(cmd, "slow-start", f.slowStart.Seconds()), Shares: given(cmd, "share", shares), EnoughPercent: given(cmd, "enough", f.enough),
				Weights: given(cmd, "weight", weights), Labels: given(cmd, "label", contract.Labels(f.labels)), Reason: given(cmd, "reason", f.reason),
				Protocol: spoken.protocol, Trust: spoken.trust, ServerName: spoken.serverName, Affinity: spoken.affinity, Eject: spoken.eject, Limits: spoken.limits}
			pool, _, err := ask[contract.Pool](a, func(c *client.Client) (*http.Response, error) {
				return c.ChangePool(cmd.Context(), args[0], &contract.ChangePoolParams{IfMatch: &tag}, body)
			})
			if err != nil {
				return err
			}
			return a.print(pool, func() string { return changed(pool.Name, pool.Changes) + pool.Sentence + "\n" })
		},
	}
	f.add(cmd)
	cmd.Flags().StringVar(&f.reason, "reason", "", "why; it is kept in the journal")
	return cmd
}

func (a *app) poolList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List pools", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			pools, err := a.pools(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(pools, func() string {
				rows := [][]string{{"pool", "?listens on", "?check", "?groups", "?>per second", "?>5xx", "?>99 %", "now"}}
				for _, p := range pools {
					w := together(p, 1)
					rows = append(rows, []string{p.Name, addressesOf(p), p.Check, orWord(strings.Join(p.Groups, ", "), "none"), rate(w.PerSecond),
						strconv.FormatInt(w.Status5xx+w.Unanswered, 10), millis(w.P99Ms), p.Sentence})
				}
				return orNone(rows, "There are no pools yet; make one with: unitas pool create NAME --listen ADDRESS:PORT --check NAME")
			})
		}}
}

func (a *app) pools(ctx context.Context) ([]contract.Pool, error) {
	return list(a, func(c *client.Client, after *string) (*http.Response, error) {
		return c.ListPools(ctx, &contract.ListPoolsParams{After: after})
	}, func(l contract.PoolList) ([]contract.Pool, *string) { return l.Items, l.Next })
}

// together is what all versions of a pool did in the last minutes; the
// percentiles are those of the slowest version.
func together(p contract.Pool, minutes int) contract.TrafficWindow {
	out := contract.TrafficWindow{Minutes: minutes}
	for _, v := range p.Versions {
		for _, w := range v.Windows {
			if w.Minutes != minutes {
				continue
			}
			out.Requests += w.Requests
			out.PerSecond += w.PerSecond
			out.Status5xx += w.Status5xx
			out.Unanswered += w.Unanswered
			out.P99Ms = max(out.P99Ms, w.P99Ms)
		}
	}
	return out
}

func rate(perSecond float64) string { return strconv.FormatFloat(perSecond, 'f', 1, 64) + "/s" }

func millis(ms float64) string {
	if ms == 0 {
		return "–"
	}
	return fmt.Sprintf("%.1f ms", ms)
}

func (a *app) poolShow() *cobra.Command {
	var watch bool
	cmd := &cobra.Command{Use: "show NAME", Short: "Show one pool with its targets and what they did over 1, 5 and 15 minutes", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			read := func() (contract.Pool, error) {
				p, _, err := ask[contract.Pool](a, func(c *client.Client) (*http.Response, error) { return c.GetPool(cmd.Context(), args[0]) })
				return p, err
			}
			if watch {
				return a.live(cmd.Context(), patience{watch: true}, func() (sight, error) {
					p, err := read()
					return sight{picture: poolPicture(p), sentence: p.Sentence, value: p}, err
				})
			}
			p, err := read()
			if err != nil {
				return err
			}
			return a.print(p, func() string { return poolPicture(p) })
		}}
	cmd.Flags().BoolVar(&watch, "watch", false, "keep the picture current until Ctrl-C")
	return cmd
}

func poolPicture(p contract.Pool) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %s\n\n", strong.paint(p.Name), p.Sentence)
	for _, l := range p.Listeners {
		text := "open"
		if l.ExpiresAt != nil {
			text += ", its certificate ends " + moment(*l.ExpiresAt)
		}
		if l.Trouble != "" {
			text = trouble.paint(l.Trouble)
		}
		if l.Routed {
			text += ", by a route"
		}
		fmt.Fprintf(&b, "  %s://%s  %s\n", l.Protocol, l.Address, text)
	}
	b.WriteString("\n")
	rows := [][]string{{"target", "version", "verdict", "traffic", "?>share", "?>in flight", ">requests", ">failures", "?>retried", "?>median", "?>99 %", "?address"}}
	for _, t := range p.Targets {
		rows = append(rows, []string{t.Instance, t.Version, verdictWord(t.Verdict), targetWord(t), fmt.Sprintf("%.0f %%", t.SharePercent), strconv.Itoa(t.InFlight),
			strconv.FormatInt(t.Requests, 10), strconv.FormatInt(t.Failures, 10), strconv.FormatInt(t.Retried, 10), millis(t.MedianMs), millis(t.P99Ms), t.Address})
	}
	b.WriteString(orNone(rows, "It has no targets; groups that name the pool bring theirs."))
	for _, t := range p.Targets {
		if t.EjectedUntil != nil {
			fmt.Fprintf(&b, "\n%s is ejected for %s, the %d. time in a row: %s.\n", t.Instance, words.Span(time.Until(*t.EjectedUntil)), value(t.EjectedNth), value(t.EjectedWhy))
		}
		if !t.Open {
			fmt.Fprintf(&b, "\n%s gets no requests: %s %s.\n", t.Instance, p.Check, t.Why)
		}
		for i, r := range t.WaitsFor {
			if i == 0 {
				fmt.Fprintf(&b, "\n%s finishes %s:\n", t.Instance, words.Count(t.InFlight, "request"))
			}
			fmt.Fprintf(&b, "  %s %s for %s\n", r.Method, r.Path, spanOf(r.ForSeconds))
		}
	}
	if len(p.Versions) > 0 {
		rows := [][]string{{"version", ">over", ">per second", ">requests", "?>2xx", "?>3xx", "?>4xx", ">5xx", ">unanswered", "?>median", "?>95 %", ">99 %", "?>in flight"}}
		for _, v := range p.Versions {
			for i, w := range v.Windows {
				name, inFlight := "", ""
				if i == 0 {
					name, inFlight = v.Version, strconv.Itoa(v.InFlight)
				}
				rows = append(rows, []string{name, fmt.Sprintf("%d m", w.Minutes), rate(w.PerSecond), strconv.FormatInt(w.Requests, 10), strconv.FormatInt(w.Status2xx, 10),
					strconv.FormatInt(w.Status3xx, 10), strconv.FormatInt(w.Status4xx, 10), strconv.FormatInt(w.Status5xx, 10), strconv.FormatInt(w.Unanswered, 10),
					millis(w.MedianMs), millis(w.P95Ms), millis(w.P99Ms), inFlight})
			}
		}
		b.WriteString("\n" + table(rows))
	}
	b.WriteString("\n" + facts(append(spokenFacts(p), "check", p.Check, "groups", orWord(strings.Join(p.Groups, ", "), "none"), "algorithm", string(p.Algorithm), "when none healthy", noneHealthyWords(p.WhenNoneHealthy),
		"slow start", map[bool]string{true: spanOf(p.SlowStartSeconds)}[p.SlowStartSeconds > 0], "shares", sharesText(p), "weights", weightsText(p.Weights),
		"stands in", strings.Join(p.Zones, ", "), "labels", pairs(p.Labels), "since start", fmt.Sprintf("%d requests, %d of them failed", p.Requests, p.Failures))...))
	return b.String()
}

func verdictWord(v contract.Verdict) string {
	switch v {
	case contract.VerdictUnhealthy:
		return trouble.paint(string(v))
	case contract.VerdictUnknown:
		return waiting.paint(string(v))
	}
	return string(v)
}

func targetWord(t contract.Target) string {
	switch {
	case t.EjectedUntil != nil:
		return "ejected, " + words.Span(time.Until(*t.EjectedUntil)) + " left"
	case t.Open:
		return "open"
	}
	return "closed"
}

func noneHealthyWords(n contract.WhenNoneHealthy) string {
	if n == contract.TryAll {
		return "try-all: those that are unhealthy are tried"
	}
	return "refuse: answered 503 at once"
}

func sharesText(p contract.Pool) string {
	var all []string
	for _, s := range p.Shares {
		text := fmt.Sprintf("%s %d", s.Group, *s.Weight)
		if *s.Reserve {
			text += fmt.Sprintf(" (reserve, when under %d %% of the others are healthy)", p.EnoughPercent)
		}
		all = append(all, text)
	}
	return strings.Join(all, ", ")
}

func weightsText(weights map[string]int) string {
	var all []string
	for name, w := range weights {
		all = append(all, fmt.Sprintf("%s %d", name, w))
	}
	slices.Sort(all)
	return strings.Join(all, ", ")
}
