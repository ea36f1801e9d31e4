package probe

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"google.golang.org/grpc"
	"google.golang.org/grpc/credentials/insecure"
	"google.golang.org/grpc/health/grpc_health_v1"
	"google.golang.org/grpc/status"

	"unitas/internal/fleet/health"
	"unitas/internal/fleet/words"
)

// maxBody is how much of an answer's body is read at most; it must come to its
// end or this far within the timeout.
const maxBody = 1 << 20

type asker struct {
	client *http.Client // of http
	dialer *net.Dialer
	secure *secureClients
}

// secureClients are those of https: one for each server name that targets are asked for, since a
// connection is of one, and each for targets whose certificate is verified or not.
type secureClients struct {
	dialer *net.Dialer

	mu  sync.Mutex
	all map[secureKey]*http.Client
}

type secureKey struct {
	name   string // "" for the address
	verify bool
}

// mostNames is how many server names are asked for at a time, as many as there may be checks that
// somebody cares for; with more, connections are made anew.
const mostNames = 500

func newAsker() asker {
	dialer := &net.Dialer{}
	return asker{dialer: dialer, client: newClient(dialer, nil), secure: &secureClients{dialer: dialer, all: map[secureKey]*http.Client{}}}
}

func newClient(dialer *net.Dialer, t *tls.Config) *http.Client {
	return &http.Client{
		Transport: &http.Transport{
			DialContext: dialer.DialContext, MaxIdleConnsPerHost: 1, MaxIdleConns: 0, TLSClientConfig: t,
			IdleConnTimeout: 90 * time.Second, DisableCompression: true,
			// An answer is short, and there are many connections that are kept.
			ReadBufferSize: 1 << 10, WriteBufferSize: 1 << 10,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// of is the client for a check.
func (s *secureClients) of(c health.Check) *http.Client {
	key := secureKey{name: c.Host, verify: c.Verify}
	if host, _, err := net.SplitHostPort(c.Host); err == nil {
		key.name = host
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if have := s.all[key]; have != nil {
		return have
	}
	if len(s.all) >= mostNames {
		for old, one := range s.all {
			delete(s.all, old)
			defer one.CloseIdleConnections()
		}
	}
	made := newClient(s.dialer, &tls.Config{ServerName: key.name, InsecureSkipVerify: !key.verify}) // #nosec: by setting
	s.all[key] = made
	return made
}

func (a asker) close() {
	a.client.CloseIdleConnections()
	a.secure.mu.Lock()
	defer a.secure.mu.Unlock()
	for _, one := range a.secure.all {
		one.CloseIdleConnections()
	}
}

// once asks one question and waits for the answer within the check's timeout. An
// http connection is kept for the next one when keep is set.
func (a asker) once(address string, c health.Check, keep bool) health.Answer {
	ctx, cancel := context.WithTimeout(context.Background(), c.Timeout)
	defer cancel()
	begun := time.Now()
	var good bool
	var why string
	host := net.JoinHostPort(address, strconv.Itoa(c.Port))
	switch c.Kind {
	case health.TCP:
		good, why = a.tcp(ctx, host)
	case health.GRPC:
		good, why = a.grpc(ctx, host, c.Service)
	default:
		good, why = a.http(ctx, string(c.Kind)+"://"+host+c.Path, c, keep)
	}
	if !good && ctx.Err() != nil {
		why = "no whole answer within " + words.Span(c.Timeout)
	}
	return health.Answer{At: begun.UTC(), Took: time.Since(begun), Good: good, Why: why}
}

func (a asker) tcp(ctx context.Context, host string) (bool, string) {
	conn, err := a.dialer.DialContext(ctx, "tcp", host)
	if err != nil {
		return false, reason(err)
	}
	conn.Close()
	return true, "connected"
}

func (a asker) http(ctx context.Context, url string, c health.Check, keep bool) (bool, string) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return false, err.Error()
	}
	req.Header.Set("User-Agent", "unitas-check")
	req.Close = !keep
	client := a.client
	if c.Host != "" {
		req.Host = c.Host
	}
	if c.Kind == health.HTTPS {
		client = a.secure.of(c)
	}
	res, err := client.Do(req)
	if err != nil {
		return false, reason(err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, maxBody))
	if err != nil {
		return false, fmt.Sprintf("%d, then %s", res.StatusCode, reason(err))
	}
	switch {
	case c.GoodStatus(res.StatusCode) && !bytes.Contains(body, []byte(c.Text)):
		return false, fmt.Sprintf("%d, without the text %q", res.StatusCode, c.Text)
	case c.GoodStatus(res.StatusCode):
		return true, strconv.Itoa(res.StatusCode)
	case res.StatusCode >= 300 && res.StatusCode <= 399:
		return false, fmt.Sprintf("%d, a redirect to %q", res.StatusCode, res.Header.Get("Location"))
	}
	return false, strconv.Itoa(res.StatusCode)
}

// grpc asks by the gRPC health protocol
// (https://github.com/grpc/grpc/blob/master/doc/health-checking.md).
func (a asker) grpc(ctx context.Context, host, service string) (bool, string) {
	conn, err := grpc.NewClient("passthrough:///"+host, grpc.WithTransportCredentials(insecure.NewCredentials()), grpc.WithNoProxy(),
		grpc.WithContextDialer(func(ctx context.Context, address string) (net.Conn, error) {
			return a.dialer.DialContext(ctx, "tcp", address)
		}))
	if err != nil {
		return false, err.Error()
	}
	defer conn.Close()
	answer, err := grpc_health_v1.NewHealthClient(conn).Check(ctx, &grpc_health_v1.HealthCheckRequest{Service: service})
	if err != nil {
		s := status.Convert(err)
		if strings.Contains(s.Message(), "connection refused") {
			return false, "connection refused"
		}
		return false, s.Code().String() + ": " + s.Message()
	}
	return answer.Status == grpc_health_v1.HealthCheckResponse_SERVING, answer.Status.String()
}

func isUntrusted(err error) bool {
	var wrong *tls.CertificateVerificationError
	return errors.As(err, &wrong)
}

func untrusted(err error) string {
	var wrong *tls.CertificateVerificationError
	errors.As(err, &wrong)
	return strings.TrimPrefix(wrong.Err.Error(), "x509: ")
}

// reason says in a few words what went wrong.
func reason(err error) string {
	var timeout net.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return "connection refused"
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "connection closed without an answer"
	case errors.Is(err, os.ErrDeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return "timed out"
	case isUntrusted(err):
		return "its certificate is not trusted: " + untrusted(err)
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "no route to it"
	}
	return err.Error()
}
