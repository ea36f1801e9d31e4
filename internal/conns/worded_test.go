package conns

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"
)

// TestWhatCannotBeReadIsAnsweredInWords: each request that the server refuses before any handler sees it
// is answered by the words, once; what handlers answer stays as it is.
func TestWhatCannotBeReadIsAnsweredInWords(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	g := New(Bounds{All: 100})
	s := &http.Server{MaxHeaderBytes: 4096, ConnState: g.State, Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		w.Header().Set("Connection", "close")
		w.WriteHeader(http.StatusBadRequest)
		fmt.Fprint(w, "400 Bad Request: by the handler")
	})}
	go s.Serve(g.Listen(Worded(l, func(status int, why string) []byte { //nolint:errcheck // it is closed below
		body := fmt.Sprintf("worded %d %s", status, why)
		return fmt.Appendf(nil, "HTTP/1.1 %d Worded\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s", status, len(body), body)
	})))
	t.Cleanup(func() { s.Close() })
	for request, want := range map[string]string{
		"GET / HTTP/1.1\r\nHost: front\r\n\r\n":                                           "400 Bad Request: by the handler",
		"rubbish\r\n\r\n":                                                                 "worded 400 ",
		"GET / HTTP/1.1\r\nHost: a b\r\n\r\n":                                             "worded 400 malformed Host header",
		"GET / HTTP/1.1\r\n\r\n":                                                          "worded 400 missing required Host header",
		"GET / HTTP/1.1\r\nHost: front\r\nBad Name: x\r\n\r\n":                            "worded 400 ",
		"GET / HTTP/9.9\r\nHost: front\r\n\r\n":                                           "worded 505 ",
		"POST / HTTP/1.1\r\nHost: front\r\nTransfer-Encoding: rot13\r\n\r\n":              "worded 501 ",
		"GET / HTTP/1.1\r\nHost: front\r\nA: " + strings.Repeat("a", 20_000) + "\r\n\r\n": "worded 431 ",
	} {
		c := dial(t, "127.0.0.1", l.Addr().String())
		_ = c.SetDeadline(time.Now().Add(10 * time.Second))
		if _, err := io.WriteString(c, request); err != nil {
			t.Fatal(err)
		}
		res, err := http.ReadResponse(bufio.NewReader(c), nil)
		if err != nil {
			t.Errorf("%.40q is not answered: %v", request, err)
			continue
		}
		raw, err := io.ReadAll(res.Body)
		if err != nil || !strings.HasPrefix(string(raw), want) {
			t.Errorf("%.40q is answered %d %q: %v", request, res.StatusCode, raw, err)
		}
	}
}
