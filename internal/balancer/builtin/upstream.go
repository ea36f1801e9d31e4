package builtin

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"os"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/balancer/wire"
	"unitas/internal/fleet/traffic"
)

// upstream is how a target is reached: HTTP/1.1 by our own wire, HTTP/2 and TLS by net/http.
type upstream struct {
	wire   *wire.Server
	other  *http.Transport // nil for HTTP/1.1 in clear
	scheme string
}

// ask sends a request and returns the head of the answer.
func (u *upstream) ask(r *http.Request, early func(int, http.Header) error) (*http.Response, error) {
	if u.other == nil {
		return u.wire.Ask(r, early)
	}
	var sent atomic.Bool
	trace := &httptrace.ClientTrace{
		WroteHeaders:   func() { sent.Store(true) },
		Got1xxResponse: func(status int, h textproto.MIMEHeader) error { return early(status, http.Header(h)) },
	}
	r = r.WithContext(httptrace.WithClientTrace(r.Context(), trace))
	r.URL.Scheme = u.scheme
	if _, named := r.Header["User-Agent"]; !named {
		r.Header["User-Agent"] = nil // none is added
	}
	res, err := u.other.RoundTrip(r)
	if err != nil {
		at := wire.Connecting
		if sent.Load() {
			at = wire.Waiting
		}
		return nil, wire.Failed(at, sent.Load(), err)
	}
	return res, nil
}

func (u *upstream) rest(all bool) {
	u.wire.Rest(all)
	if u.other != nil && all {
		u.other.CloseIdleConnections()
	}
}

// usualConnect is how long there may pass until there is a connection.
const usualConnect = 2 * time.Second

// headOfAnswer is how long the head of an answer may be, in bytes.
const headOfAnswer = 1 << 20

func limitsOf(l traffic.PoolLimits, patience time.Duration) wire.Limits {
	return wire.Limits{Connect: cmp.Or(l.Connect, usualConnect), FirstByte: l.FirstByte, Idle: l.Idle, Continue: patience, HeadBytes: headOfAnswer}
}

// newTransport is how the targets of a pool are reached that do not speak HTTP/1.1 in clear.
func newTransport(p balancer.Pool, most int) (*http.Transport, error) {
	s := p.Spoken
	out := &http.Transport{
		DialContext:         (&net.Dialer{Timeout: cmp.Or(s.Limits.Connect, usualConnect), KeepAlive: 30 * time.Second}).DialContext,
		TLSHandshakeTimeout: 5 * time.Second, MaxIdleConnsPerHost: 256, MaxIdleConns: most, IdleConnTimeout: 30 * time.Second, DisableCompression: true,
		ExpectContinueTimeout: time.Second, ResponseHeaderTimeout: s.Limits.FirstByte, MaxResponseHeaderBytes: headOfAnswer,
		Protocols: new(http.Protocols), HTTP2: &http.HTTP2Config{SendPingTimeout: 15 * time.Second, PingTimeout: 5 * time.Second},
	}
	if s.Speak == traffic.HTTP2 {
		out.Protocols.SetUnencryptedHTTP2(true)
		return out, nil
	}
	out.Protocols.SetHTTP1(true)
	out.Protocols.SetHTTP2(true)
	out.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12, ServerName: s.ServerName}
	switch {
	case s.Trust == traffic.TrustAnyone:
		out.TLSClientConfig.InsecureSkipVerify = true //nolint:gosec // by setting, and said so wherever the pool is shown
	case p.Trusted != "":
		raw, err := os.ReadFile(p.Trusted)
		if err != nil {
			return nil, fmt.Errorf("read the certificates that targets are trusted by: %w", err)
		}
		out.TLSClientConfig.RootCAs = x509.NewCertPool()
		if !out.TLSClientConfig.RootCAs.AppendCertsFromPEM(raw) {
			return nil, fmt.Errorf("there is no certificate in %s", p.Trusted)
		}
	}
	return out, nil
}

// dial makes a connection to a target for a protocol of the caller's own.
func (u *upstream) dial(ctx context.Context) (net.Conn, error) { return u.wire.Dial(ctx) }
