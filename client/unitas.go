// Package client speaks to a Unitas service. The calls in
// client.gen.go are generated from api/openapi.yaml; this file adds sign-in,
// errors and events.
package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"unitas/api/contract"
)

// Connect returns a client of the service at the URL server, which signs in
// with the bearer token.
func Connect(server, token string, options ...ClientOption) (*Client, error) {
	return NewClient(strings.TrimRight(server, "/"), append(options, WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}))...)
}

// ErrStranger is an answer of something that is not Unitas.
var ErrStranger = errors.New("what answers there is not Unitas")

// Error is a request that the service refused.
type Error struct {
	contract.Problem
}

// Error is the problem's detail: what was wrong and what to do.
func (e *Error) Error() string {
	if e.Detail != nil && *e.Detail != "" {
		return strings.TrimSuffix(*e.Detail, ".")
	}
	return e.Title
}

// Is reports whether err is a problem of the kind, such as "not-found".
func Is(err error, kind string) bool {
	var e *Error
	return errors.As(err, &e) && e.Type == "urn:unitas:problem:"+kind
}

// Read takes the answer of one of the generated calls and decodes its body.
// The second value is the ETag. A refused request is an *Error.
func Read[T any](res *http.Response, err error) (T, string, error) {
	var out T
	if err != nil {
		return out, "", err
	}
	defer res.Body.Close()
	if err := refusal(res); err != nil {
		return out, "", err
	}
	if res.Header.Get(contract.VersionHeader) == "" {
		return out, "", ErrStranger
	}
	if res.StatusCode == http.StatusNoContent {
		return out, "", nil
	}
	if text, ok := any(&out).(*string); ok {
		raw, err := io.ReadAll(res.Body)
		*text = string(raw)
		return out, "", err
	}
	if err := json.NewDecoder(res.Body).Decode(&out); err != nil {
		return out, "", fmt.Errorf("read the service's answer: %w", err)
	}
	return out, res.Header.Get("ETag"), nil
}

func refusal(res *http.Response) error {
	if res.StatusCode < 400 {
		return nil
	}
	e := &Error{}
	raw, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err != nil || json.Unmarshal(raw, &e.Problem) != nil || e.Title == "" {
		e.Title, e.Status = fmt.Sprintf("the service answered %s", res.Status), res.StatusCode
	}
	return e
}

// Event is one event of the service's stream.
type Event struct {
	ID, Kind string
	Data     []byte
}

// Events calls f for every event about the group ("" for all) until the
// context ends or f returns an error. ready is called once the stream is open,
// and again after each time it broke off and was taken up where it was.
func (c *Client) Events(ctx context.Context, group string, ready func(), f func(Event) error) error {
	var last *string
	for {
		params := &contract.WatchEventsParams{LastEventID: last}
		if group != "" {
			params.Group = &group
		}
		res, err := c.WatchEvents(ctx, params)
		if err == nil {
			if err := refusal(res); err != nil {
				res.Body.Close()
				return err
			}
			if ready != nil {
				ready()
			}
			err = readEvents(res.Body, func(e Event) error {
				if e.ID != "" {
					last = &e.ID
				}
				return f(e)
			})
			res.Body.Close()
			var stop stopped
			if errors.As(err, &stop) {
				return stop.error
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// stopped is an error of the caller's own, as opposed to one of the stream.
type stopped struct{ error }

func readEvents(r io.Reader, f func(Event) error) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), 4<<20)
	var e Event
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ":")
		value = strings.TrimPrefix(value, " ")
		switch field {
		case "id":
			e.ID = value
		case "event":
			e.Kind = value
		case "data":
			e.Data = append(e.Data, value...)
		case "":
			if lines.Text() == "" && e.Data != nil {
				if err := f(e); err != nil {
					return stopped{err}
				}
				e = Event{}
			}
		}
	}
	return lines.Err()
}
