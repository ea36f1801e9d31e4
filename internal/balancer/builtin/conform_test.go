package builtin

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/waittest"
)

// What a request is to a target, and an answer to a caller, to the byte: a caller of raw bytes,
// a real listener, a target that keeps what it gets.

// heard is one request as a target got it.
type heard struct {
	line   string
	fields []string // sorted, but for those that the balancer adds
	body   string
	after  string // the part of a chunked body after its last chunk
}

// byHand is a target that answers by hand and keeps what it hears.
type byHand struct {
	address string
	heard   chan heard
}

// added are the fields that the balancer adds to each request.
func added(field string) bool {
	name, _, _ := strings.Cut(field, ":")
	return slices.Contains([]string{"X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto", "X-Request-Id", "Traceparent"}, name)
}

func targetByHand(t testing.TB, answer func(c net.Conn, h heard)) *byHand {
	t.Helper()
	b := &byHand{heard: make(chan heard, 100)}
	b.address = connected(t, func(c net.Conn) {
		for r := bufio.NewReader(c); ; {
			h, err := hear(r)
			if err != nil {
				return
			}
			b.heard <- h
			answer(c, h)
		}
	})
	return b
}

// hear reads a request as plainly as may be.
func hear(r *bufio.Reader) (h heard, err error) {
	length, chunked := 0, false
	for {
		line, err := r.ReadString('\n')
		if err != nil {
			return h, err
		}
		line = strings.TrimSuffix(line, "\r\n")
		switch {
		case h.line == "":
			h.line = line
			continue
		case line == "":
			slices.Sort(h.fields)
			if chunked {
				return h, h.chunks(r)
			}
			body := make([]byte, length)
			_, err = io.ReadFull(r, body)
			h.body = string(body)
			return h, err
		case !added(line):
			h.fields = append(h.fields, line)
		}
		_, _ = fmt.Sscanf(line, "Content-Length: %d", &length)
		chunked = chunked || line == "Transfer-Encoding: chunked"
	}
}

func (h *heard) chunks(r *bufio.Reader) error {
	for {
		var n int
		line, err := r.ReadString('\n')
		if err != nil {
			return err
		}
		if _, err := fmt.Sscanf(line, "%x", &n); err != nil {
			return err
		}
		if n == 0 {
			break
		}
		part := make([]byte, n+2)
		if _, err := io.ReadFull(r, part); err != nil {
			return err
		}
		h.body += string(part[:n])
	}
	for {
		line, err := r.ReadString('\n')
		if err != nil || line == "\r\n" {
			return err
		}
		h.after += line
	}
}

// hand has a site with one target by hand.
func hand(t testing.TB, answer func(c net.Conn, h heard)) (*site, *byHand) {
	t.Helper()
	b := targetByHand(t, answer)
	f := newSite(t)
	f.targets = []balancer.Target{{Instance: "by-hand", Address: b.address, Open: true, Weight: 100}}
	f.apply()
	return f, b
}

const fine = "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"

func says(text string) func(net.Conn, heard) {
	return func(c net.Conn, _ heard) { fmt.Fprint(c, text) }
}

// talk sends bytes, and returns what comes back until the other side ends it or enough came.
func talk(t testing.TB, address, send string, enough func(string) bool) string {
	t.Helper()
	c, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(20 * time.Second))
	go func() { _, _ = io.WriteString(c, send) }()
	var got bytes.Buffer
	buf := make([]byte, 4096)
	for !enough(got.String()) {
		n, err := c.Read(buf)
		got.Write(buf[:n])
		if err != nil {
			break
		}
	}
	return got.String()
}

func ends(with string) func(string) bool {
	return func(got string) bool { return strings.HasSuffix(got, with) }
}

// withoutDate takes away what the balancer adds to an answer that has none.
func withoutDate(answer string) string {
	lines := strings.Split(answer, "\r\n")
	return strings.Join(slices.DeleteFunc(lines, func(l string) bool { return strings.HasPrefix(l, "Date: ") }), "\r\n")
}

