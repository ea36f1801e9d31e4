package builtin

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/caught"
	"unitas/internal/conns"
)

// link is a connection that a caller has to a door.
type link struct {
	door    *door
	who     *conns.Caller
	address string // of the caller, without its port
	page    int    // of the ledger
	secure  bool
	surplus bool        // it is one too many: its first request is told so
	awaits  atomic.Bool // a request of HTTP/1.1, all of which came, awaits its answer
	lined   *linked
}

// linked is a connection that knows its link.
type linked struct {
	net.Conn
	link   *link
	once   sync.Once
	closed atomic.Bool
	over   atomic.Bool   // a read is to end
	woken  chan struct{} // one of the two changed, or the alarm rang
	alarm  *time.Timer   // of whoever reads
	rings  time.Time     // it does, or did

	mu      sync.Mutex
	until   time.Time       // a read may wait; zero for ever
	applied time.Time       // of that, what the connection below knows
	reading bool            // it reads
	dead    bool            // nothing comes any more
	call    followed        // is given up when that is so; nil when none is under way
	ctx     context.Context // of the request that it is for

	lingers atomic.Int64 // until when what still comes is read before it ends, see nanos; 0 when it is not ending
	renewed time.Time    // when the time to take what is written began anew; of whoever writes
}

func newLinked(c net.Conn, l *link) *linked {
	made := &linked{Conn: c, link: l, woken: make(chan struct{}, 1)}
	l.lined = made
	return made
}

// halfWait is for how long a caller that said that it sends no more, with a request under way,
// may wait for its answer. One that is gone says the same, so it is not for long.
const halfWait = 3 * time.Second

// begunSoon is how long it may take from when the server has a request until it is begun here: who
// closes its half with the request is known to wait only then.
const begunSoon = 10 * time.Millisecond

// How much of what a caller still sends is read after its answer, so that it comes to it, and for
// how long.
const (
	lingerBytes = 64 << 10
	lingerFor   = time.Second
)

var errLingers = errors.New("the connection ends")

// awayLooked is for how long it is not looked whether the caller of a request under way has gone:
// the server looks all the time, and most requests are answered before.
const awayLooked = 20 * time.Millisecond

// Read reads.
func (l *linked) Read(p []byte) (int, error) {
	n, err := l.read(p)
	if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
		l.dies()
	}
	return n, err
}

// read reads. The end of what a caller sends is not the end of its request (RFC 9112, section
// 9.6, lets it close its half), which is what the server would take it for.
func (l *linked) read(p []byte) (n int, err error) {
	defer caught.Into("a connection of a listener", &err)
	if l.lingers.Load() != 0 {
		return 0, errLingers
	}
	if l.link.awaits.Load() && l.isWoken(awayLooked) {
		return 0, os.ErrDeadlineExceeded
	}
	l.begin()
	n, err = l.Conn.Read(p)
	l.mu.Lock()
	l.reading = false
	l.mu.Unlock()
	if err == io.EOF && !l.link.awaits.Load() && l.isWoken(begunSoon) {
		return 0, os.ErrDeadlineExceeded
	}
	if err == io.EOF && l.link.awaits.Load() && l.isWoken(halfWait) {
		return 0, os.ErrDeadlineExceeded
	}
	return n, err
}

// isWoken reports whether a read is to end within a time, and waits for that. An alarm that was set
// stays so, and is set anew when it rang too early: most waits are over long before.
func (l *linked) isWoken(within time.Duration) bool {
	now := time.Now()
	for until := now.Add(within); now.Before(until) && !l.over.Load() && !l.closed.Load(); now = time.Now() {
		if !l.rings.After(now) || l.rings.After(until) {
			l.rings = until
			if l.alarm == nil {
				l.alarm = time.AfterFunc(until.Sub(now), caught.Func("a connection of a listener", l.wake))
			} else {
				l.alarm.Reset(until.Sub(now))
			}
		}
		<-l.woken
	}
	return l.over.Load()
}

func (l *linked) wake() {
	select {
	case l.woken <- struct{}{}:
	default: // it is to be
	}
}

// begin has the connection below know until when a read may wait. One that is about as it was is
// not set anew: the server sets several for each request.
func (l *linked) begin() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.reading = true
	if l.until.IsZero() && l.applied.IsZero() {
		return
	}
	if early := l.until.Sub(l.applied); !l.until.IsZero() && !l.applied.IsZero() && early >= 0 && early <= time.Until(l.until)/64 {
		return
	}
	l.applied = l.until
	_ = l.Conn.SetReadDeadline(l.until)
}

// renewPatience is how often at most the time to take what is written begins anew.
const renewPatience = time.Second

// Write writes, for as long as the caller takes something of it in time. Between two writes no
// limit stands.
func (l *linked) Write(p []byte) (n int, err error) {
	defer caught.Into("a connection of a listener", &err)
	most := l.link.door.now.Load().Limits.Taking()
	if most <= 0 {
		return l.Conn.Write(p)
	}
	for {
		if now := time.Now(); now.Sub(l.renewed) >= renewPatience || n > 0 {
			l.renewed = now
			_ = l.Conn.SetWriteDeadline(now.Add(most + renewPatience))
		}
		k, err := l.Conn.Write(p[n:])
		n += k
		late := errors.Is(err, os.ErrDeadlineExceeded)
		if late && k == 0 { // the server may not end it for that
			l.Conn.Close()
		}
		if k == 0 || n == len(p) || !late {
			return n, err
		}
	}
}

// SetWriteDeadline is for whoever ends the connection: what is written has its limit above.
func (l *linked) SetWriteDeadline(t time.Time) error {
	if t.IsZero() {
		return nil
	}
	return l.Conn.SetWriteDeadline(t)
}

// SetDeadline sets that of reads as well.
func (l *linked) SetDeadline(t time.Time) error {
	_ = l.SetWriteDeadline(t)
	return l.SetReadDeadline(t)
}

// SetReadDeadline ends a read that waits, when it is to end now.
func (l *linked) SetReadDeadline(t time.Time) error {
	over := !t.IsZero() && !t.After(time.Now())
	if l.over.Store(over); over {
		l.wake()
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.until = t; l.reading {
		l.applied = t
		return l.Conn.SetReadDeadline(t)
	}
	return nil
}

// linger has the connection end once its answer is written, after what still comes was read for a
// moment; one that is too many is not waited for.
func (l *link) linger() {
	until := nanos(time.Now())
	if !l.surplus {
		until += int64(lingerFor)
	}
	l.lined.lingers.Store(until)
}

// Close counts it out. One whose caller still sends is closed for writing first, and the rest is
// read for a moment: to end it at once would take the answer from a caller that has not read it.
func (l *linked) Close() error {
	l.once.Do(func() {
		l.closed.Store(true)
		l.wake()
		if until := l.lingers.Load(); until > nanos(time.Now()) {
			if half, ok := plain(l.Conn).(halfCloser); ok && half.CloseWrite() == nil {
				_ = l.Conn.SetReadDeadline(time.Now().Add(time.Duration(until - nanos(time.Now()))))
				_, _ = io.CopyN(io.Discard, l.Conn, lingerBytes)
			}
		}
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

// reset ends the connection in a way that its other side cannot take for a good end.
func reset(c net.Conn) {
	if tcp, ok := plain(c).(*net.TCPConn); ok {
		_ = tcp.SetLinger(0)
	}
	c.Close()
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
