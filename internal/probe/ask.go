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
	client  *http.Client // that verifies certificates
	lenient *http.Client // that does not
	dialer  *net.Dialer
}

func newAsker() asker {
	dialer := &net.Dialer{}
	client := func(t *tls.Config) *http.Client {
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
	return asker{dialer: dialer, client: client(nil), lenient: client(&tls.Config{InsecureSkipVerify: true})} // #nosec: by setting
}

func (a asker) close() {
	a.client.CloseIdleConnections()
	a.lenient.CloseIdleConnections()
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
	if c.Kind == health.HTTPS && !c.Verify {
		client = a.lenient
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
