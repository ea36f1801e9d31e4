package api

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/labstack/echo/v5"
)

// TestNobodyIsHeldByABodyWithoutAnEnd: who shows no token is answered before a body is read, and the
// connection ends; where no body is wanted its end is not waited for longer than it may take.
func TestNobodyIsHeldByABodyWithoutAnEnd(t *testing.T) {
	s := &Server{Config: Config{BodyWindow: 300 * time.Millisecond}, echo: echo.New()}
	s.echo.HTTPErrorHandler = answerError(slog.New(slog.DiscardHandler))
	s.echo.Use(s.requireToken, s.pace)
	s.echo.POST("/v1/groups", func(*echo.Context) error { t.Error("a request without a token was let in"); return nil })
	s.echo.POST("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok") })
	site := httptest.NewServer(s.Handler())
	defer site.Close()
	for path, status := range map[string]int{"/v1/groups": http.StatusUnauthorized, "/healthz": http.StatusOK} {
		conn, err := net.Dial("tcp", site.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
		fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: unitas\r\nContent-Length: 100000\r\n\r\n{", path)
		answer := bufio.NewReader(conn)
		r, err := http.ReadResponse(answer, nil)
		if err != nil {
			t.Fatalf("%s: %v", path, err)
		}
		if r.Header.Get("X-Content-Type-Options") != "nosniff" || (r.Header.Get("Cache-Control") == "no-store") != strings.HasPrefix(path, "/v1/") {
			t.Errorf("%s is answered with %v", path, r.Header)
		}
		if _, err := io.ReadAll(r.Body); r.StatusCode != status || err != nil {
			t.Errorf("%s is answered %d, %v", path, r.StatusCode, err)
		}
		if status == http.StatusUnauthorized && !r.Close {
			t.Errorf("%s: that the connection ends is not said", path)
		}
		if _, err := answer.ReadByte(); err == nil || errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%s: the connection stays: %v", path, err)
		}
	}
}
