package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

func (a *app) listenerCommand() *cobra.Command {
	return group("listener", "Listeners: the addresses that take requests and connections, and the routes by which they go to pools",
		a.listenerCreate(), a.listenerSet(), a.listenerList(), a.listenerShow(), a.listenerAccessLog(), a.listenerDelete())
}

// listenerFlags are the settings of a listener.
type listenerFlags struct {
	protocol, pool, minTLS, regionOrder, accessLog, reason string
	routes, more, certificates, limits                     []string
	upgrades                                               []string
	http2, proxyProtocol                                   bool
	redirect, enough, drop                                 int
}

const routeHelp = `A route is written SETTING=VALUE with commas between, and takes what fits all of them:

  host=NAME          the host of the request; *.NAME takes all that have one part more.
                     May be repeated: any of them
  path=/PREFIX       how the path begins, by whole parts: /fares takes /fares and /fares/7
  header=NAME[:VALUE]  a header that it has, of any value or of this one; may be repeated
  pool=NAME          where it goes
  split=NAME         another pool that a part of it goes to, while that has a target:
                     percent=N of them, and those with split-header=NAME[:VALUE]

The first route that takes a request has it. What none takes goes to --pool, and is
answered 404 without one.`

func (f *listenerFlags) add(cmd *cobra.Command, set bool) {
	flags := cmd.Flags()
	flags.StringVar(&f.protocol, "protocol", "http", "what callers speak: http, https, or tcp (connections of any protocol)")
	flags.StringVar(&f.pool, "pool", "", "the pool that gets what no route takes; none for 404")
	flags.StringArrayVar(&f.routes, "route", nil, "a route, `SETTING=VALUE,…` (see above). May be repeated; the first that takes a request has it")
	flags.StringArrayVar(&f.certificates, "certificate", nil, "of https, by `NAME` among those of the service; callers get the first for the name that they ask for. May be repeated")
	flags.StringVar(&f.minTLS, "min-tls", "1.2", "the oldest version of TLS that is spoken: 1.2 or 1.3")
	flags.BoolVar(&f.http2, "http2", false, "HTTP/2: offered by https (usual), understood by http from callers that know of it")
	numberVar(flags, &f.redirect, "redirect", 0, "of http: send every request to https at this `PORT`; 0 does not")
	flags.BoolVar(&f.proxyProtocol, "proxy-protocol", false, "of tcp: begin each connection to a target with the PROXY protocol (version 2), which tells it who calls")
	flags.StringVar(&f.regionOrder, "region-order", "alike", "which region's targets are preferred: alike, measured (by how long connections take), or `REGION,…` with the nearest first")
	numberVar(flags, &f.enough, "enough", 50, "with --region-order: the `PERCENT` of a region's targets that must be healthy, or the next region shares")
	flags.StringArrayVar(&f.limits, "limit", nil, "what a caller may take, `LIMIT=VALUE,…` of header, idle, write, tunnel-idle, request (times), header-size, body (sizes), connections (of one address), connection-rate and request-rate (of one address, a second). May be repeated; none takes one away")
	flags.StringSliceVar(&f.upgrades, "upgrades", []string{"websocket"}, "the protocols that a caller may have a connection changed to, `NAME,…`, or none")
	flags.StringVar(&f.accessLog, "access-log", "failures", "which requests are in the access log: all, `PERCENT`% (and all failures), failures, or none")
	if set {
		flags.StringArrayVar(&f.more, "add-route", nil, "a route after those that there are. May be repeated")
		numberVar(flags, &f.drop, "drop-route", 0, "take away the route of this `NUMBER`")
		flags.StringVar(&f.reason, "reason", "", "why; it is kept in the journal")
	}
}

