package wire

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"net/url"
	"sort"
	"strings"
	"testing"
	"time"
)

// answers is a server that says the same bytes to whoever asks, and ends.
type answers struct {
	net.Listener
	raw chan []byte
}

func newAnswers(tb testing.TB) *answers {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { l.Close() })
	a := &answers{l, make(chan []byte, 2)}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			raw := <-a.raw
			go func() {
				defer c.Close()
				_ = c.SetDeadline(time.Now().Add(5 * time.Second))
				buf := make([]byte, 4096)
				for got := ""; !strings.Contains(got, "\r\n\r\n"); {
					n, err := c.Read(buf)
					if got += string(buf[:n]); err != nil {
						return
					}
				}
				_, _ = c.Write(raw)
				_ = c.(*net.TCPConn).CloseWrite()
				_, _ = io.Copy(io.Discard, c)
			}()
		}
	}()
	return a
}

// hints are the early answers that somebody heard.
type hints struct{ early []string }

func (h *hints) Hint(status int, _ http.Header) {
	if status != http.StatusContinue {
		h.early = append(h.early, fmt.Sprint(status))
	}
}

func (*hints) Follow(context.Context, interface{ GiveUp() }) bool { return false }
func (*hints) Unfollow() bool                                     { return true }

// told is what somebody takes bytes for.
func told(res *http.Response, err error, early []string) string {
	if err != nil {
		return "none"
	}
	defer res.Body.Close()
	if res.StatusCode < 100 {
		return "none" // which they leave to whoever asked
	}
	if res.StatusCode == http.StatusSwitchingProtocols {
		return "another protocol"
	}
	body, err := io.ReadAll(res.Body)
	var fields []string
	for name, values := range res.Header {
		switch name {
		case "Connection", "Keep-Alive":
			continue
		}
		fields = append(fields, fmt.Sprintf("%s=%q", name, values))
	}
	sort.Strings(fields)
	var after []string
	for name, values := range res.Trailer {
		after = append(after, fmt.Sprintf("%s=%q", name, values))
	}
	sort.Strings(after)
	whole := "whole"
	if err != nil {
		whole, after = "cut", nil
	}
	return fmt.Sprintf("%v %d %q %q %s %q", early, res.StatusCode, fields, body, whole, after)
}

