package builtin

import (
	"bufio"
	"bytes"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"unitas/internal/fleet/traffic"
	"unitas/internal/waittest"
)

var heldSeed = flag.Uint64("held", 0, "the seed of the random requests; 0 for one by the clock")

// sent is a random request, as it is said and as it is to arrive.
type sent struct {
	method, path, query string
	fields              [][2]string // that a caller says
	body                string
	chunked             bool
	trailers            [][2]string
	bad                 string // why it is none, "" for a good one

	line  string   // that arrives
	heard []string // fields that arrive, sorted
	after []string
}

// dice make requests.
type dice struct{ *rand.Rand }

func (d dice) of(all ...string) string { return all[d.IntN(len(all))] }

func (d dice) text(set string, most int) string {
	out := make([]byte, d.IntN(most+1))
	for i := range out {
		out[i] = set[d.IntN(len(set))]
	}
	return string(out)
}

const (
	letters = "abcdefghijklmnopqrstuvwxyz"
	inPath  = letters + "ABCXYZ0123456789-._~!$&'()*+,;=:@|{}\"<>^`"
	inValue = letters + "ABC 0123456789-._~!$&'()*+,;=:@/?#[]{}|\\\"<>^`"
)

// request makes one, and says what is to arrive by rules that are written here anew.
func (d dice) request(h2 bool) (s sent) {
	s.method = d.of("GET", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "BREW", "M-SEARCH", "x'y")
	var segments []string
	for range 1 + d.IntN(6) {
		segments = append(segments, d.of(".", "..", "%2e", "%2E%2e", ".%2e", "", "a%2Fb", "%41", "%c3%a9", d.text(inPath, 8), d.text(inPath, 8)))
	}
	s.path = "/" + strings.Join(segments, "/")
	if d.IntN(3) == 0 {
		s.query = "?" + d.text(inPath+"/?%", 12)
	}
	want := [][2]string{}
	for range d.IntN(6) {
		name := d.of("X-A", "X-B", "x-a", "Accept", "X_c", "X-Forwarded-For", "x_forwarded_for", "X-Request_Id", "Keep-Alive", "Proxy-Authorization", "Forwarded", "Content_Length")
		value := strings.TrimSpace(d.text(inValue, 12))
		if h2 && (name == "Keep-Alive" || name == "Proxy-Authorization") {
			continue
		}
		s.fields = append(s.fields, [2]string{name, value})
		if slices.Contains([]string{"X-A", "X-B", "x-a", "Accept", "X_c"}, name) {
			want = append(want, [2]string{http.CanonicalHeaderKey(name), value})
		}
	}
	if d.IntN(2) == 0 {
		s.body, s.chunked = d.text(letters, 300), d.IntN(2) == 0
		if s.chunked && d.IntN(2) == 0 {
			s.trailers = [][2]string{{"Checksum", d.text(letters, 5)}, {d.of("X-Forwarded-For", "X-T", "Connection"), d.text(letters, 5)}}
		}
	}
	switch d.IntN(12) {
	case 0:
		s.method, s.bad = s.method+d.of(" ", "\t", "(", "\x00", "/", " /a HTTP/1.1"), "its method"
	case 1:
		s.path, s.bad = s.path+d.of(" ", "#", "\x7f", "\xe9", "\\", "%", "%zz", " HTTP/1.1"), "its path"
	}
	// By the letter: dots first, segment by segment.
	var kept []string
	for i, one := range strings.Split(s.path, "/")[1:] {
		last := i == strings.Count(s.path, "/")-1
		switch strings.NewReplacer("%2e", ".", "%2E", ".").Replace(one) {
		case ".":
		case "..":
			kept = kept[:max(0, len(kept)-1)]
		default:
			kept = append(kept, one)
			continue
		}
		if last {
			kept = append(kept, "")
		}
	}
	s.line = s.method + " /" + strings.Join(kept, "/") + s.query + " HTTP/1.1"
	for _, one := range want {
		s.heard = append(s.heard, one[0]+": "+one[1])
	}
	s.heard = append(s.heard, "Host: h")
	switch {
	case s.chunked:
		s.heard = append(s.heard, "Transfer-Encoding: chunked")
	case s.body != "" || slices.Contains([]string{"POST", "PUT", "PATCH"}, s.method):
		s.heard = append(s.heard, fmt.Sprint("Content-Length: ", len(s.body)))
	}
	for _, one := range s.trailers {
		if one[0] == "Checksum" || one[0] == "X-T" {
			s.after = append(s.after, one[0]+": "+one[1])
		}
	}
	slices.Sort(s.heard)
	slices.Sort(s.after)
	return s
}