// read reads what flags say in a form of their own, over what was.
func (f *listenerFlags) read(cmd *cobra.Command, was []contract.Route) (c contract.ListenerChange, err error) {
	pool := f.pool
	if pool == "none" {
		pool = ""
	}
	c = contract.ListenerChange{Protocol: given(cmd, "protocol", contract.ListenerProtocol(f.protocol)), Pool: given(cmd, "pool", pool), Certificates: given(cmd, "certificate", f.certificates),
		MinTls: given(cmd, "min-tls", f.minTLS), Http2: given(cmd, "http2", f.http2), Redirect: given(cmd, "redirect", f.redirect), ProxyProtocol: given(cmd, "proxy-protocol", f.proxyProtocol), Upgrades: given(cmd, "upgrades", f.upgrades)}
	if c.Routes, err = f.readRoutes(cmd, was); err != nil {
		return c, err
	}
	if cmd.Flags().Changed("region-order") {
		c.RegionOrder = &contract.RegionOrder{How: f.regionOrder, EnoughPercent: given(cmd, "enough", f.enough)}
		if f.regionOrder != "alike" && f.regionOrder != "measured" {
			regions := strings.Split(f.regionOrder, ",")
			c.RegionOrder.How, c.RegionOrder.Regions = "in-order", &regions
		}
	} else if cmd.Flags().Changed("enough") {
		return c, misused("--enough %d: give --region-order as well", f.enough)
	}
	if cmd.Flags().Changed("access-log") {
		c.AccessLog = &contract.AccessLog{Keep: f.accessLog}
		if share, ok := strings.CutSuffix(f.accessLog, "%"); ok {
			v, err := strconv.ParseFloat(share, 64)
			if err != nil {
				return c, misused("--access-log %s: give all, a percentage such as 5%%, failures or none", f.accessLog)
			}
			c.AccessLog = &contract.AccessLog{Keep: "sampled", Percent: &v}
		}
	}
	if cmd.Flags().Changed("limit") {
		l := &contract.ListenerLimits{}
		c.Limits = l
		err = forms{"header": intoSeconds(&l.HeaderSeconds), "idle": intoSeconds(&l.IdleSeconds), "write": intoSeconds(&l.WriteSeconds), "tunnel-idle": intoSeconds(&l.TunnelIdleSeconds), "request": intoSeconds(&l.RequestSeconds),
			"header-size": intoBytes(&l.HeaderBytes), "body": intoBytes(&l.BodyBytes), "connections": intoNumber(&l.Connections),
			"connection-rate": intoRate(&l.ConnectionsPerSecond, "a number a second, such as 10", "/s"), "request-rate": intoRate(&l.RequestsPerSecond, "a number a second, such as 50", "/s")}.readAll("limit", f.limits)
	}
	return c, err
}

// readRoutes is nil when nobody said anything of routes.
func (f *listenerFlags) readRoutes(cmd *cobra.Command, was []contract.Route) (*[]contract.Route, error) {
	routes, flag := slices.Clone(was), "add-route"
	if cmd.Flags().Changed("route") {
		routes, flag = []contract.Route{}, "route"
	}
	if f.drop > 0 {
		if f.drop > len(routes) {
			return nil, misused("--drop-route %d: there are %s", f.drop, words.Count(len(routes), "route"))
		}
		routes = slices.Delete(routes, f.drop-1, f.drop)
	}
	for _, text := range append(slices.Clone(f.routes), f.more...) {
		if text == "none" {
			continue
		}
		r, err := parseRoute(flag, text)
		if err != nil {
			return nil, err
		}
		routes = append(routes, r)
	}
	if f.drop == 0 && !cmd.Flags().Changed("route") && len(f.more) == 0 {
		return nil, nil
	}
	return &routes, nil
}

// parseRoute reads SETTING=VALUE,…
func parseRoute(flag, text string) (r contract.Route, err error) {
	split := contract.RouteSplit{}
	var hosts []string
	var headers []contract.HeaderMatch
	err = forms{
		"host":         func(v string) string { hosts = append(hosts, v); return "" },
		"path":         intoText(&r.Path),
		"header":       func(v string) string { headers = append(headers, headerMatch(v)); return "" },
		"pool":         func(v string) string { r.Pool = v; return "" },
		"split":        func(v string) string { split.Pool, r.Split = v, &split; return "" },
		"percent":      intoRate(&split.Percent, "a percentage such as 5", "%"),
		"split-header": func(v string) string { h := headerMatch(v); split.Header = &h; return "" },
	}.read(flag, text)
	switch {
	case err != nil:
		return r, err
	case r.Pool == "":
		return r, misused("--%s %s: say where it goes, pool=NAME", flag, text)
	case r.Split == nil && (split.Percent != nil || split.Header != nil):
		return r, misused("--%s %s: say where that part goes, split=NAME", flag, text)
	}
	if len(hosts) > 0 {
		r.Hosts = &hosts
	}
	if len(headers) > 0 {
		r.Headers = &headers
	}
	return r, nil
}

// headerMatch reads NAME[:VALUE].
func headerMatch(text string) contract.HeaderMatch {
	name, v, some := strings.Cut(text, ":")
	out := contract.HeaderMatch{Name: strings.TrimSpace(name)}
	if v = strings.TrimSpace(v); some {
		out.Value = &v
	}
	return out
}

func headerText(h contract.HeaderMatch) string {
	if h.Value == nil {
		return h.Name
	}
	return h.Name + ":" + *h.Value
}

// routeText is a route as people write it.
func routeText(r contract.Route) (takes, goes string) {
	var all []string
	for _, h := range value(r.Hosts) {
		all = append(all, "host="+h)
	}
	if p := value(r.Path); p != "" {
		all = append(all, "path="+p)
	}
	for _, h := range value(r.Headers) {
		all = append(all, "header="+headerText(h))
	}
	goes = r.Pool
	if s := r.Split; s != nil {
		var part []string
		if s.Percent != nil {
			part = append(part, fmt.Sprintf("%g %%", *s.Percent))
		}
		if s.Header != nil {
			part = append(part, "those with "+headerText(*s.Header))
		}
		goes += fmt.Sprintf("; split off to %s: %s", s.Pool, strings.Join(part, " and "))
	}
	return orWord(strings.Join(all, ", "), "anything"), goes
}

