// Package wire speaks HTTP/1.1 with the targets of a balancer: one request at a time on a
// connection, in the goroutine of whoever asks, over connections that are kept.
//
// It exists beside net/http's Transport for its cost: that one hands every request to
// two goroutines of its connection and back. What is read and written is net/http's own.
package wire

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// Limits bound what a server may take; 0 is without a limit, but for the dial.
type Limits struct {
	Connect   time.Duration // until there is a connection
	FirstByte time.Duration // from the end of the request to the head of the answer
	Idle      time.Duration // between two parts of an answer
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

// restFor is how long a connection may rest, and mostResting how many may.
const (
	restFor     = 30 * time.Second
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

// Rest ends what has rested for too long, or all.
func (s *Server) Rest(all bool) {
	line := time.Now().Add(-restFor)
	s.mu.Lock()
	n := 0
	for n < len(s.rest) && (all || s.rest[n].since.Before(line)) {
		n++
	}
	old := append([]*conn(nil), s.rest[:n]...)
	s.rest = append(s.rest[:0], s.rest[n:]...)
	s.shut = s.shut || all
	s.mu.Unlock()
	for _, c := range old {
		c.close()
	}
}

// take is a connection that rested and is well, or a new one.
func (s *Server) take(ctx context.Context) (c *conn, rested bool, err error) {
	for {
		s.mu.Lock()
		if n := len(s.rest); n > 0 {
			c, s.rest[n-1] = s.rest[n-1], nil
			s.rest = s.rest[:n-1]
		} else {
			c = nil
		}
		s.mu.Unlock()
		if c == nil {
			break
		}
		if c.isQuiet() {
			return c, true, nil
		}
		c.close()
	}
	c, err = s.fresh(ctx)
	return c, false, err
}

func (s *Server) fresh(ctx context.Context) (*conn, error) {
	raw, err := s.Dial(ctx)
	if err != nil {
		return nil, err
	}
	s.room.open.Add(1)
	return newConn(s, raw), nil
}

// keep has a connection rest, when there is room.
func (s *Server) keep(c *conn) {
	if c.r.Buffered() > 0 || s.room.open.Load() > s.room.most { // it said more than it was asked
		c.close()
		return
	}
	c.since = time.Now()
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

// conn is one connection.
type conn struct {
	server *Server
	raw    net.Conn
	peek   peeker
	left   int64 // that may be read, of a head
	r      *bufio.Reader
	w      *bufio.Writer
	since  time.Time // it rests
	over   atomic.Bool
}

func newConn(s *Server, raw net.Conn) *conn {
	c := &conn{server: s, raw: raw, peek: peekerOf(raw), left: -1}
	c.r, c.w = bufio.NewReader(c), bufio.NewWriter(raw)
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

func (c *conn) close() {
	if c.over.CompareAndSwap(false, true) {
		c.server.room.open.Add(-1)
		c.raw.Close()
	}
}

var errLongHead = errors.New("the head of the answer is too long")

// Where an exchange stood when it failed.
const (
	Connecting = "connecting"
	Sending    = "sending"
	Waiting    = "waiting"
	Answering  = "answering"
)

// Error is why there was no answer.
type Error struct {
	Err error
	// At is where it stood.
	At string
	// Sent is whether the server may have had the request.
	Sent bool
	// Late is whether a limit of time was passed.
	Late bool
}

// Failed is an exchange that failed there.
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
	x    *exchange
	over bool
}

func (b *body) Read(p []byte) (int, error) {
	if b.over {
		return 0, io.EOF
	}
	if idle := b.x.limits.Idle; idle > 0 {
		_ = b.x.c.raw.SetReadDeadline(time.Now().Add(idle))
	}
	n, err := b.Reader.Read(p)
	if err == io.EOF {
		b.over = true
		b.x.done(true)
	} else if err != nil {
		err = Failed(Answering, true, err)
	}
	return n, err
}

// Ready reports whether a part of it is there already.
func (b *body) Ready() bool { return b.x.c.r.Buffered() > 0 }

func (b *body) Close() error {
	if !b.over {
		b.over = true
		b.x.done(false)
	}
	return nil
}

// switched is a connection that speaks another protocol now.
type switched struct {
	r io.Reader
	x *exchange
}

func (s switched) Read(p []byte) (int, error)  { return s.r.Read(p) }
func (s switched) Write(p []byte) (int, error) { return s.x.c.raw.Write(p) }
func (s switched) Close() error {
	s.x.done(false)
	return nil
}

// CloseWrite says that nothing more comes.
func (s switched) CloseWrite() error {
	if half, ok := s.x.c.raw.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}
