package api

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"unitas/internal/store"
)

type actorKey struct{}

// actor is the name of the token that a request was made with.
func actor(ctx context.Context) string {
	c, _ := ctx.Value(actorKey{}).(caller)
	return c.name
}

// caller is who made a request, and with what he proved it.
type caller struct{ name, authorization string }

// authorization is what a request was made with, to ask another replica the same.
func authorization(ctx context.Context) string {
	c, _ := ctx.Value(actorKey{}).(caller)
	return c.authorization
}

// tokenCache spares the database a question for every request.
type tokenCache struct {
	mu    sync.Mutex
	known map[string]knownToken
}

type knownToken struct {
	name  string
	until time.Time
}

// How long a token that was good is taken to be, and how long it is waited to hear
// whether it still is.
const (
	tokenCached   = 30 * time.Second
	tokenPatience = 2 * time.Second
)

// refusedTime is how long after a 401 what the caller still sends is taken, so that it reads the
// answer before its connection ends.
const refusedTime = time.Second

// requireToken lets only callers with a bearer token at /v1 and /metrics.
func (s *Server) requireToken(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) (err error) {
		defer func() {
			var p *problem
			if errors.As(err, &p) && p.status == http.StatusUnauthorized { // of who is not known no body is read, and nothing more
				c.Response().Header().Set("Connection", "close")
				_ = http.NewResponseController(c.Response()).SetReadDeadline(time.Now().Add(refusedTime))
			}
		}()
		path := c.Request().URL.Path
		if (!strings.HasPrefix(path, "/v1/") && path != "/metrics") || c.Path() == shellPath { // the name of a stream is its own proof
			return next(c)
		}
		scheme, token, _ := strings.Cut(c.Request().Header.Get("Authorization"), " ")
		token = strings.TrimSpace(token)
		if !strings.EqualFold(scheme, "bearer") || token == "" {
			return &problem{status: http.StatusUnauthorized, kind: "unauthorized",
				detail: "Send the header Authorization: Bearer TOKEN. The first token is in the file that the service named when it first started."}
		}
		name, err := s.tokenName(c.Request().Context(), token)
		if errors.Is(err, store.ErrNotFound) {
			return &problem{status: http.StatusUnauthorized, kind: "unauthorized", detail: "The service does not know this token."}
		}
		if err != nil {
			return err
		}
		if s.SignedIn != nil {
			s.SignedIn(c.Request().Context())
		}
		c.SetRequest(c.Request().WithContext(context.WithValue(c.Request().Context(), actorKey{}, caller{name, c.Request().Header.Get("Authorization")})))
		return next(c)
	}
}

func (s *Server) tokenName(ctx context.Context, token string) (string, error) {
	now := time.Now()
	s.tokens.mu.Lock()
	k, ok := s.tokens.known[token]
	s.tokens.mu.Unlock()
	if ok && now.Before(k.until) {
		return k.name, nil
	}
	if ok { // a name is at hand for when the database does not answer; it is not waited for long
		var cancel func()
		ctx, cancel = context.WithTimeout(ctx, tokenPatience)
		defer cancel()
	}
	name, err := s.Store.TokenName(ctx, token)
	if err != nil {
		if ok && !errors.Is(err, store.ErrNotFound) { // the database is away; it was good a moment ago
			return k.name, nil
		}
		return "", err
	}
	s.tokens.mu.Lock()
	s.tokens.known[token] = knownToken{name, now.Add(tokenCached)}
	s.tokens.mu.Unlock()
	return name, nil
}
