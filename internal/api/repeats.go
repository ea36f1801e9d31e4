package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"hash"
	"io"
	"mime"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"unitas/internal/caught"
)

// repeats answers a creation with an Idempotency-Key that was seen before with
// the answer of the first time.
func (s *Server) repeats(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		key := r.Header.Get("Idempotency-Key")
		if key == "" || r.Method != http.MethodPost || r.URL.Query().Get("dry_run") == "true" { // what is only tried uses no key up
			return next(c)
		}
		request, err := fingerprintOf(r)
		if err != nil {
			return err
		}
		who := actor(r.Context())
		before, err := s.Store.BeginRepeat(r.Context(), who, key, request.sum())
		if err != nil {
			return err
		}
		if before != nil && before.Status != nil {
			if err := request.readOn(r.Body); err != nil {
				return err
			}
		}
		switch {
		case before == nil:
		case before.Status == nil:
			return &problem{status: http.StatusConflict, kind: "conflict", detail: "The first request with this key is still under way; try again in a moment."}
		case !bytes.Equal(before.Fingerprint, request.sum()):
			return invalid("Idempotency-Key", "this key was used for another request; use a new one")
		default:
			c.Response().Header().Set("Answer-Repeated", "true")
			return c.Blob(*before.Status, "application/json", before.Body)
		}
		kept, stop := context.WithCancel(context.WithoutCancel(r.Context()))
		defer stop()
		caught.Go("keeping a request that may be repeated", func() { s.keepRepeat(kept, who, key) })
		r.Body = request.follow(r.Body)
		recorder := &recording{ResponseWriter: c.Response(), status: http.StatusOK}
		c.SetResponse(recorder)
		err = next(c)
		stop()
		if err != nil {
			recorder.status = http.StatusInternalServerError
		}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(r.Context()), 5*time.Second)
		defer cancel()
		if endErr := s.Store.EndRepeat(ctx, who, key, recorder.status, request.sum(), recorder.body.Bytes()); endErr != nil {
			s.Log.Warn("the answer under an idempotency key was not kept", "error", endErr)
		}
		return err
	}
}

// repeatBeat is how often a first request that is under way says that it is; its key
// is free again a minute after the last time.
const repeatBeat = 15 * time.Second

func (s *Server) keepRepeat(ctx context.Context, who, key string) {
	tick := time.NewTicker(repeatBeat)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if err := s.Store.KeepRepeat(ctx, who, key); err != nil && ctx.Err() == nil {
			s.Log.Warn("an idempotency key was not kept alive; it is tried again", "error", err)
		}
	}
}

// fingerprint tells requests apart. An upload that does not say its digest is known
// once it was read: what is taken of it while the first one streams is compared with
// all of the second.
type fingerprint struct {
	hash    hash.Hash
	unknown bool // the body is still to be read
}

func (f *fingerprint) sum() []byte { return f.hash.Sum(nil) }

// follow has the fingerprint take in what is read of the body.
func (f *fingerprint) follow(body io.ReadCloser) io.ReadCloser {
	if !f.unknown {
		return body
	}
	return struct {
		io.Reader
		io.Closer
	}{io.TeeReader(body, f.hash), body}
}

// readOn takes in all of a body.
func (f *fingerprint) readOn(body io.Reader) error {
	if !f.unknown {
		return nil
	}
	_, err := io.Copy(f.hash, body)
	return err
}

// fingerprintOf reads a JSON body, which was checked before, and leaves an upload to
// be read.
func fingerprintOf(r *http.Request) (*fingerprint, error) {
	f := &fingerprint{hash: sha256.New()}
	_, _ = io.WriteString(f.hash, r.Method+" "+r.URL.RequestURI()+"\n")
	kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	digest := r.Header.Get("Content-Digest")
	switch {
	case err == nil && kind == "application/json":
		raw, err := io.ReadAll(io.LimitReader(r.Body, maxBody+1))
		if err != nil {
			return nil, err
		}
		r.Body = io.NopCloser(bytes.NewReader(raw))
		_, _ = f.hash.Write(raw)
	case digest != "":
		fmt.Fprint(f.hash, r.ContentLength, digest)
	default:
		f.unknown = true
	}
	return f, nil
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