// TestRequestsToTheByte holds what a target hears against what a caller said.
func TestRequestsToTheByte(t *testing.T) {
	f, target := hand(t, func(c net.Conn, h heard) {
		if strings.HasPrefix(h.line, "HEAD") {
			fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\n")
			return
		}
		fmt.Fprint(c, fine)
	})
	for _, c := range []struct {
		name, send, line string
		fields           []string
		body, after      string
	}{
		{name: "a path that is written unusually", send: "GET /a%2Fb/../c//d;x=1/%7euser HTTP/1.1\r\nHost: h\r\n\r\n", line: "GET /c//d;x=1/%7euser HTTP/1.1", fields: []string{"Host: h"}},
		{name: "a path of two slashes", send: "GET //double?x HTTP/1.1\r\nHost: h\r\n\r\n", line: "GET //double?x HTTP/1.1", fields: []string{"Host: h"}},
		{name: "a query that no form is", send: "GET /?a=%zz;b=1&&c&=+%20 HTTP/1.1\r\nHost: h\r\n\r\n", line: "GET /?a=%zz;b=1&&c&=+%20 HTTP/1.1", fields: []string{"Host: h"}},
		{name: "an empty query", send: "GET /? HTTP/1.1\r\nHost: h\r\n\r\n", line: "GET /? HTTP/1.1", fields: []string{"Host: h"}},
		{name: "an absolute form", send: "GET http://fares.example/a%20b?q HTTP/1.1\r\nHost: other.example\r\n\r\n", line: "GET /a%20b?q HTTP/1.1", fields: []string{"Host: fares.example"}},
		{name: "an absolute form without a path", send: "GET http://fares.example?q HTTP/1.1\r\nHost: fares.example\r\n\r\n", line: "GET /?q HTTP/1.1", fields: []string{"Host: fares.example"}},
		{name: "of the server as a whole", send: "OPTIONS * HTTP/1.1\r\nHost: h\r\n\r\n", line: "OPTIONS * HTTP/1.1", fields: []string{"Host: h"}},
		{name: "fields again and again, and empty", send: "GET / HTTP/1.1\r\nHost: h\r\nX-Berth: 1\r\nx-berth: 2\r\nX-Empty:\r\nX-Latin: caf\xe9\r\n\r\n", line: "GET / HTTP/1.1",
			fields: []string{"Host: h", "X-Berth: 1", "X-Berth: 2", "X-Empty: ", "X-Latin: caf\xe9"}},
		{name: "fields of the hop", send: "GET / HTTP/1.1\r\nHost: h\r\nConnection: keep-alive, X-Secret\r\nX-Secret: s\r\nKeep-Alive: timeout=5\r\nProxy-Authorization: p\r\nProxy-Connection: close\r\nTE: trailers, deflate\r\nUpgrade: h2c\r\nX-Kept: k\r\n\r\n",
			line: "GET / HTTP/1.1", fields: []string{"Host: h", "Te: trailers", "X-Kept: k"}},
		{name: "what a caller says of others", send: "GET / HTTP/1.1\r\nHost: h\r\nForwarded: for=1.2.3.4\r\nX-Forwarded-For: 1.2.3.4\r\nX-Forwarded-Proto: https\r\n\r\n", line: "GET / HTTP/1.1", fields: []string{"Host: h"}},
		{name: "no name of a program is made up", send: "POST /a HTTP/1.1\r\nHost: h\r\nContent-Length: 0\r\n\r\n", line: "POST /a HTTP/1.1", fields: []string{"Content-Length: 0", "Host: h"}},
		{name: "a body of a length", send: "PUT /a HTTP/1.1\r\nHost: h\r\nContent-Length: 5\r\n\r\nhello", line: "PUT /a HTTP/1.1", fields: []string{"Content-Length: 5", "Host: h"}, body: "hello"},
		{name: "a body of a GET", send: "GET /a HTTP/1.1\r\nHost: h\r\nContent-Length: 5\r\n\r\nhello", line: "GET /a HTTP/1.1", fields: []string{"Content-Length: 5", "Host: h"}, body: "hello"},
		{name: "chunks with fields after them", send: "POST /a HTTP/1.1\r\nHost: h\r\nTransfer-Encoding: chunked\r\nTrailer: Checksum\r\n\r\n3;ext=1\r\nhel\r\n2\r\nlo\r\n0\r\nChecksum: 7f\r\n\r\n",
			line: "POST /a HTTP/1.1", fields: []string{"Host: h", "Trailer: Checksum", "Transfer-Encoding: chunked"}, body: "hello", after: "Checksum: 7f\r\n"},
		{name: "a method that nobody knows", send: "BREW /pot HTTP/1.1\r\nHost: h\r\nContent-Length: 2\r\n\r\nok", line: "BREW /pot HTTP/1.1", fields: []string{"Content-Length: 2", "Host: h"}, body: "ok"},
		{name: "an old caller", send: "GET /a HTTP/1.0\r\n\r\n", line: "GET /a HTTP/1.1", fields: []string{"Host: "}},
	} {
		got := talk(t, f.address, c.send, ends("ok"))
		if !strings.Contains(got, " 200 OK\r\n") {
			t.Errorf("%s: answered %q", c.name, got)
			continue
		}
		h := waittest.For(t, c.name, target.heard)
		if h.line != c.line || !slices.Equal(h.fields, c.fields) || h.body != c.body || h.after != c.after {
			t.Errorf("%s: the target heard\n  %q\n  %q\n  %q %q", c.name, h.line, h.fields, h.body, h.after)
		}
	}
	for _, method := range []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE"} {
		talk(t, f.address, method+" /m HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n", ends("never"))
		if h := waittest.For(t, method, target.heard); h.line != method+" /m HTTP/1.1" {
			t.Errorf("%s: the target heard %q", method, h.line)
		}
	}
}

