package builtin

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/balancer/wire"
	"unitas/internal/caught"
	"unitas/internal/fleet/traffic"
)

// upstream is how a target is reached: HTTP/1.1 by our own wire, HTTP/2 and TLS by net/http.
type upstream struct {
	wire   *wire.Server
	other  *http.Transport // nil for HTTP/1.1 in clear
	scheme string
}

// What is no target's fault.
var (
	errUnsendable = errors.New("this side cannot send the request")
	errMute       = errors.New("the targets cannot be spoken to")
)

// ask sends a request and returns the head of the answer; an error is a [wire.Error]. rested is
// set when a connection that rested will do.
func (u *upstream) ask(x *exchange, r *http.Request, rested bool) (*http.Response, error) {
	if u.other == nil {
		return u.wire.Ask(r, rested, x)
	}
	o := &outcome{hints: hints{x: x}}
	trace := &httptrace.ClientTrace{
		GotConn:           func(httptrace.GotConnInfo) { o.connected.Store(true) },
		WroteHeaders:      func() { o.sent.Store(true) },
		ConnectStart:      func(string, string) { o.dialled.Store(true) },
		Got1xxResponse:    o.hints.take,
		TLSHandshakeStart: func() { o.dialled.Store(true) },
	}
	r = r.WithContext(httptrace.WithClientTrace(r.Context(), trace))
	r.URL.Scheme = u.scheme
	res, err := u.other.RoundTrip(r)
	o.hints.end(err == nil)
	switch {
	case err != nil:
		return nil, o.fault(err)
	case res.StatusCode < http.StatusContinue:
		res.Body.Close()
		return nil, wire.Failed(wire.Answering, true, wire.ErrNoStatus)
	}
	return res, nil
}

// outcome is what is known of a request to a transport of net/http.
type outcome struct {
	dialled, connected, sent atomic.Bool
	hints                    hints
}

// fault is why there was no answer. What failed before anybody was connected to, and not in
// connecting, the transport itself does not send.
func (o *outcome) fault(err error) *wire.Error {
	var refused refusedStream
	switch {
	case errors.As(err, &refused) && refused.Code == refusedByPeer:
		return wire.Failed(wire.Waiting, false, err) // the target says that it did nothing of it
	case o.sent.Load():
		return wire.Failed(wire.Waiting, true, err)
	case o.connected.Load(), o.dialled.Load(), isNet(err):
		return wire.Failed(wire.Connecting, false, err)
	}
	return wire.Failed(wire.Sending, false, fmt.Errorf("%w: %w", errUnsendable, err))
}

// isNet reports whether an error is of a connection, or of a time that is over.
func isNet(err error) bool {
	var of *net.OpError
	return errors.As(err, &of) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) || isTimeout(err)
}

func isTimeout(err error) bool {
	var t interface{ Timeout() bool }
	return errors.As(err, &t) && t.Timeout()
}

// refusedStream is what a target of HTTP/2 ends a request with: the form that the transport has
// its own errors taken for.
type refusedStream struct {
	StreamID uint32
	Code     uint32
	Cause    error
}

func (e refusedStream) Error() string { return fmt.Sprintf("stream %d, code %d", e.StreamID, e.Code) }

// refusedByPeer is REFUSED_STREAM (RFC 9113, section 7).
const refusedByPeer = 7

// mostHints is how many answers before the last are kept for a caller that does not take them.
const mostHints = 8

// hints hands early answers over from the goroutine of the target's connection, which others wait
// for, to one of the request's own. Nothing is written once it ended.
type hints struct {
	x *exchange

	mu    sync.Mutex
	queue []hint
	ended bool
	busy  sync.WaitGroup
	on    bool // somebody writes
}

type hint struct {
	status int
	header http.Header
}

func (h *hints) take(status int, header textproto.MIMEHeader) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.ended || len(h.queue) >= mostHints {
		return nil
	}
	h.queue = append(h.queue, hint{status, http.Header(header)})
	if !h.on {
		h.on = true
		h.busy.Go(caught.Func("an early answer", h.write))
	}
	return nil
}

func (h *hints) write() {
	for {
		h.mu.Lock()
		if len(h.queue) == 0 {
			h.on = false
			h.mu.Unlock()
			return
		}
		next := h.queue[0]
		h.queue = h.queue[1:]
		h.mu.Unlock()
		h.x.Hint(next.status, next.header)
	}
}

// end takes no more, and waits until what came is written, or drops it when there is no answer.
func (h *hints) end(answered bool) {
	h.mu.Lock()
	h.ended = true
	if !answered {
		h.queue = nil
	}
	h.mu.Unlock()
	h.busy.Wait()
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
	return wire.Limits{Connect: cmp.Or(l.Connect, usualConnect), Continue: patience, HeadBytes: headOfAnswer}
}

// newTransport is how the targets of a pool are reached that do not speak HTTP/1.1 in clear. A
// connection of HTTP/2 is told of its end, and may rest for longer.
func newTransport(p balancer.Pool, most int) (*http.Transport, error) {
	s := p.Spoken
	out := &http.Transport{
		DialContext:         (&net.Dialer{Timeout: cmp.Or(s.Limits.Connect, usualConnect), KeepAlive: 30 * time.Second}).DialContext,
		TLSHandshakeTimeout: 5 * time.Second, MaxIdleConnsPerHost: 256, MaxIdleConns: most, IdleConnTimeout: wire.RestFor, DisableCompression: true,
		ExpectContinueTimeout: time.Second, MaxResponseHeaderBytes: headOfAnswer,
		Protocols: new(http.Protocols), HTTP2: &http.HTTP2Config{SendPingTimeout: 15 * time.Second, PingTimeout: 5 * time.Second},
	}
	if s.Protocol == traffic.HTTP2 {
		out.IdleConnTimeout = 30 * time.Second
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
