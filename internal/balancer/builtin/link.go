package builtin

import (
	"crypto/tls"
	"errors"
	"io"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"time"
)

// link is a connection that a caller has to a door.
type link struct {
	door    *door
	who     *visitor
	address string // of the caller, without its port
	page    int    // of the ledger
	secure  bool
	over    bool        // it is one too many: its first request is told so
	wrote   time.Time   // when its caller's patience began anew
	busy    atomic.Bool // with a request of HTTP/1.1
}

// linked is a connection that knows its link.
type linked struct {
	net.Conn
	link   *link
	once   sync.Once
	woken  chan struct{} // a read is to end
	closed chan struct{}
}

func newLinked(c net.Conn, l *link) *linked {
	return &linked{Conn: c, link: l, woken: make(chan struct{}, 1), closed: make(chan struct{})}
}

// halfWait is for how long a caller that said that it sends no more, with a request under way,
// may wait for its answer. One that is gone says the same, so it is not for long.
const halfWait = 3 * time.Second

// Read reads. The end of what a caller sends is not the end of its request (RFC 9112, section
// 9.6, lets it close its half), which is what the server would take it for.
func (l *linked) Read(p []byte) (int, error) {
	n, err := l.Conn.Read(p)
	if err != io.EOF || !l.link.busy.Load() {
		return n, err
	}
	limit := time.NewTimer(halfWait)
	defer limit.Stop()
	select {
	case <-l.woken:
		return 0, os.ErrDeadlineExceeded
	case <-limit.C:
	case <-l.closed:
	}
	return n, err
}

// SetReadDeadline ends a read that waits, when it is to end now.
func (l *linked) SetReadDeadline(t time.Time) error {
	if !t.IsZero() && !t.After(time.Now()) {
		select {
		case l.woken <- struct{}{}:
		default:
		}
	} else {
		select {
		case <-l.woken:
		default:
		}
	}
	return l.Conn.SetReadDeadline(t)
}

// Close counts it out.
func (l *linked) Close() error {
	l.once.Do(func() {
		close(l.closed)
		l.link.door.callers.leave(l.link.who)
	})
	return l.Conn.Close()
}

// CloseWrite says that nothing more comes.
func (l *linked) CloseWrite() error {
	if half, ok := plain(l.Conn).(halfCloser); ok {
		return half.CloseWrite()
	}
	return errors.ErrUnsupported
}

// plain is the connection of the kernel's below those that only watch it.
func plain(c net.Conn) net.Conn {
	for {
		below, ok := c.(interface{ NetConn() net.Conn })
		if !ok {
			return c
		}
		c = below.NetConn()
	}
}

// NetConn is the connection below.
func (l *linked) NetConn() net.Conn { return l.Conn }

type linkKey struct{}

// below is the connection that the guard knows.
func below(c net.Conn) net.Conn {
	if secure, ok := c.(*tls.Conn); ok {
		c = secure.NetConn()
	}
	if l, ok := c.(*linked); ok {
		return l.Conn
	}
	return c
}
