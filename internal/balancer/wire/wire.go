// Package wire speaks HTTP/1.1 with the targets of a balancer: one request at a time on a
// connection, in the goroutine of whoever asks, over connections that are kept.
//
// It exists beside net/http's Transport for its cost: that one hands every request to
// two goroutines of its connection and back. What is read that is not plain is read by net/http's
// own.
package wire

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/caught"
)

// Limits bound what a server may take; 0 is without a limit, but for the dial. How long it is
// waited for is up to whoever asks, by the context.
type Limits struct {
	Connect   time.Duration // until there is a connection
	Continue  time.Duration // that a server is waited for that may not want a body
	HeadBytes int64         // of an answer
}

// Room is how many connections there may be to rest, at all servers together.
type Room struct {
	most int64
	open atomic.Int64
}

// NewRoom has room for so many.
func NewRoom(most int) *Room { return &Room{most: int64(most)} }

// Server is one address, with the connections to it that rest. Its methods are safe for
// concurrent use.
type Server struct {
	address string
	room    *Room
	limits  atomic.Pointer[Limits]
	took    atomic.Int64 // the last dial, in ns

	mu   sync.Mutex
	rest []*conn // the newest last
	shut bool
}

// For how long a connection may rest: less than the server says, and when it says nothing less
// than the 5 s after which common ones end it. And how many may.
const (
	RestFor     = 4 * time.Second
	mostRest    = 30 * time.Second
	restMargin  = time.Second
	mostResting = 256
)

// NewServer is the server at an address:port.
func NewServer(address string, room *Room, limits Limits) *Server {
	s := &Server{address: address, room: room}
	s.Limit(limits)
	return s
}

// Limit sets what it may take from now on.
func (s *Server) Limit(l Limits) { s.limits.Store(&l) }

// Took is how long the last connection took to be made; 0 before there was one.
func (s *Server) Took() time.Duration { return time.Duration(s.took.Load()) }

// Dial makes a connection that is nobody else's.
func (s *Server) Dial(ctx context.Context) (net.Conn, error) {
	begun := time.Now()
	d := net.Dialer{Timeout: s.limits.Load().Connect, KeepAlive: 30 * time.Second}
	c, err := d.DialContext(ctx, "tcp", s.address)
	if err != nil {
		return nil, Failed(Connecting, false, err)
	}
	s.took.Store(int64(time.Since(begun)))
	return c, nil
}

// Rest ends what has rested for long enough, or all.
func (s *Server) Rest(all bool) {
	now := time.Now()
	var old []*conn
	s.mu.Lock()
	kept := s.rest[:0]
	for _, c := range s.rest {
		if all || now.After(c.until) {
			old = append(old, c)
		} else {
			kept = append(kept, c)
		}
	}
	clear(s.rest[len(kept):])
	s.rest = kept
	s.shut = s.shut || all
	s.mu.Unlock()
	for _, c := range old {
		c.close()
	}
}

// take is a connection that rested and is well, or a new one.
func (s *Server) take(ctx context.Context, rested bool) (*conn, error) {
	for now := time.Now(); rested; {
		var c *conn
		s.mu.Lock()
		if n := len(s.rest); n > 0 {
			c, s.rest[n-1] = s.rest[n-1], nil
			s.rest = s.rest[:n-1]
		}
		s.mu.Unlock()
		if c == nil {
			break
		}
		if now.Before(c.until) && c.isQuiet() {
			return c, nil
		}
		c.close()
	}
	raw, err := s.Dial(ctx)
	if err != nil {
		return nil, err
	}
	s.room.open.Add(1)
	return newConn(s, raw), nil
}

// keep has a connection rest for so long at most, when there is room.
func (s *Server) keep(c *conn, most time.Duration) {
	if c.r.Buffered() > 0 || most <= 0 || s.room.open.Load() > s.room.most { // it said more than it was asked
		c.close()
		return
	}
	c.until, c.rested = time.Now().Add(most), true
	s.mu.Lock()
	full := s.shut || len(s.rest) >= mostResting
	if !full {
		s.rest = append(s.rest, c)
	}
	s.mu.Unlock()
	if full {
		c.close()
	}
}

