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
	s := NewServer(l.Addr().String(), NewRoom(2), Limits{Connect: time.Second, HeadBytes: 4096})
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

// deaf hears no early answers.
type deaf struct{}

func (deaf) Hint(int, http.Header)                              {}
func (deaf) Follow(context.Context, interface{ GiveUp() }) bool { return false }
func (deaf) Unfollow() bool                                     { return true }

func ask(s *Server, r *http.Request) (string, error) {
	res, err := s.Ask(r, true, deaf{})
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	return string(raw), err
}

const ok = "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"

// TestOneThatIsGivenUp: a connection that its server ended while a request was on its way is told
// as what rested; whether to ask again is up to who asked, and then it is on a fresh one.
func TestOneThatIsGivenUp(t *testing.T) {
	var asked atomic.Int64
	s := server(t, func(n int, c net.Conn, r *bufio.Reader) {
		for k := 0; ; k++ {
			if _, err := http.ReadRequest(r); err != nil {
				return
			}
			if asked.Add(1); k == 1 {
				return // the second request on it is not answered
			}
			fmt.Fprint(c, ok)
		}
	})
	if got, err := ask(s, request(http.MethodGet, "")); got != "ok" || err != nil {
		t.Fatalf("the first is answered %q, %v", got, err)
	}
	got, err := ask(s, request(http.MethodGet, ""))
	var failed *Error
	if !errors.As(err, &failed) || !failed.Sent || !failed.Rested || failed.At != Waiting || asked.Load() != 2 {
		t.Errorf("answered %q, %+v; the server was asked %d times", got, failed, asked.Load())
	}
	if got, err := ask(s, request(http.MethodGet, "")); got != "ok" || err != nil { // it leaves one that rests
		t.Fatal(err)
	}
	res, err := s.Ask(request(http.MethodGet, ""), false, deaf{})
	if err != nil || res.StatusCode != http.StatusOK {
		t.Errorf("on a fresh one: %v", err)
	}
}

// TestHowLongOneRests: less than the server says, and less than what is usual when it says nothing.
func TestHowLongOneRests(t *testing.T) {
	for field, want := range map[string]time.Duration{
		"": RestFor, "timeout=5": 4 * time.Second, "max=100, Timeout=\"3\"": 2 * time.Second, "timeout=1": 0, "timeout=0": -time.Second,
		"timeout=86400": mostRest, "timeout=-1": RestFor, "timeout=9999999999999999999": RestFor, "timeout=soon": RestFor,
	} {
		h := http.Header{}
		if field != "" {
			h.Set("Keep-Alive", field)
		}
		if got := restOf(h); got != want {
			t.Errorf("%q: it rests for %s, want %s", field, got, want)
		}
	}
	var made atomic.Int64
	s := server(t, func(_ int, c net.Conn, r *bufio.Reader) {
		for made.Add(1); ; {
			if _, err := http.ReadRequest(r); err != nil {
				return
			}
			fmt.Fprint(c, "HTTP/1.1 200 OK\r\nKeep-Alive: timeout=1\r\nContent-Length: 2\r\n\r\nok")
		}
	})
	for range 2 {
		if got, err := ask(s, request(http.MethodGet, "")); got != "ok" || err != nil {
			t.Fatal(err)
		}
	}
	if n := made.Load(); n != 2 {
		t.Errorf("of a server that ends them after a second %d were made for 2 requests", n)
	}
	rests := server(t, func(_ int, c net.Conn, r *bufio.Reader) {
		_, _ = http.ReadRequest(r)
		fmt.Fprint(c, ok)
		_, _ = io.Copy(io.Discard, r)
	})
	if _, err := ask(rests, request(http.MethodGet, "")); err != nil {
		t.Fatal(err)
	}
	rests.rest[0].until = time.Now().Add(-time.Millisecond)
	if rests.Rest(false); len(rests.rest) != 0 || rests.room.open.Load() != 0 {
		t.Error("one whose time is over still rests")
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
		limit := time.Minute
		if c.want.Late {
			limit = 50 * time.Millisecond
		}
		soon, cancel := context.WithTimeout(context.Background(), limit)
		_, err := ask(c.s, c.r.WithContext(soon))
		cancel()
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

// reads is a body that tells when somebody reads it.
type reads struct{ read chan bool }

func (r reads) Read([]byte) (int, error) {
	r.read <- true
	return 0, io.EOF
}

// TestABodyThatNobodyWants is not read: the server answers instead of saying go on.
func TestABodyThatNobodyWants(t *testing.T) {
	s := server(t, func(_ int, c net.Conn, r *bufio.Reader) {
		_, _ = http.ReadRequest(r)
		fmt.Fprint(c, "HTTP/1.1 403 Forbidden\r\nContent-Length: 2\r\n\r\nno")
		_, _ = io.Copy(io.Discard, r)
	})
	s.Limit(Limits{Connect: time.Second, Continue: time.Minute})
	body := reads{make(chan bool, 1)}
	r := request(http.MethodPost, "")
	r.Header.Set("Expect", "100-continue")
	r.Body, r.ContentLength = io.NopCloser(body), 4
	if got, err := ask(s, r); got != "no" || err != nil {
		t.Fatalf("answered %q, %v", got, err)
	}
	select {
	case <-body.read:
		t.Error("the body is read")
	case <-time.After(50 * time.Millisecond):
	}
}