func (a *app) listenerCreate() *cobra.Command {
	var f listenerFlags
	cmd := &cobra.Command{Use: "create ADDRESS:PORT", Short: "Have an address take requests or connections", Args: exactly("ADDRESS:PORT"), Long: "Has an address take requests or connections.\n\n" + routeHelp,
		Example: `  unitas listener create 127.0.0.1:8000 --pool front
  unitas listener create 127.0.0.1:8443 --protocol https --certificate saltmere --route host=fares.saltmere.example,pool=fares --pool front
  unitas listener create 127.0.0.1:8000 --route path=/fares,pool=fares,split=fares-next,percent=5 --pool front --limit request-rate=50/s
  unitas listener create 127.0.0.1:5432 --protocol tcp --pool ledger --limit tunnel-idle=10m --proxy-protocol`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := f.read(cmd, nil)
			if err != nil {
				return err
			}
			body := contract.NewListener{Address: args[0], Protocol: c.Protocol, Pool: c.Pool, Routes: c.Routes, Certificates: c.Certificates, MinTls: c.MinTls, Http2: c.Http2,
				Redirect: c.Redirect, ProxyProtocol: c.ProxyProtocol, RegionOrder: c.RegionOrder, Limits: c.Limits, Upgrades: c.Upgrades, AccessLog: c.AccessLog}
			l, _, err := ask[contract.Listener](a, func(cl *client.Client) (*http.Response, error) {
				return cl.CreateListener(cmd.Context(), &contract.CreateListenerParams{IdempotencyKey: freshKey()}, body)
			})
			if err != nil {
				return err
			}
			return a.print(l, func() string {
				text := fmt.Sprintf("%s is made. %s\n", l.Address, l.Sentence)
				if l.Trouble != "" {
					text += "It is tried again every 2 s.\n"
				}
				return text
			})
		}}
	f.add(cmd, false)
	return cmd
}

func (a *app) listenerSet() *cobra.Command {
	var f listenerFlags
	cmd := &cobra.Command{Use: "set ADDRESS:PORT", Short: "Change a listener, only what is given; it applies at once", Args: exactly("ADDRESS:PORT"),
		Long: "Changes a listener, only what is given. Connections and requests that are under way go on.\n\n" + routeHelp,
		Example: `  unitas listener set 127.0.0.1:8000 --add-route host=berths.saltmere.example,pool=berths
  unitas listener set 127.0.0.1:8443 --certificate saltmere --certificate headland --min-tls 1.3
  unitas listener set 127.0.0.1:8000 --region-order harbour,headland --enough 60 --reason "headland helps out"`,
		RunE: func(cmd *cobra.Command, args []string) error {
			was, tag, err := ask[contract.Listener](a, func(c *client.Client) (*http.Response, error) {
				return c.GetListener(cmd.Context(), args[0])
			})
			if err != nil {
				return err
			}
			body, err := f.read(cmd, was.Routes)
			if err != nil {
				return err
			}
			body.Reason = given(cmd, "reason", f.reason)
			l, _, err := ask[contract.Listener](a, func(c *client.Client) (*http.Response, error) {
				return c.ChangeListener(cmd.Context(), args[0], &contract.ChangeListenerParams{IfMatch: &tag}, body)
			})
			if err != nil {
				return err
			}
			return a.print(l, func() string { return changed(l.Address, l.Changes) + l.Sentence + "\n" })
		}}
	f.add(cmd, true)
	return cmd
}

func (a *app) listenerDelete() *cobra.Command {
	cmd := a.deleting("listener", func(ctx context.Context, c *client.Client, name string) (*http.Response, error) {
		return c.GetListener(ctx, name)
	}, func(ctx context.Context, c *client.Client, name, tag string) (*http.Response, error) {
		return c.DeleteListener(ctx, name, &contract.DeleteListenerParams{IfMatch: &tag})
	})
	cmd.Use, cmd.Args = "delete ADDRESS:PORT", exactly("ADDRESS:PORT")
	cmd.Short = "Close a listener; what is under way goes on"
	return cmd
}

