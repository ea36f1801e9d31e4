package builtin

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"path/filepath"
	"testing"

	"unitas/internal/balancer"
	"unitas/internal/certtest"
	"unitas/internal/fleet/traffic"
	"unitas/internal/waittest"
)

// TestACallerLeaves: however a caller goes away, its target's connection ends, and no target is
// blamed.
func TestACallerLeaves(t *testing.T) {
	t.Parallel() // it mostly waits
	dir := t.TempDir()
	pair := balancer.Pair{Name: "saltmere", Chain: filepath.Join(dir, "a.pem"), Key: filepath.Join(dir, "a.key")}
	certtest.WriteFor(t, pair.Chain, pair.Key, 1, "saltmere.example")
	for _, c := range []struct {
		how    string
		secure bool
		leave  func(raw net.Conn, c *tls.Conn)
	}{
		{"it closes", false, func(raw net.Conn, _ *tls.Conn) { raw.Close() }},
		{"it resets", false, func(raw net.Conn, _ *tls.Conn) { reset(raw) }},
		{"it closes TLS", true, func(_ net.Conn, c *tls.Conn) { c.Close() }},
		{"it resets below TLS", true, func(raw net.Conn, _ *tls.Conn) { reset(raw) }},
		{"it says that it goes, and stays", true, func(_ net.Conn, c *tls.Conn) { _ = c.CloseWrite() }},
	} {
		t.Run(c.how, func(t *testing.T) {
			ended := make(chan bool, 1)
			target := targetByHand(t, func(c net.Conn, _ heard) {
				_, _ = c.Read(make([]byte, 1))
				ended <- true
			})
			f := newSite(t)
			f.targets = []balancer.Target{{Instance: "quiet", Address: target.address, Open: true, Weight: 100}}
			f.apply()
			if c.secure {
				f.listener.Pairs = []balancer.Pair{pair}
				f.listen(func(l *traffic.Listener) { l.Protocol = traffic.HTTPS })
			}
			raw, err := net.Dial("tcp", f.address)
			if err != nil {
				t.Fatal(err)
			}
			defer raw.Close()
			caller, secure := raw, (*tls.Conn)(nil)
			if c.secure {
				secure = tls.Client(raw, &tls.Config{ServerName: "saltmere.example", InsecureSkipVerify: true})
				caller = secure
			}
			fmt.Fprint(caller, "GET / HTTP/1.1\r\nHost: saltmere.example\r\n\r\n")
			waittest.For(t, "the request", target.heard)
			c.leave(raw, secure)
			waittest.For(t, "the end of the target's connection", ended)
			waitFor(t, "nothing is in flight", func() bool { return f.flying("quiet") == 0 })
			if blamed := f.blamed(); len(blamed) > 0 {
				t.Errorf("blamed are %v", blamed)
			}
		})
	}
}

// givenUp is a call that tells when it is given up.
type givenUp chan bool

func (g givenUp) GiveUp() { g <- true }

// awaited is a context that tells that its end is waited for.
type awaited struct {
	context.Context
	by chan bool
}

func (a awaited) Done() <-chan struct{} {
	a.by <- true
	return a.Context.Done()
}

// TestFollowing: a call is given up once its context has ended as well, so that it is known why;
// one that ended is let alone, and one is not taken on where nothing comes any more.
func TestFollowing(t *testing.T) {
	dead := func() *linked {
		near, far := net.Pipe()
		far.Close()
		l := newLinked(near, &link{})
		if _, err := l.Read(make([]byte, 1)); err == nil {
			t.Error("an ended connection is read")
		}
		return l
	}
	ctx, end := context.WithCancel(context.Background())
	if dead().follow(ctx, make(givenUp)) {
		t.Error("a call is taken on when nothing comes any more: nobody ends it")
	}
	near, far := net.Pipe()
	l, call := newLinked(near, &link{}), make(givenUp, 1)
	known := awaited{ctx, make(chan bool, 1)}
	if !l.follow(known, call) {
		t.Fatal("a call is not taken on")
	}
	far.Close()
	_, _ = l.Read(make([]byte, 1))
	waittest.For(t, "somebody who waits for the context", known.by)
	select {
	case <-call:
		t.Error("a call is given up before its context ended")
	default:
	}
	end()
	waittest.For(t, "its end", call)
	if l.unfollow() != nil {
		t.Error("a call that was given up ends well")
	}
	if l.dead = false; l.follow(ctx, call) {
		t.Error("a call is taken on whose context has ended")
	}
	ctx, end = context.WithCancel(context.Background())
	over := make(givenUp, 1)
	l.follow(ctx, over)
	l.dies()
	if l.unfollow() != over {
		t.Error("a call that ended is not known")
	}
	end()
	select {
	case <-over:
		t.Error("a call that ended is given up")
	default:
	}
}