// FuzzAnswer: whatever a target says is taken for the same as net/http's Transport takes it for:
// the same answers before the last, status, fields, body, and whether that is whole.
func FuzzAnswer(f *testing.F) {
	for _, seed := range []string{
		"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok", "HTTP/1.1 200 OK\r\n\r\nok", "HTTP/1.0 200 OK\r\nContent-Length: 2\r\n\r\nokmore",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nTrailer: A\r\n\r\n2;x=y\r\nok\r\n0\r\nA: b\r\n\r\n", "HTTP/1.1 103 Early Hints\r\nLink: a\r\n\r\nHTTP/1.1 204 No\r\n\r\n",
		"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nContent-Length: 3\r\n\r\nok", "HTTP/1.1 200 OK\r\nContent-Length: 2\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n",
		"HTTP/1.1 200 OK\r\nConnection: close, X-A\r\nX-A: b\r\nContent-Length: 9\r\n\r\nhalf", "SSH-2.0\r\n\r\n", "HTTP/1.1 101 Now\r\nUpgrade: x\r\nConnection: Upgrade\r\n\r\n", "",
		// Such as look plain, and are read by ourselves when they are.
		"HTTP/1.1 200 OK\r\nset-cookie: a\r\nSet-Cookie: b \r\nContent-length:\t2\r\nX:\r\n\r\nokmore", "HTTP/1.1 404 \r\nContent-Length: 3\r\nConnection: Keep-Alive\r\n\r\nno", "HTTP/1.1 200\r\nContent-Length: 0\r\n\r\n",
		"HTTP/1.1 204 No\r\nContent-Length: 2\r\n\r\nok", "HTTP/1.1 304 No\r\nContent-Length: 2\r\n\r\n", "HTTP/1.1 200OK\r\nContent-Length: 0\r\n\r\n", "HTTP/1.1 2x0 OK\r\nContent-Length: 0\r\n\r\n", "HTTP/1.1 099 OK\r\nContent-Length: 0\r\n\r\n",
		"HTTP/1.1 200 OK\r\nPragma: no-cache\r\nContent-Length: 0\r\n\r\n", "HTTP/1.1 200 OK\r\nTrailer: A\r\nContent-Length: 0\r\n\r\n", "HTTP/1.1 200 OK\r\nContent-Length: 2\r\nContent-Length: 2\r\n\r\nok",
		"HTTP/1.1 200 OK\r\nContent-Length: +2\r\n\r\nok", "HTTP/1.1 200 OK\r\nContent-Length: 0x2\r\n\r\nok", "HTTP/1.1200 OK\r\nContent-Length: 2\r\n\r\nok", "HTTP/1.1 200 OK\nX-A: b\r\nContent-Length: 2\r\n\r\nok", "HTTP/1.1 200 OK\r\nA:\tb\t\r\nContent-Length: 2\r\n\r\nok",
		"HTTP/1.1 200 OK\r\nContent-Length: \r\n\r\nok", "HTTP/1.1 200 OK\r\nA : b\r\nContent-Length: 0\r\n\r\n", "HTTP/1.1 200 OK\r\nA: b\rc\r\nContent-Length: 0\r\n\r\n",
		"HTTP/1.1 200 OK\r\nA: b\n\r\nContent-Length: 0\r\n\r\n", "HTTP/1.1 200 OK\r\nA: b\r\n c\r\nContent-Length: 0\r\n\r\n", "HTTP/1.1 200 OK\r\n: b\r\nContent-Length: 0\r\n\r\n", "HTTP/1.1 200 OK\r\nA\r\nContent-Length: 0\r\n\r\n", "HTTP/1.1 200 OK\r\nA: \x7f\r\nContent-Length: 0\r\n\r\n",
		"HTTP/1.0 200 OK\r\nContent-Length: 2\r\n\r\nok", "HTTP/1.1  200 OK\r\nContent-Length: 2\r\n\r\nok", "HTTP/1.1 200 OK\r\nTransfer-Encoding: gzip\r\nContent-Length: 2\r\n\r\nok", "HTTP/1.1 200 OK\r\nConnection: keep-alive, x-a\r\nX-A: b\r\nContent-Length: 0\r\n\r\n",
	} {
		f.Add([]byte(seed))
	}
	at := newAnswers(f)
	address := at.Addr().String()
	ours := NewServer(address, NewRoom(10), Limits{Connect: time.Second, HeadBytes: 1 << 20})
	f.Cleanup(func() { ours.Rest(true) })
	theirs := &http.Transport{DisableKeepAlives: true, DisableCompression: true, MaxResponseHeaderBytes: 1 << 20}
	f.Fuzz(func(t *testing.T, raw []byte) {
		if len(raw) > 4096 || bytes.Count(raw, []byte("HTTP/1.1 1")) > 4 { // they bound how many answers may come before the last
			return
		}
		for _, method := range []string{http.MethodGet, http.MethodHead} {
			ask := func() *http.Request {
				return &http.Request{Method: method, Host: address, Header: http.Header{"User-Agent": nil}, URL: &url.URL{Scheme: "http", Host: address, Path: "/"}, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1}
			}
			var early hints
			at.raw <- raw
			mine := ask()
			delete(mine.Header, "User-Agent")
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			res, err := ours.Ask(mine.WithContext(ctx), false, &early)
			// What a Connection field names is dropped here, which they leave to whoever asked.
			got := told(res, err, early.early)
			early = hints{}
			trace := &httptrace.ClientTrace{Got1xxResponse: func(status int, _ textproto.MIMEHeader) error {
				early.Hint(status, nil)
				return nil
			}}
			at.raw <- raw
			res, err = theirs.RoundTrip(ask().WithContext(httptrace.WithClientTrace(ctx, trace)))
			if err == nil && res.Close {
				dropNamed(res.Header, raw)
			}
			if want := told(res, err, early.early); got != want {
				t.Fatalf("%s: %q is taken for\n  %s, by net/http for\n  %s", method, raw, got, want)
			}
		}
	})
}