func (a *app) listenerList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List listeners", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, _, err := ask[contract.ListenerList](a, func(c *client.Client) (*http.Response, error) { return c.ListListeners(cmd.Context()) })
			if err != nil {
				return err
			}
			return a.print(all.Items, func() string {
				rows := [][]string{{"listener", "protocol", "?>connections", "?>requests", "?>refused", "now"}}
				for _, l := range all.Items {
					rows = append(rows, []string{l.Address, string(l.Protocol), strconv.Itoa(l.Connections), strconv.FormatInt(l.Requests, 10), strconv.FormatInt(l.Refused, 10), troubled(l)})
				}
				return orNone(rows, "There are no listeners yet; make one with: unitas listener create ADDRESS:PORT --pool NAME")
			})
		}}
}

func troubled(l contract.Listener) string {
	if l.Trouble != "" {
		return trouble.paint(l.Sentence)
	}
	return l.Sentence
}

func (a *app) listenerShow() *cobra.Command {
	return &cobra.Command{Use: "show ADDRESS:PORT", Short: "Show one listener with its routes, in their order", Args: exactly("ADDRESS:PORT"),
		RunE: func(cmd *cobra.Command, args []string) error {
			l, _, err := ask[contract.Listener](a, func(c *client.Client) (*http.Response, error) {
				return c.GetListener(cmd.Context(), args[0])
			})
			if err != nil {
				return err
			}
			return a.print(l, func() string { return listenerPicture(l) })
		}}
}

func listenerPicture(l contract.Listener) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %s\n\n", strong.paint(string(l.Protocol)+"://"+l.Address), troubled(l))
	if len(l.Routes) > 0 {
		rows := [][]string{{">route", "takes", "goes to"}}
		for i, r := range l.Routes {
			takes, goes := routeText(r)
			rows = append(rows, []string{strconv.Itoa(i + 1), takes, goes})
		}
		if l.Redirect == 0 {
			rows = append(rows, []string{"", "what none takes", orWord(l.Pool, "nobody: 404")})
		}
		b.WriteString(table(rows) + "\n")
	}
	near := map[string]string{"in-order": "the nearest region first", "measured": "the region first to which connections are made fastest"}[l.RegionOrder.How]
	for i, r := range l.Reached {
		near += map[bool]string{true: ": ", false: ", "}[i == 0] + r.Region
		if r.TookMs > 0 {
			near += fmt.Sprintf(" (%s)", millis(r.TookMs))
		}
	}
	if l.RegionOrder.EnoughPercent != nil {
		near += fmt.Sprintf("; the next shares under %d %% healthy", *l.RegionOrder.EnoughPercent)
	}
	certificates := strings.Join(l.Certificates, ", ")
	if l.ExpiresAt != nil {
		certificates += ", the first ends " + moment(*l.ExpiresAt)
	}
	v := l.Limits
	count := func(n float64, of string) string {
		if n == 0 {
			return ""
		}
		return fmt.Sprintf("%g%s", n, of)
	}
	b.WriteString(facts("pool", map[bool]string{true: l.Pool}[len(l.Routes) == 0], "certificates", certificates, "TLS", map[bool]string{true: l.MinTls + " or newer"}[l.Protocol == contract.ListenerProtocolHttps],
		"HTTP/2", map[bool]string{true: map[bool]string{true: "offered", false: "in clear, from callers that know of it"}[l.Protocol == contract.ListenerProtocolHttps]}[l.Http2],
		"PROXY protocol", map[bool]string{true: "version 2: targets are told who calls"}[l.ProxyProtocol], "region order", near,
		"upgrades", strings.Join(l.Upgrades, ", "), "limits", limitWords("header", v.HeaderSeconds, "idle", v.IdleSeconds, "write", v.WriteSeconds, "tunnel idle", v.TunnelIdleSeconds, "request", v.RequestSeconds, "header size", v.HeaderBytes, "body", v.BodyBytes),
		"of one address", limitWords("connections", count(float64(value(v.Connections)), ""), "new ones", count(value(v.ConnectionsPerSecond), "/s"), "requests", count(value(v.RequestsPerSecond), "/s")),
		"access log", accessLogWords(l.AccessLog), "since start", listenerCounts(l)))
	return b.String()
}

func accessLogWords(l contract.AccessLog) string {
	switch l.Keep {
	case "sampled":
		return fmt.Sprintf("%g %% of requests, and all failures", value(l.Percent))
	case "none":
		return "nothing"
	case "all":
		return "all requests"
	}
	return "failures"
}

func listenerCounts(l contract.Listener) string {
	out := fmt.Sprintf("%d %s, %d connections open now", l.Requests, map[bool]string{true: "connections", false: "requests"}[l.Protocol == contract.ListenerProtocolTcp], l.Connections)
	for _, one := range []struct {
		n    int64
		what string
	}{{l.Refused, "passed a limit"}, {l.Malformed, "could not be passed on"}, {l.Unrouted, "were taken by no route"}, {l.AccessLogLost, "lines of the access log there was no time for"}} {
		if one.n > 0 {
			out += fmt.Sprintf(", %d %s", one.n, one.what)
		}
	}
	return out
}
