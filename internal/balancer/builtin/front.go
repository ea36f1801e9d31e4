package builtin

import (
	"context"
	"crypto/tls"
	"log/slog"
	"net"
	"net/http"
	"sync"

	"unitas/internal/caught"
	"unitas/internal/conns"
	"unitas/internal/fleet/traffic"
)

// front is an HTTP server of a door. Another takes its place when settings change that it only
// takes at its start; what it has goes on.
type front struct {
	door   *door
	server *http.Server
	conns  chan net.Conn
	gone   chan struct{} // closed when it takes no more
	done   chan struct{} // closed when it has none any more
	once   sync.Once
	open   conns.Count
}

func (d *door) newFront(s *doorSettings) *front {
	f := &front{door: d, conns: make(chan net.Conn), gone: make(chan struct{}), done: make(chan struct{})}
	protocols := new(http.Protocols)
	protocols.SetHTTP1(true)
	protocols.SetHTTP2(s.HTTP2 && s.Protocol == traffic.HTTPS)
	protocols.SetUnencryptedHTTP2(s.HTTP2 && s.Protocol == traffic.HTTP)
	f.server = &http.Server{Handler: http.HandlerFunc(d.serve), Protocols: protocols, HTTP2: &http.HTTP2Config{MaxReadFrameSize: leastFrame}, DisableGeneralOptionsHandler: true,
		ReadHeaderTimeout: s.Limits.Head, IdleTimeout: s.Limits.Idle, MaxHeaderBytes: int(s.Limits.HeadBytes),
		ConnContext: func(ctx context.Context, c net.Conn) context.Context {
			if secure, ok := c.(*tls.Conn); ok {
				c = secure.NetConn()
			}
			return context.WithValue(ctx, linkKey{}, c.(*linked).link)
		},
		ConnState: func(c net.Conn, s http.ConnState) {
			d.house.guard.State(below(c), s)
			f.open.State(c, s)
		}, ErrorLog: slog.NewLogLogger(d.house.log.Handler(), slog.LevelDebug)}
	caught.Go("the server of a listener", func() { _ = f.server.Serve(f) })
	return f
}

// take hands it a connection.
func (f *front) take(c net.Conn) {
	select {
	case f.conns <- c:
	case <-f.gone: // it was just replaced
		f.door.mu.Lock()
		next := f.door.front
		f.door.mu.Unlock()
		if next == f {
			c.Close()
			return
		}
		next.take(c)
	}
}

// Accept returns the next connection that it was handed.
func (f *front) Accept() (net.Conn, error) {
	select {
	case c := <-f.conns:
		return c, nil
	case <-f.gone:
		return nil, net.ErrClosed
	}
}

// Close and Addr make it a listener.
func (f *front) Close() error { return nil }

// Addr is that of its door.
func (f *front) Addr() net.Addr { return f.door.socket.Addr() }

// retire has it take no more connections. Those that it has go on for as long as they have
// something under way, until the balancer ends.
func (f *front) retire(all *sync.WaitGroup) {
	if f == nil {
		return
	}
	f.once.Do(func() {
		close(f.gone)
		all.Go(caught.Func("the end of a listener", func() {
			defer close(f.done)
			ctx, cancel := context.WithCancel(context.Background())
			defer cancel()
			caught.Go("the end of a listener", func() {
				select {
				case <-f.door.house.closing:
					select {
					case <-f.door.ended:
					case <-ctx.Done():
					}
					cancel()
				case <-ctx.Done():
				}
			})
			conns.Finish(ctx, f.server, &f.open)
		}))
	})
}

// leastFrame is how large the frames are that callers of HTTP/2 may send, in bytes: the least that
// may be said (RFC 9113, section 6.5.2), which is what they send unless told otherwise.
const leastFrame = 16 << 10
