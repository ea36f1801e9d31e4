package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"
)

// repeats answers a creation with an Idempotency-Key that was seen before with
// the answer of the first time.
func (s *Server) repeats(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		key := r.Header.Get("Idempotency-Key")
		if key == "" || r.Method != http.MethodPost {
			return next(c)
		}
		fingerprint, err := fingerprintOf(r)
		if err != nil {
			return err
		}
		who := actor(r.Context())
		before, err := s.Store.BeginRepeat(r.Context(), who, key, fingerprint)
		if err != nil {
			return err
		}
		switch {
		case before == nil:
		case !bytes.Equal(before.Fingerprint, fingerprint):
			return invalid("Idempotency-Key", "this key was used for another request; use a new one")
		case before.Status == nil:
			return &problem{status: http.StatusConflict, kind: "conflict", detail: "The first request with this key is still under way; try again in a moment."}
		default:
			c.Response().Header().Set("Answer-Repeated", "true")
			return c.Blob(*before.Status, "application/json", before.Body)
		}
		recorder := &recording{ResponseWriter: c.Response(), status: http.StatusOK}
		c.SetResponse(recorder)
		err = next(c)
		if err != nil {
			recorder.status = http.StatusInternalServerError
		}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(r.Context()), 5*time.Second)
		defer cancel()
		if endErr := s.Store.EndRepeat(ctx, who, key, recorder.status, recorder.body.Bytes()); endErr != nil {
			s.Log.Warn("the answer under an idempotency key was not kept", "error", endErr)
		}
		return err
	}
}

// fingerprintOf tells requests apart. A JSON body was read and checked before;
// of an upload the length is known, and its digest when it was sent along.
func fingerprintOf(r *http.Request) ([]byte, error) {
	h := sha256.New()
	_, _ = io.WriteString(h, r.Method+" "+r.URL.RequestURI()+"\n")
	if r.Header.Get("Content-Type") == "application/json" {
		raw, err := io.ReadAll(r.Body)
		if err != nil {
			return nil, err
		}
		r.Body = io.NopCloser(bytes.NewReader(raw))
		_, _ = h.Write(raw)
	} else {
		fmt.Fprint(h, r.ContentLength, r.Header.Get("Content-Digest"))
	}
	return h.Sum(nil), nil
}

// recording keeps a copy of the answer.
type recording struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

func (r *recording) WriteHeader(status int) {
	r.status = status
	r.ResponseWriter.WriteHeader(status)
}

func (r *recording) Write(p []byte) (int, error) {
	r.body.Write(p)
	return r.ResponseWriter.Write(p)
}

// Unwrap lets Echo find its own response.
func (r *recording) Unwrap() http.ResponseWriter { return r.ResponseWriter }
