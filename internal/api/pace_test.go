package api

import (
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/labstack/echo/v5"
)

// TestLongRequestsAreEnded: one that waits for what does not come is answered, and a
// stream goes on.
func TestLongRequestsAreEnded(t *testing.T) {
	ask := paceSite(t, Config{RequestTime: 50 * time.Millisecond, BodyWindow: time.Minute})
	if status, body := ask("GET", "/v1/groups", nil); status != http.StatusGatewayTimeout || !strings.Contains(body, "took longer than 50ms") {
		t.Errorf("a long request is answered %d %s", status, body)
	}
	for method, path := range map[string]string{"GET": "/v1/events", "POST": "/v1/images"} {
		if status, body := ask(method, path, nil); status != http.StatusOK {
			t.Errorf("%s %s is answered %d %s", method, path, status, body)
		}
	}
}

// TestBodiesKeepComing: one that drips is given up, one that flows is read.
func TestBodiesKeepComing(t *testing.T) {
	ask := paceSite(t, Config{RequestTime: time.Minute, BodyWindow: 100 * time.Millisecond})
	slow, drip := io.Pipe()
	go func() {
		for range 100 {
			if _, err := drip.Write([]byte("x")); err != nil {
				return
			}
			<-time.After(20 * time.Millisecond)
		}
	}()
	defer slow.Close()
	if status, body := ask("POST", "/v1/checks", slow); status != http.StatusRequestTimeout || !strings.Contains(body, "came too slowly") {
		t.Errorf("a slow body is answered %d %s", status, body)
	}
	if status, body := ask("POST", "/v1/checks", strings.NewReader(strings.Repeat("x", 1<<20))); status != http.StatusOK {
		t.Errorf("a fast body is answered %d %s", status, body)
	}
}

// paceSite answers a few paths behind the pace alone.
func paceSite(t *testing.T, c Config) (ask func(method, path string, body io.Reader) (int, string)) {
	t.Helper()
	s := &Server{Config: c}
	e := echo.New()
	e.HTTPErrorHandler = answerError(slog.New(slog.DiscardHandler))
	e.Use(s.pace)
	waits := func(c *echo.Context) error {
		select {
		case <-c.Request().Context().Done():
			return c.Request().Context().Err()
		case <-time.After(300 * time.Millisecond):
			return c.String(http.StatusOK, "done")
		}
	}
	e.GET("/v1/groups", waits)
	e.GET("/v1/events", waits)
	e.POST("/v1/images", waits)
	e.POST("/v1/checks", func(c *echo.Context) error {
		if _, err := io.ReadAll(c.Request().Body); err != nil {
			return err
		}
		return c.String(http.StatusOK, "read")
	})
	site := httptest.NewServer(e)
	t.Cleanup(site.Close)
	return func(method, path string, body io.Reader) (int, string) {
		t.Helper()
		req, err := http.NewRequest(method, site.URL+path, body)
		if err != nil {
			t.Fatal(err)
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		raw, _ := io.ReadAll(res.Body)
		return res.StatusCode, string(raw)
	}
}
