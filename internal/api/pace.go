package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"time"

	"github.com/labstack/echo/v5"
)

// How fast a body has to come: so many bytes in every window; and how long an answer
// may take to be read, where it is not a stream.
const (
	bodyWindow = 15 * time.Second
	bodyLeast  = 16 << 10
	answerTime = 2 * time.Minute
)

// requestTime is how long a request may take that is not one of those that take as
// long as there is to do.
const requestTime = 40 * time.Second

// errTooLong is why a request was ended.
var errTooLong = errors.New("the request took too long")

// takesLong reports whether a request takes as long as there is to do: to bring bytes
// in or out, to ask a registry, to run a command, which has a limit of its own.
func takesLong(method, path string) bool {
	switch path {
	case "/v1/images", "/v1/images/references", "/v1/images/bakes", "/v1/instances/:id/run":
		return method == http.MethodPost
	}
	return streams(path)
}

// pace ends requests that would hold a connection for as long as they like.
func (s *Server) pace(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r, answer := c.Request(), next
		if !takesLong(r.Method, c.Path()) {
			ctx, cancel := context.WithTimeoutCause(r.Context(), s.RequestTime, errTooLong)
			defer cancel()
			answer = func(c *echo.Context) error {
				had := c.Request()
				c.SetRequest(had.WithContext(ctx))
				defer c.SetRequest(had)
				err := next(c)
				if err != nil && errors.Is(context.Cause(ctx), errTooLong) {
					err = &problem{status: http.StatusGatewayTimeout, kind: "too-long",
						detail: fmt.Sprintf("The request took longer than %s and was ended. What it began may still come to be; read it again.", s.RequestTime)}
				}
				return err
			}
		}
		out := http.NewResponseController(c.Response())
		if r.Body != nil && r.Body != http.NoBody && r.ContentLength != 0 {
			r.Body = &paced{ReadCloser: r.Body, out: out, window: s.BodyWindow}
		}
		if !streams(c.Path()) {
			c.SetResponse(&hurried{ResponseWriter: c.Response(), out: out})
			defer func() { _ = out.SetWriteDeadline(time.Time{}) }()
		}
		return answer(c)
	}
}

// streams reports whether an answer lasts as long as its reader wants: events, a terminal,
// the log of a bake, an image.
func streams(path string) bool {
	switch path {
	case "/v1/events", shellPath, "/v1/images/:name/:version/export", "/v1/images/:name/:version/bake-log":
		return true
	}
	return false
}

// hurried is an answer that is to be read in its time once it begins.
type hurried struct {
	http.ResponseWriter
	out   *http.ResponseController
	begun bool
}

func (h *hurried) begin() {
	if !h.begun {
		h.begun = true
		_ = h.out.SetWriteDeadline(time.Now().Add(answerTime))
	}
}

func (h *hurried) WriteHeader(status int) {
	h.begin()
	h.ResponseWriter.WriteHeader(status)
}

func (h *hurried) Write(p []byte) (int, error) {
	h.begin()
	return h.ResponseWriter.Write(p)
}

// Unwrap lets Echo find its own response.
func (h *hurried) Unwrap() http.ResponseWriter { return h.ResponseWriter }

// paced is a body that has to keep coming.
type paced struct {
	io.ReadCloser
	out    *http.ResponseController
	window time.Duration
	left   int // bytes that are due in this window
}

func (p *paced) Read(b []byte) (int, error) {
	if p.left <= 0 {
		p.left = bodyLeast
		_ = p.out.SetReadDeadline(time.Now().Add(p.window))
	}
	n, err := p.ReadCloser.Read(b)
	p.left -= n
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return n, &problem{status: http.StatusRequestTimeout, kind: "too-slow",
			detail: fmt.Sprintf("The body came too slowly: less than %d KiB in %s. Send it again over a faster connection.", bodyLeast>>10, p.window)}
	case err != nil:
		_ = p.out.SetReadDeadline(time.Time{})
	}
	return n, err
}
