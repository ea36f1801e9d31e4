package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/coder/websocket"

	"unitas/api/contract"
)

// ErrCut is a terminal that ended without the service saying how.
var ErrCut = errors.New("the connection was cut before the command was over; what it began may go on")

// Terminal is the stream of a shell that [Client.OpenShell] opened.
type Terminal struct{ conn *websocket.Conn }

// Terminal comes to a shell, by the stream that its opening named. The context bounds the
// connecting alone.
func (c *Client) Terminal(ctx context.Context, stream string) (*Terminal, error) {
	at, err := url.Parse(strings.TrimSuffix(c.Server, "/"))
	if err != nil {
		return nil, err
	}
	options := &websocket.DialOptions{}
	if plain, ok := c.Client.(*http.Client); ok {
		options.HTTPClient = plain
	}
	conn, res, err := websocket.Dial(ctx, at.JoinPath(stream).String(), options)
	if err != nil {
		if res != nil && res.StatusCode >= 400 {
			return nil, refusal(res)
		}
		return nil, err
	}
	conn.SetReadLimit(1 << 20)
	return &Terminal{conn}, nil
}

// Type sends what was typed.
func (t *Terminal) Type(ctx context.Context, typed []byte) error {
	return t.conn.Write(ctx, websocket.MessageBinary, typed)
}

// Resize tells how many characters the screen has.
func (t *Terminal) Resize(ctx context.Context, columns, rows int) error {
	size, err := json.Marshal(contract.ShellSize{Columns: columns, Rows: rows})
	if err != nil {
		return err
	}
	return t.conn.Write(ctx, websocket.MessageText, size)
}

// Show writes what the screen shows, until the command is over, and returns how it ended.
// It is [ErrCut] when that was not told.
func (t *Terminal) Show(ctx context.Context, screen io.Writer) (how contract.ShellEnd, err error) {
	defer t.conn.CloseNow()
	for {
		kind, shown, err := t.conn.Read(ctx)
		switch {
		case ctx.Err() != nil:
			return how, ctx.Err()
		case err != nil:
			return how, ErrCut
		case kind == websocket.MessageText:
			if err := json.Unmarshal(shown, &how); err != nil {
				return how, fmt.Errorf("read the service's answer: %w", err)
			}
			_ = t.conn.Close(websocket.StatusNormalClosure, "")
			return how, nil
		}
		if _, err := screen.Write(shown); err != nil {
			return how, err
		}
	}
}
