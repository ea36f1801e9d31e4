package image

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"syscall"
	"time"

	"oras.land/oras-go/v2/errdef"
	"oras.land/oras-go/v2/registry"
	"oras.land/oras-go/v2/registry/remote"
	"oras.land/oras-go/v2/registry/remote/auth"
	"oras.land/oras-go/v2/registry/remote/errcode"
	"oras.land/oras-go/v2/registry/remote/retry"

	"unitas/internal/caught"
)

// Registries says which registries images may be fetched from: any on a public address,
// over https, and those that the configuration names, wherever they are.
type Registries struct {
	https, http []string // host[:port]
}

// NewRegistries reads what the configuration names: HOST[:PORT], or http://HOST[:PORT]
// for a registry that is asked without TLS.
func NewRegistries(named []string) (Registries, error) {
	var r Registries
	for _, text := range named {
		host, plain := strings.CutPrefix(text, "http://")
		host = strings.TrimPrefix(host, "https://")
		if err := (registry.Reference{Registry: host}).ValidateRegistry(); err != nil {
			return r, fmt.Errorf("%q is not a registry; give HOST[:PORT] or http://HOST[:PORT]", text)
		}
		if plain {
			r.http = append(r.http, host)
		} else {
			r.https = append(r.https, host)
		}
	}
	return r, nil
}

// How long a registry may take: to answer at all, to bring its next bytes, and for a whole
// image; and how often it may send us elsewhere.
const (
	dialLimit   = 10 * time.Second
	answerLimit = 30 * time.Second
	stallLimit  = time.Minute
	fetchLimit  = 30 * time.Minute
	redirects   = 5
)

// errNotAllowed is why a registry is not asked.
var errNotAllowed = errors.New("it is on this host or a private network, and the configuration does not name it (--registry)")

// repository is where a reference points, reached as the configuration allows. stop ends
// what is under way with it.
func (r Registries) repository(ref registry.Reference, c Credentials, stalled func()) (*remote.Repository, error) {
	repo, err := remote.NewRepository(ref.Registry + "/" + ref.Repository)
	if err != nil {
		return nil, err
	}
	repo.PlainHTTP = slices.Contains(r.http, ref.Registry)
	named := repo.PlainHTTP || slices.Contains(r.https, ref.Registry)
	base := &http.Transport{
		Proxy: http.ProxyFromEnvironment, TLSHandshakeTimeout: dialLimit, ResponseHeaderTimeout: answerLimit, TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12},
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			d := net.Dialer{Timeout: dialLimit}
			if !named || address != withPort(ref.Host(), repo.PlainHTTP) { // what it sends us to is no part of the name
				d.Control = publicOnly
			}
			return d.DialContext(ctx, network, address)
		},
	}
	client := &http.Client{Transport: retry.NewTransport(watched{base, stalled}), CheckRedirect: func(next *http.Request, via []*http.Request) error {
		switch {
		case len(via) > redirects:
			return fmt.Errorf("it sends on and on, more than %d times", redirects)
		case next.URL.Scheme != "https" && via[0].URL.Scheme == "https":
			return errors.New("it sends on to where nothing is encrypted")
		}
		return nil
	}}
	signed := &auth.Client{Client: client, Cache: auth.NewCache()}
	if c.User != "" {
		signed.Credential = auth.StaticCredential(ref.Registry, auth.Credential{Username: c.User, Password: c.Password})
	}
	repo.Client = signed
	return repo, nil
}

func withPort(host string, plain bool) string {
	if _, _, err := net.SplitHostPort(host); err == nil {
		return host
	}
	if plain {
		return net.JoinHostPort(host, "80")
	}
	return net.JoinHostPort(host, "443")
}

// publicOnly refuses to connect to what is not a public address. It is asked with the
// address itself, after names were looked up.
func publicOnly(_, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	ip := at.Addr().Unmap()
	if !ip.IsGlobalUnicast() || ip.IsPrivate() || slices.ContainsFunc(notPublic, func(p netip.Prefix) bool { return p.Contains(ip) }) {
		return errNotAllowed
	}
	return nil
}

// notPublic are addresses that look public and are not: shared by carriers (RFC 6598),
// for this network (RFC 1122), for tests of networks (RFC 2544), reserved (RFC 1112), for
// what carries IPv4 in IPv6 (RFC 6052, RFC 3056, RFC 4380).
var notPublic = []netip.Prefix{
	netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("198.18.0.0/15"), netip.MustParsePrefix("240.0.0.0/4"),
	netip.MustParsePrefix("64:ff9b::/96"), netip.MustParsePrefix("2002::/16"), netip.MustParsePrefix("2001::/32"),
}

// watched calls stalled when an answer brings no bytes for a minute.
type watched struct {
	http.RoundTripper
	stalled func()
}

func (w watched) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := w.RoundTripper.RoundTrip(r)
	if err == nil {
		res.Body = &watchedBody{res.Body, time.AfterFunc(stallLimit, caught.Func("a registry that says nothing", w.stalled))}
	}
	return res, err
}

type watchedBody struct {
	io.ReadCloser
	timer *time.Timer
}

func (b *watchedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if n > 0 {
		b.timer.Reset(stallLimit)
	}
	return n, err
}

func (b *watchedBody) Close() error {
	b.timer.Stop()
	return b.ReadCloser.Close()
}

// unfetched tells why something was not fetched, in our words: what a registry, or what
// only looks like one, wrote is repeated to nobody.
func unfetched(ctx context.Context, what string, err error) error {
	var answer *errcode.ErrorResponse
	why := "what it answers is not what a registry says"
	switch {
	case errors.Is(err, errNotAllowed):
		why = errNotAllowed.Error()
	case ctx.Err() != nil:
		why = context.Cause(ctx).Error()
	case errors.Is(err, errdef.ErrNotFound):
		why = "it is not there"
	case errors.As(err, &answer) && (answer.StatusCode == http.StatusUnauthorized || answer.StatusCode == http.StatusForbidden):
		why = fmt.Sprintf("the registry wants another sign-in (%d)", answer.StatusCode)
	case errors.As(err, &answer):
		why = fmt.Sprintf("the registry answered %d %s", answer.StatusCode, http.StatusText(answer.StatusCode))
	case errors.Is(err, auth.ErrBasicCredentialNotFound):
		why = "the registry wants a sign-in"
	case isUnreached(err):
		why = "the registry cannot be reached, or does not speak https"
	}
	return refused("%s was not fetched: %s", what, why)
}

func isUnreached(err error) bool {
	var network net.Error
	var op *net.OpError
	var record tls.RecordHeaderError
	var verify *tls.CertificateVerificationError
	return errors.As(err, &network) || errors.As(err, &op) || errors.As(err, &record) || errors.As(err, &verify)
}
