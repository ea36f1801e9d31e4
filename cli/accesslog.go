package cli

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

func (a *app) listenerAccessLog() *cobra.Command {
	var most int
	cmd := &cobra.Command{Use: "access-log ADDRESS:PORT", Short: "Show the newest lines of a listener's access log", Args: exactly("ADDRESS:PORT"),
		Long: "Shows the newest lines of a listener's access log; which requests are in it is up to --access-log.\nThe whole is in files of JSON lines at the service, at most five of 20 MB.",
		RunE: func(cmd *cobra.Command, args []string) error {
			all, _, err := ask[contract.AccessLogLines](a, func(c *client.Client) (*http.Response, error) {
				return c.ListAccessLog(cmd.Context(), args[0], &contract.ListAccessLogParams{Limit: &most})
			})
			if err != nil {
				return err
			}
			return a.print(all.Items, func() string {
				rows := [][]string{{"at", ">status", "request", "target", "?>first byte", "?>whole", "?>in", "?>out", "?caller", "what failed"}}
				for _, item := range all.Items {
					l := accessLogLine(item)
					rows = append(rows, []string{l.At.Local().Format("15:04:05.000"), map[bool]string{true: strconv.Itoa(l.Status), false: "–"}[l.Status > 0], strings.TrimSpace(l.Method + " " + l.Host + l.Path),
						orWord(l.Target, "–"), millis(l.FirstMs), millis(l.TotalMs), size(l.BytesIn), size(l.BytesOut), l.Caller, l.Failure})
				}
				return orNone(rows, "Nothing is in the access log yet; see: unitas listener show "+args[0])
			})
		}}
	numberVar(cmd.Flags(), &most, "lines", 50, "how many, the newest")
	return cmd
}

// accessLine is what is shown of a line.
type accessLine struct {
	At        time.Time
	Status    int
	Method    string
	Host      string
	Path      string
	Target    string
	Caller    string
	Failure   string
	FirstMs   float64 `json:"first_byte_ms"`
	TotalMs   float64 `json:"total_ms"`
	BytesIn   int64   `json:"bytes_in"`
	BytesOut  int64   `json:"bytes_out"`
	RequestID string  `json:"request_id"`
}

func accessLogLine(item map[string]any) (l accessLine) {
	if raw, err := json.Marshal(item); err == nil {
		_ = json.Unmarshal(raw, &l)
	}
	return l
}

func (a *app) poolTry() *cobra.Command {
	var headers []string
	var listener, caller string
	cmd := &cobra.Command{Use: "try URL", Short: "Tell which route, pool and target a request would get now, and why; nothing is sent", Args: exactly("URL"),
		Example: `  unitas pool try http://fares.saltmere.example:8000/fares/7
  unitas pool try http://127.0.0.1:8000/sailings --header X-Trial:yes
  unitas pool try https://timetable.saltmere.example/ --listener 127.0.0.1:8443`,
		RunE: func(cmd *cobra.Command, args []string) error {
			body := contract.RequestTrial{Url: args[0], Listener: given(cmd, "listener", listener), Caller: given(cmd, "caller", caller)}
			if len(headers) > 0 {
				all := make([]contract.HeaderMatch, len(headers))
				for i, h := range headers {
					all[i] = headerMatch(h)
				}
				body.Headers = &all
			}
			t, _, err := ask[contract.RequestTrace](a, func(c *client.Client) (*http.Response, error) { return c.TryRequest(cmd.Context(), body) })
			if err != nil {
				return err
			}
			return a.print(t, func() string { return tracePicture(args[0], t) })
		}}
	flags := cmd.Flags()
	flags.StringArrayVar(&headers, "header", nil, "a header of the request, `NAME:VALUE`. May be repeated")
	flags.StringVar(&listener, "listener", "", "the `ADDRESS:PORT` of the listener; without it the one at the port of the URL")
	flags.StringVar(&caller, "caller", "127.0.0.1", "the `ADDRESS` that it comes from")
	return cmd
}

func tracePicture(what string, t contract.RequestTrace) string {
	head := fmt.Sprintf("%s comes to %s and gets %s.", what, t.Listener, strong.paint(value(t.Target)))
	if t.Target == nil {
		head = fmt.Sprintf("%s comes to %s and is answered %s.", what, t.Listener, trouble.paint(strconv.Itoa(t.Status)))
	}
	route := "none"
	if t.Route > 0 {
		route = strconv.Itoa(t.Route)
	}
	out := head + "\n\n" + facts("route", route, "pool", orWord(t.Pool, "none"), "target", value(t.Target), "group", value(t.Group), "version", value(t.Version), "address", value(t.Address)) + "\n"
	for _, line := range t.Why {
		out += "  " + line + "\n"
	}
	return out
}
