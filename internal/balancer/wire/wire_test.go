package wire

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

// server answers each connection by hand.
func server(t *testing.T, serve func(n int, c net.Conn, r *bufio.Reader)) *Server {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for n := 0; ; n++ {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				serve(n, c, bufio.NewReader(c))
			}()
		}
	}()
	s := NewServer(l.Addr().String(), NewRoom(2), Limits{Connect: time.Second, FirstByte: 5 * time.Second, HeadBytes: 4096})
	t.Cleanup(func() { s.Rest(true) })
	return s
}

func request(method, body string) *http.Request {
	r := &http.Request{Method: method, Host: "h", Header: http.Header{}, URL: &url.URL{Path: "/"}}
	if body != "" {
		r.Body, r.ContentLength = io.NopCloser(strings.NewReader(body)), int64(len(body))
	}
	return r
}

func ask(s *Server, r *http.Request) (string, error) {
	res, err := s.Ask(r, func(int, http.Header) error { return nil })
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	return string(raw), err
}

const ok = "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"

// TestOneThatIsGivenUp: a connection that its server ended while a request was on its way: what
// may be repeated is, over a new one, and nothing else.
func TestOneThatIsGivenUp(t *testing.T) {
	var asked atomic.Int64
	s := server(t, func(n int, c net.Conn, r *bufio.Reader) {
		for k := 0; ; k++ {
			if _, err := http.ReadRequest(r); err != nil {
				return
			}
			if asked.Add(1); n%2 == 0 && k == 1 {
				return // the second request on it is not answered
			}
			fmt.Fprint(c, ok)
		}
	})
	for _, want := range []struct {
		method string
		fails  bool
		asked  int64
	}{{http.MethodGet, false, 3}, {http.MethodPost, true, 2}} {
		s.Rest(false)
		asked.Store(0)
		if got, err := ask(s, request(http.MethodGet, "")); got != "ok" || err != nil {
			t.Fatalf("the first is answered %q, %v", got, err)
		}
		got, err := ask(s, request(want.method, ""))
		var failed *Error
		if (err != nil) != want.fails || (err == nil && got != "ok") || (err != nil && (!errors.As(err, &failed) || !failed.Sent || failed.At != Waiting)) || asked.Load() != want.asked {
			t.Errorf("%s: answered %q, %v; the server was asked %d times", want.method, got, err, asked.Load())
		}
		s.mu.Lock()
		for _, c := range s.rest {
			c.close()
		}
		s.rest = nil
		s.mu.Unlock()
	}
}

// TestRoom: no more connections rest than there is room for, and none of a server that is shut.
func TestRoom(t *testing.T) {
	hold := make(chan bool)
	s := server(t, func(_ int, c net.Conn, r *bufio.Reader) {
		for {
			if _, err := http.ReadRequest(r); err != nil {
				return
			}
			<-hold
			fmt.Fprint(c, ok)
		}
	})
	over := make(chan error)
	for range 4 {
		go func() {
			_, err := ask(s, request(http.MethodGet, ""))
			over <- err
		}()
	}
	for range 4 {
		hold <- true
	}
	for range 4 {
		if err := <-over; err != nil {
			t.Error(err)
		}
	}
	s.mu.Lock()
	resting := len(s.rest)
	s.mu.Unlock()
	if resting > 2 || s.room.open.Load() != int64(resting) {
		t.Errorf("%d rest, and %d are open, where there is room for 2", resting, s.room.open.Load())
	}
	s.Rest(true)
	if n := s.room.open.Load(); n != 0 {
		t.Errorf("%d are open of a server that is shut", n)
	}
}

// TestWhereItFailed tells what the server may have had.
func TestWhereItFailed(t *testing.T) {
	silent := server(t, func(_ int, c net.Conn, r *bufio.Reader) {
		_, _ = http.ReadRequest(r)
		_, _ = io.Copy(io.Discard, r)
	})
	silent.Limit(Limits{Connect: time.Second, FirstByte: 50 * time.Millisecond})
	long := server(t, func(_ int, c net.Conn, r *bufio.Reader) {
		_, _ = http.ReadRequest(r)
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nX-A: "+strings.Repeat("a", 5000)+"\r\n\r\n")
	})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
	for name, c := range map[string]struct {
		s    *Server
		r    *http.Request
		want Error
	}{
		"nobody is there":        {NewServer(l.Addr().String(), NewRoom(1), Limits{Connect: time.Second}), request(http.MethodGet, ""), Error{At: Connecting}},
		"it says nothing":        {silent, request(http.MethodGet, ""), Error{At: Waiting, Sent: true, Late: true}},
		"nothing after the body": {silent, request(http.MethodPost, "body"), Error{At: Waiting, Sent: true, Late: true}},
		"its head is too long":   {long, request(http.MethodGet, ""), Error{At: Answering, Sent: true}},
	} {
		_, err := ask(c.s, c.r)
		var got *Error
		if !errors.As(err, &got) || got.At != c.want.At || got.Sent != c.want.Sent || got.Late != c.want.Late {
			t.Errorf("%s: %+v", name, err)
		}
	}
	ctx, leave := context.WithCancelCause(context.Background())
	why := errors.New("somebody left")
	time.AfterFunc(20*time.Millisecond, func() { leave(why) })
	silent.Limit(Limits{Connect: time.Second})
	if _, err := ask(silent, request(http.MethodGet, "").WithContext(ctx)); !errors.Is(err, why) {
		t.Errorf("one that was given up: %v", err)
	}
}