// text is the request as HTTP/1.1 has it.
func (s *sent) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s%s HTTP/1.1\r\nHost: h\r\n", s.method, s.path, s.query)
	for _, one := range s.fields {
		fmt.Fprintf(&b, "%s: %s\r\n", one[0], one[1])
	}
	switch {
	case s.chunked:
		names := []string{}
		for _, one := range s.trailers {
			names = append(names, one[0])
		}
		if len(names) > 0 {
			fmt.Fprintf(&b, "Trailer: %s\r\n", strings.Join(names, ", "))
		}
		b.WriteString("Transfer-Encoding: chunked\r\n\r\n")
		for rest := s.body; rest != ""; {
			n := min(len(rest), 100)
			fmt.Fprintf(&b, "%x\r\n%s\r\n", n, rest[:n])
			rest = rest[n:]
		}
		b.WriteString("0\r\n")
		for _, one := range s.trailers {
			fmt.Fprintf(&b, "%s: %s\r\n", one[0], one[1])
		}
	case s.body != "":
		fmt.Fprintf(&b, "Content-Length: %d\r\n\r\n%s", len(s.body), s.body)
		return b.String()
	}
	b.WriteString("\r\n")
	return b.String()
}

// frames sends the request as HTTP/2 has it.
func (s *sent) frames(r *rawH2, stream uint32) {
	fields := []string{":method", s.method, ":scheme", "http", ":authority", "h", ":path", s.path + s.query}
	for _, one := range s.fields {
		fields = append(fields, strings.ToLower(one[0]), one[1])
	}
	if s.body != "" && !s.chunked {
		fields = append(fields, "content-length", fmt.Sprint(len(s.body)))
	}
	for _, one := range s.trailers {
		fields = append(fields, "trailer", strings.ToLower(one[0]))
	}
	_ = r.head(stream, s.body == "" && !s.chunked, fields...)
	if s.body == "" && !s.chunked {
		return
	}
	_ = r.WriteData(stream, len(s.trailers) == 0, []byte(s.body))
	if len(s.trailers) == 0 {
		return
	}
	var after []string
	for _, one := range s.trailers {
		if one[0] != "Connection" { // which the caller's side is refused for
			after = append(after, strings.ToLower(one[0]), one[1])
		}
	}
	_ = r.head(stream, true, after...)
}

// held is one caller with its requests, by one version.
type held struct {
	t       *testing.T
	f       *site
	target  *byHand
	answers chan string
	dice
}