// TestSmuggledRequests: bytes that one side could take for another request than the other never
// are two requests to a target.
func TestSmuggledRequests(t *testing.T) {
	f, target := hand(t, says(fine))
	const hidden = "GET /hidden HTTP/1.1\r\nHost: h\r\n\r\n"
	head := "POST /seen HTTP/1.1\r\nHost: h\r\n"
	for name, send := range map[string]string{
		"two lengths":                  head + "Content-Length: 0\r\nContent-Length: 35\r\n\r\n" + hidden,
		"a list of lengths":            head + "Content-Length: 0, 35\r\n\r\n" + hidden,
		"a length with a sign":         head + "Content-Length: +0\r\n\r\n" + hidden,
		"a length that is none":        head + "Content-Length: 0x0\r\n\r\n" + hidden,
		"a space before the colon":     head + "Content-Length : 0\r\n\r\n" + hidden,
		"a coding that nobody knows":   head + "Transfer-Encoding: xchunked\r\n\r\n" + hidden,
		"two codings":                  head + "Transfer-Encoding: chunked, identity\r\n\r\n0\r\n\r\n" + hidden,
		"the coding twice":             head + "Transfer-Encoding: chunked\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n" + hidden,
		"a chunk that is too long":     head + "Transfer-Encoding: chunked\r\n\r\nfffffffffffffffff\r\n" + hidden,
		"a chunk with a sign":          head + "Transfer-Encoding: chunked\r\n\r\n-1\r\n" + hidden,
		"an end of a line in a value":  head + "X-A: a\rContent-Length: 35\r\n\r\n" + hidden,
		"a nought in a value":          head + "X-A: a\x00\r\n\r\n" + hidden,
		"a nought in a name":           head + "X\x00A: a\r\n\r\n" + hidden,
		"no host":                      "GET /seen HTTP/1.1\r\n\r\n" + hidden,
		"two hosts":                    "GET /seen HTTP/1.1\r\nHost: a\r\nHost: b\r\n\r\n" + hidden,
		"a host that is none":          "GET /seen HTTP/1.1\r\nHost: a/b@c\r\n\r\n" + hidden,
		"a version that there is not":  "GET /seen HTTP/3.7\r\nHost: h\r\n\r\n" + hidden,
		"a path with an end of a line": "GET /se\ren HTTP/1.1\r\nHost: h\r\n\r\n" + hidden,
		"to elsewhere":                 "CONNECT elsewhere:443 HTTP/1.1\r\nHost: elsewhere:443\r\n\r\n" + hidden,
	} {
		got := talk(t, f.address, strings.ReplaceAll(send, "Host: h\r\n\r\n", "Host: h\r\nConnection: close\r\n\r\n"), ends("never"))
		status, _, _ := strings.Cut(got, "\r\n")
		if !strings.HasPrefix(status, "HTTP/1.1 4") && !strings.HasPrefix(status, "HTTP/1.1 5") {
			t.Errorf("%s: answered %q", name, got)
		}
		select {
		case h := <-target.heard:
			t.Errorf("%s: the target heard %q with %q", name, h.line, h.body)
		default:
		}
	}
	// With a length and chunks the chunks count (RFC 9112, section 6.3), for both sides.
	talk(t, f.address, head+"Content-Length: 4\r\nTransfer-Encoding: chunked\r\n\r\n1\r\nx\r\n0\r\n\r\n", ends("ok"))
	var h heard
	for h = range target.heard {
		if h.line == "POST /seen HTTP/1.1" {
			break
		}
	}
	if h.body != "x" || slices.ContainsFunc(h.fields, func(f string) bool { return strings.HasPrefix(f, "Content-Length") }) {
		t.Errorf("with a length and chunks the target heard %q %q", h.fields, h.body)
	}
}

