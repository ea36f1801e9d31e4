package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
)

// spokenFlags are how the targets of a pool are spoken to.
type spokenFlags struct {
	protocol, trust, serverName, affinity, eject string
	affinityFor                                  time.Duration
	limits                                       []string
}

func (f *spokenFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.protocol, "protocol", "http", "of targets: http (1.1), http2 (in clear, as gRPC wants it), or https")
	flags.StringVar(&f.trust, "trust", "host", "of https targets, what their certificates must be signed by: host (its authorities), anyone (nothing is checked), or the `NAME` of a certificate of the service")
	flags.StringVar(&f.serverName, "server-name", "", "of https targets, the `NAME` that they must have; without it their address")
	flags.StringVar(&f.affinity, "affinity", "none", "keep a caller at one target for as long as that is there, by cookie, header:`NAME` or address; or none")
	flags.DurationVar(&f.affinityFor, "affinity-for", 0, "with --affinity cookie: how long the cookie is kept; without it until the browser ends")
	flags.StringVar(&f.eject, "eject", "never", "eject a target, so that it gets no requests for a while, for how it answers: never, usual, or `SETTING=VALUE,…` of failures (in a row), margin (percent points more failures than the others), slower (times, by the median), min-requests, for and max (times)")
	flags.StringArrayVar(&f.limits, "limit", nil, "what a target may take, `LIMIT=VALUE,…` of connect, first-byte, idle, request (times) and body (a size); none takes one away. May be repeated")
}

// spoken is what was given of it.
type spoken struct {
	protocol          *contract.TargetProtocol
	trust, serverName *string
	affinity          *contract.Affinity
	eject             *contract.Eject
	limits            *contract.PoolLimits
}

func (f *spokenFlags) read(cmd *cobra.Command) (out spoken, err error) {
	out = spoken{protocol: given(cmd, "protocol", contract.TargetProtocol(f.protocol)), trust: given(cmd, "trust", f.trust), serverName: given(cmd, "server-name", f.serverName)}
	if cmd.Flags().Changed("affinity-for") && f.affinity != "cookie" {
		return out, misused("--affinity-for %s: it is for --affinity cookie", f.affinityFor)
	}
	if cmd.Flags().Changed("affinity") {
		by, header, named := strings.Cut(f.affinity, ":")
		if !slices.Contains([]string{"none", "cookie", "header", "address"}, by) || named != (by == "header") || (named && header == "") {
			return out, misused("--affinity %s: give cookie, header:NAME, address or none", f.affinity)
		}
		out.affinity = &contract.Affinity{By: by, ForSeconds: secondsOf(cmd, "affinity-for", f.affinityFor)}
		if named {
			out.affinity.Header = &header
		}
	}
	if cmd.Flags().Changed("eject") {
		if out.eject, err = parseEject(f.eject); err != nil {
			return out, err
		}
	}
	if cmd.Flags().Changed("limit") {
		l := &contract.PoolLimits{}
		out.limits = l
		err = forms{"connect": intoSeconds(&l.ConnectSeconds), "first-byte": intoSeconds(&l.FirstByteSeconds), "idle": intoSeconds(&l.IdleSeconds),
			"request": intoSeconds(&l.RequestSeconds), "body": intoBytes(&l.BodyBytes)}.readAll("limit", f.limits)
	}
	return out, err
}

func parseEject(text string) (*contract.Eject, error) {
	e := &contract.Eject{}
	switch text {
	case "never":
		return &contract.Eject{Failures: new(int), MarginPercent: new(float64), Slower: new(float64)}, nil
	case "usual": // the service knows what that is
		return e, nil
	}
	err := forms{"failures": intoNumber(&e.Failures), "min-requests": intoNumber(&e.MinRequests), "margin": intoRate(&e.MarginPercent, "percent points, such as 30", "%"),
		"slower": intoRate(&e.Slower, "a number of times, such as 4", "x"), "for": intoSeconds(&e.ForSeconds), "max": intoSeconds(&e.MaxSeconds)}.read("eject", text)
	return e, err
}

// spokenFacts tell how the targets of a pool are spoken to.
func spokenFacts(p contract.Pool) []string {
	protocol := map[contract.TargetProtocol]string{contract.TargetProtocolHttp: "http", contract.TargetProtocolHttp2: "http2: HTTP/2 in clear", contract.TargetProtocolHttps: "https"}[p.Protocol]
	if p.Protocol == contract.TargetProtocolHttps {
		switch p.Trust {
		case "", "host":
			protocol += ", trusted by the authorities of the host"
		case "anyone":
			protocol += ", whatever certificate they show"
		default:
			protocol += ", trusted by the certificate " + p.Trust
		}
		if p.ServerName != "" {
			protocol += ", named " + p.ServerName
		}
	}
	return []string{"protocol", protocol, "affinity", affinityWords(p.Affinity), "ejects", ejectWords(p.Eject), "limits", poolLimitsWords(p.Limits)}
}

func affinityWords(s contract.Affinity) string {
	switch s.By {
	case "cookie":
		if s.ForSeconds != nil && *s.ForSeconds > 0 {
			return "by a cookie, for " + spanOf(*s.ForSeconds)
		}
		return "by a cookie"
	case "header":
		return "by the header " + *s.Header
	case "address":
		return "by their address"
	}
	return ""
}

func ejectWords(e contract.Eject) string {
	var all []string
	if v := value(e.Failures); v > 0 {
		all = append(all, fmt.Sprintf("after %d failures in a row", v))
	}
	if v := value(e.MarginPercent); v > 0 {
		all = append(all, fmt.Sprintf("with %g points more failures than the others", v))
	}
	if v := value(e.Slower); v > 0 {
		all = append(all, fmt.Sprintf("%g times as slow as the others", v))
	}
	if len(all) == 0 {
		return "only what refuses"
	}
	return strings.Join(all, ", or ") + fmt.Sprintf(" (of %d requests); first for %s, at most %s", value(e.MinRequests), spanOf(value(e.ForSeconds)), spanOf(value(e.MaxSeconds)))
}

func poolLimitsWords(l contract.PoolLimits) string {
	return limitWords("connect", l.ConnectSeconds, "first byte", l.FirstByteSeconds, "idle", l.IdleSeconds, "request", l.RequestSeconds, "body", l.BodyBytes)
}

// limitWords names the limits that there are: times in seconds, sizes in bytes, counts.
func limitWords(pairs ...any) string {
	var all []string
	for i := 0; i < len(pairs); i += 2 {
		text := ""
		switch v := pairs[i+1].(type) {
		case *float64:
			if value(v) > 0 {
				text = spanOf(*v)
			}
		case *int64:
			if value(v) > 0 {
				text = size(*v)
			}
		case string:
			text = v
		}
		if text != "" {
			all = append(all, fmt.Sprint(pairs[i], " ", text))
		}
	}
	return strings.Join(all, ", ")
}

// value is what a pointer points to, and nothing when it points nowhere.
func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}