// TestWhatIsSentArrives: ten thousand random requests by HTTP/1.1 and HTTP/2, said to the byte by a
// caller, heard to the byte by a target: what arrives is what rules say that are written down a
// second time here, and of what is none nothing arrives; and so for what the target answers.
func TestWhatIsSentArrives(t *testing.T) {
	t.Parallel()
	seed := *heldSeed
	if seed == 0 {
		seed = uint64(time.Now().UnixNano())
	}
	defer func() {
		if t.Failed() {
			t.Logf("again with -args -held %d", seed)
		}
	}()
	h := &held{t: t, answers: make(chan string, 1), dice: dice{rand.New(rand.NewPCG(seed, 1))}}
	h.f, h.target = hand(t, func(c net.Conn, _ heard) { fmt.Fprint(c, <-h.answers) })
	h.f.listen(func(l *traffic.Listener) { l.HTTP2 = true })
	var line net.Conn
	var r *bufio.Reader
	for range 5000 {
		if line == nil {
			c, err := net.Dial("tcp", h.f.address)
			if err != nil {
				t.Fatal(err)
			}
			_ = c.SetDeadline(time.Now().Add(waittest.Limit))
			line, r = c, bufio.NewReader(c)
		}
		s := h.request(false)
		h.ask(&s, func() (status, body string) {
			fmt.Fprint(line, s.text())
			res, err := http.ReadResponse(r, &http.Request{Method: s.method})
			if err != nil {
				return "", err.Error()
			}
			raw, err := io.ReadAll(res.Body)
			if err != nil || res.Close {
				line.Close()
				line = nil
			}
			return fmt.Sprint(res.StatusCode), string(raw)
		})
		if t.Failed() {
			return
		}
	}
	if line != nil {
		line.Close()
	}
	var h2 *rawH2
	stream := uint32(1)
	for range 5000 {
		if h2 == nil || stream > 200 {
			if h2 != nil {
				h2.Close()
			}
			h2, stream = h.f.http2(t), 1
		}
		s := h.request(true)
		h.ask(&s, func() (status, body string) {
			s.frames(h2, stream)
			return h2.answer(stream)
		})
		if stream += 2; s.bad != "" { // what was sent after it may end the connection
			stream = 1000
		}
		if t.Failed() {
			return
		}
	}
}

// ask sends a request, and holds what arrived against it.
func (h *held) ask(s *sent, send func() (status, body string)) {
	body, status := h.text(letters, 200), h.of("200", "404", "500", "299")
	answer := fmt.Sprintf("HTTP/1.1 %s Said\r\nContent-Length: %d\r\n\r\n%s", status, len(body), body)
	if h.IntN(2) == 0 {
		var b bytes.Buffer
		fmt.Fprintf(&b, "HTTP/1.1 %s Said\r\nTransfer-Encoding: chunked\r\n\r\n", status)
		for rest := body; rest != ""; {
			n := min(len(rest), 1+h.IntN(60))
			fmt.Fprintf(&b, "%x\r\n%s\r\n", n, rest[:n])
			rest = rest[n:]
		}
		b.WriteString("0\r\n\r\n")
		answer = b.String()
	}
	if s.bad == "" {
		h.answers <- answer
	}
	gotStatus, gotBody := send()
	if s.bad != "" {
		select {
		case got := <-h.target.heard:
			h.t.Errorf("%q (%s): the target heard %q", s.text(), s.bad, got.line)
		default:
		}
		if gotStatus != "400" && !strings.HasPrefix(gotBody, "reset: PROTOCOL") && !strings.HasPrefix(gotBody, "go away") {
			h.t.Errorf("%q (%s): answered %s %q", s.text(), s.bad, gotStatus, gotBody)
		}
		return
	}
	if gotStatus != status || gotBody != body {
		h.t.Errorf("%q: answered %s %q, the target said %s %q", s.text(), gotStatus, gotBody, status, body)
		return
	}
	got := waittest.For(h.t, "the request", h.target.heard)
	fields := slices.DeleteFunc(got.fields, func(f string) bool { return strings.HasPrefix(f, "Trailer: ") })
	after := strings.Split(strings.TrimSuffix(got.after, "\r\n"), "\r\n")
	if got.after == "" {
		after = nil
	}
	slices.Sort(after)
	if got.line != s.line || !slices.Equal(fields, s.heard) || got.body != s.body || !slices.Equal(after, s.after) {
		h.t.Errorf("of %q arrived\n  %q %q %q %q, should\n  %q %q %q %q", s.text(), got.line, fields, got.body, after, s.line, s.heard, s.body, s.after)
	}
}