// TestAnswersToTheByte holds what a caller gets against what a target said.
func TestAnswersToTheByte(t *testing.T) {
	for _, c := range []struct{ name, method, says, want string }{
		{"a length", "GET", "HTTP/1.1 200 Fine\r\nContent-Length: 2\r\nX-A: 1\r\nX-A: 2\r\n\r\nok", "HTTP/1.1 200 OK\r\nContent-Length: 2\r\nX-A: 1\r\nX-A: 2\r\n\r\nok"},
		{"chunks and fields after them", "GET", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nTrailer: Checksum\r\n\r\n2\r\nok\r\n0\r\nChecksum: 7f\r\n\r\n",
			"HTTP/1.1 200 OK\r\nTrailer: Checksum\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\nChecksum: 7f\r\n\r\n"},
		{"fields after chunks that nobody announced", "GET", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\nChecksum: 7f\r\n\r\n",
			"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\nChecksum: 7f\r\n\r\n"},
		{"until it ends", "GET", "HTTP/1.1 200 OK\r\n\r\nok", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\n\r\n"},
		{"fields of the hop", "GET", "HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: close, X-Secret\r\nX-Secret: s\r\nKeep-Alive: timeout=5\r\nProxy-Authenticate: p\r\nUpgrade: h2c\r\n\r\nok",
			"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"},
		{"fields that it names to be of the hop", "GET", "HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: X-Secret\r\nX-Secret: s\r\nX-A: 1\r\n\r\nok", "HTTP/1.1 200 OK\r\nContent-Length: 2\r\nX-A: 1\r\n\r\nok"},
		{"the head alone", "HEAD", "HTTP/1.1 200 OK\r\nContent-Length: 700\r\n\r\n", "HTTP/1.1 200 OK\r\nContent-Length: 700\r\n\r\n"},
		{"nothing", "GET", "HTTP/1.1 204 No Content\r\nX-A: 1\r\n\r\n", "HTTP/1.1 204 No Content\r\nX-A: 1\r\n\r\n"},
		{"nothing new", "GET", "HTTP/1.1 304 Not Modified\r\nEtag: \"1\"\r\n\r\n", "HTTP/1.1 304 Not Modified\r\nEtag: \"1\"\r\n\r\n"},
		{"a status that nobody knows", "GET", "HTTP/1.1 599 Odd\r\nContent-Length: 2\r\n\r\nok", "HTTP/1.1 599 status code 599\r\nContent-Length: 2\r\n\r\nok"},
		{"hints before it", "GET", "HTTP/1.1 103 Early Hints\r\nLink: </a.css>\r\n\r\nHTTP/1.1 102 Processing\r\n\r\n" + fine,
			"HTTP/1.1 103 Early Hints\r\nLink: </a.css>\r\n\r\nHTTP/1.1 102 Processing\r\n\r\nHTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"},
		{"a word to go on that nobody asked for", "GET", "HTTP/1.1 100 Continue\r\n\r\n" + fine, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"},
		{"an old target", "GET", "HTTP/1.0 200 OK\r\nContent-Length: 2\r\n\r\nok", "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"},
		{"no kind is guessed", "GET", "HTTP/1.1 200 OK\r\nContent-Length: 6\r\n\r\n<html>", "HTTP/1.1 200 OK\r\nContent-Length: 6\r\n\r\n<html>"},
	} {
		f, _ := hand(t, func(conn net.Conn, _ heard) {
			fmt.Fprint(conn, c.says)
			if c.name == "until it ends" {
				conn.Close()
			}
		})
		got := withoutDate(talk(t, f.address, c.method+" / HTTP/1.1\r\nHost: h\r\n\r\n", func(got string) bool { return withoutDate(got) == c.want }))
		if got != c.want {
			t.Errorf("%s: the caller got\n  %q, want\n  %q", c.name, got, c.want)
		}
	}
}

// TestBrokenAnswers: what is no whole answer is none to a caller either.
func TestBrokenAnswers(t *testing.T) {
	for _, c := range []struct{ name, says, want, not string }{
		{"cut in its body", "HTTP/1.1 200 OK\r\nContent-Length: 10\r\n\r\nhalf", "half", "none"},
		{"cut in a chunk", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nha", "ha", "0\r\n\r\n"},
		{"cut after a chunk", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n4\r\nhalf\r\n", "half", "0\r\n\r\n"},
		{"cut in its head", "HTTP/1.1 200 OK\r\nContent-", "HTTP/1.1 502 ", "200"},
		{"no HTTP", "SSH-2.0-server\r\n\r\n", "HTTP/1.1 502 ", "SSH"},
		{"two lengths", "HTTP/1.1 200 OK\r\nContent-Length: 2\r\nContent-Length: 3\r\n\r\nok", "HTTP/1.1 502 ", "200"},
		{"a head without end", "HTTP/1.1 200 OK\r\nX-A: " + strings.Repeat("a", headOfAnswer) + "\r\n\r\n", "HTTP/1.1 502 ", "200"},
		{"another protocol than asked for", "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: odd\r\n\r\n", "HTTP/1.1 502 ", "101"},
	} {
		f, _ := hand(t, func(conn net.Conn, _ heard) {
			fmt.Fprint(conn, c.says)
			conn.Close()
		})
		got := talk(t, f.address, "POST / HTTP/1.1\r\nHost: h\r\nContent-Length: 0\r\nConnection: close\r\n\r\n", ends("never"))
		if !strings.Contains(got, c.want) || strings.Contains(got, c.not) {
			t.Errorf("%s: the caller got %q", c.name, got)
		}
	}
}

// TestWhatATargetSaysUnasked is nobody's answer: not with the answer, and not later.
func TestWhatATargetSaysUnasked(t *testing.T) {
	for name, late := range map[string]bool{"at once": false, "later": true} {
		said := make(chan bool, 10)
		f, target := hand(t, func(c net.Conn, h heard) {
			if !late {
				fmt.Fprint(c, fine+"HTTP/1.1 200 OK\r\nContent-Length: 6\r\n\r\nforged")
				return
			}
			fmt.Fprint(c, fine)
			time.AfterFunc(20*time.Millisecond, func() {
				fmt.Fprint(c, "HTTP/1.1 408 Request Timeout\r\nContent-Length: 6\r\n\r\nforged")
				said <- true
			})
		})
		for range 3 {
			if got := talk(t, f.address, "POST / HTTP/1.1\r\nHost: h\r\nContent-Length: 0\r\n\r\n", ends("ok")); strings.Contains(got, "forged") || !strings.Contains(got, "200") {
				t.Errorf("%s: a caller got %q", name, got)
			}
			waittest.For(t, "the request", target.heard)
			if late {
				waittest.For(t, "the word", said)
			}
		}
	}
}

// TestPipelined: requests that come all at once are answered in their order.
func TestPipelined(t *testing.T) {
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "of ", r.URL.Path) })
	send := "GET /1 HTTP/1.1\r\nHost: h\r\n\r\nPOST /2 HTTP/1.1\r\nHost: h\r\nContent-Length: 4\r\n\r\nbodyGET /3 HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n"
	got := talk(t, f.address, send, ends("never"))
	one, two, three := strings.Index(got, "of /1"), strings.Index(got, "of /2"), strings.Index(got, "of /3")
	if one < 0 || two < one || three < two {
		t.Errorf("the caller got %q", got)
	}
}