// restOf is for how long a connection may rest by the Keep-Alive field of its last answer, which
// says after how many seconds the server ends it.
func restOf(h http.Header) time.Duration {
	for _, all := range h["Keep-Alive"] {
		for one := range strings.SplitSeq(all, ",") {
			name, value, _ := strings.Cut(strings.TrimSpace(one), "=")
			if !strings.EqualFold(name, "timeout") {
				continue
			}
			if n, err := strconv.Atoi(strings.Trim(value, `"`)); err == nil && n >= 0 {
				return min(time.Duration(min(n, 1000))*time.Second-restMargin, mostRest)
			}
		}
	}
	return RestFor
}

// conn is one connection.
type conn struct {
	server *Server
	raw    net.Conn
	peek   peeker
	left   int64 // that may be read, of a head
	r      *bufio.Reader
	w      *bufio.Writer
	until  time.Time // it may rest
	rested bool
	sent   atomic.Int64 // bytes, since it was taken
	closed atomic.Bool
}

func newConn(s *Server, raw net.Conn) *conn {
	c := &conn{server: s, raw: raw, peek: peekerOf(raw), left: -1}
	c.r, c.w = bufio.NewReader(c), bufio.NewWriter(c)
	return c
}

// Read reads as much as there may be of a head, and any of a body.
func (c *conn) Read(p []byte) (int, error) {
	if c.left == 0 {
		return 0, errLongHead
	}
	if c.left > 0 && int64(len(p)) > c.left {
		p = p[:c.left]
	}
	n, err := c.raw.Read(p)
	if c.left > 0 {
		c.left -= int64(n)
	}
	return n, err
}

// Write counts what was written.
func (c *conn) Write(p []byte) (int, error) {
	n, err := c.raw.Write(p)
	c.sent.Add(int64(n))
	return n, err
}

func (c *conn) close() {
	if c.closed.CompareAndSwap(false, true) {
		c.server.room.open.Add(-1)
		c.raw.Close()
	}
}

var errLongHead = errors.New("the head of the answer is too long")

// Where a call stood when it failed.
const (
	Connecting = "connecting"
	Sending    = "sending"
	Waiting    = "waiting"
	Answering  = "answering"
)

// Error is why there was no answer, or no whole one.
type Error struct {
	Err error
	// At is where it stood.
	At string
	// Sent is whether the server may have had something of the request.
	Sent bool
	// Late is whether a limit of time was passed.
	Late bool
	// Rested is set where the server had ended a connection that rested before it said a word
	// on it: it is likely to be well, and to have had nothing.
	Rested bool
}

// Failed is a call that failed there.
func Failed(at string, sent bool, err error) *Error {
	return &Error{Err: err, At: at, Sent: sent, Late: isTimeout(err)}
}

func (e *Error) Error() string { return e.At + ": " + e.Err.Error() }

// Unwrap is what it was.
func (e *Error) Unwrap() error { return e.Err }

func isTimeout(err error) bool {
	var t interface{ Timeout() bool }
	return errors.As(err, &t) && t.Timeout()
}

// body is the body of an answer; its end gives the connection back.
type body struct {
	io.Reader
	x     *call
	ended bool
}

func (b *body) Read(p []byte) (int, error) {
	if b.ended {
		return 0, io.EOF
	}
	n, err := b.Reader.Read(p)
	if err == io.EOF {
		b.ended = true
		b.x.done(true)
	} else if err != nil {
		err = Failed(Answering, true, b.x.cause(err))
	}
	return n, err
}

// Ready reports whether a part of it is there already.
func (b *body) Ready() bool { return b.x.c.r.Buffered() > 0 }

func (b *body) Close() error {
	if !b.ended {
		b.ended = true
		b.x.done(false)
	}
	return nil
}

// switched is a connection that speaks another protocol now.
type switched struct {
	r io.Reader
	x *call
}

func (s switched) Read(p []byte) (int, error)  { return s.r.Read(p) }
func (s switched) Write(p []byte) (int, error) { return s.x.c.raw.Write(p) }
func (s switched) Close() error {
	s.x.done(false)
	return nil
}

// NetConn is the connection below.
func (s switched) NetConn() net.Conn { return s.x.c.raw }

// CloseWrite says that nothing more comes.
func (s switched) CloseWrite() error {
	if half, ok := s.x.c.raw.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}

// later runs f after a while; stop it.
func later(after time.Duration, what string, f func()) *time.Timer {
	return time.AfterFunc(after, caught.Func(what, f))
}
