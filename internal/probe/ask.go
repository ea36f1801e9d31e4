package probe

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"syscall"
	"time"

	"unitas/internal/fleet/health"
	"unitas/internal/fleet/words"
)

// maxBody is how much of an answer's body is read at most; it must come to its
// end or this far within the timeout.
const maxBody = 1 << 20

type asker struct {
	client *http.Client
	dialer *net.Dialer
}

func newAsker() asker {
	dialer := &net.Dialer{}
	return asker{
		dialer: dialer,
		client: &http.Client{
			Transport: &http.Transport{
				DialContext: dialer.DialContext, MaxIdleConnsPerHost: 1, MaxIdleConns: 0,
				IdleConnTimeout: 90 * time.Second, DisableCompression: true,
			},
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		},
	}
}

func (a asker) close() { a.client.CloseIdleConnections() }

// once asks one question and waits for the answer within the check's timeout.
func (a asker) once(address string, c health.Check) health.Answer {
	ctx, cancel := context.WithTimeout(context.Background(), c.Timeout)
	defer cancel()
	begun := time.Now()
	var good bool
	var why string
	host := net.JoinHostPort(address, strconv.Itoa(c.Port))
	switch c.Kind {
	case health.TCP:
		good, why = a.tcp(ctx, host)
	default:
		good, why = a.http(ctx, "http://"+host+c.Path)
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

func (a asker) http(ctx context.Context, url string) (bool, string) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return false, err.Error()
	}
	req.Header.Set("User-Agent", "unitas-check")
	res, err := a.client.Do(req)
	if err != nil {
		return false, reason(err)
	}
	defer res.Body.Close()
	if _, err := io.Copy(io.Discard, io.LimitReader(res.Body, maxBody)); err != nil {
		return false, fmt.Sprintf("%d, then %s", res.StatusCode, reason(err))
	}
	switch {
	case res.StatusCode >= 200 && res.StatusCode <= 299:
		return true, strconv.Itoa(res.StatusCode)
	case res.StatusCode >= 300 && res.StatusCode <= 399:
		return false, fmt.Sprintf("%d, a redirect to %q", res.StatusCode, res.Header.Get("Location"))
	}
	return false, strconv.Itoa(res.StatusCode)
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
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "no route to it"
	}
	return err.Error()
}
