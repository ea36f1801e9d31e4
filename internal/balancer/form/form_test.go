package form

import (
	"bufio"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
)

// asked is a request for a target, as a server has it.
func asked(method, host, target string) *http.Request {
	return &http.Request{Method: method, Host: host, RequestURI: target, ProtoMajor: 2, Header: http.Header{}}
}

func TestTargets(t *testing.T) {
	for _, c := range []struct{ target, sent, path string }{
		{"/", "/", "/"},
		{"/a/b", "/a/b", "/a/b"},
		{"/a/./b/../c?x=/../y", "/a/c?x=/../y", "/a/c"},
		{"/a/..", "/", "/"},
		{"/..", "/", "/"},
		{"/.", "/", "/"},
		{"/a/.", "/a/", "/a/"},
		{"//..", "/", "/"},
		{"//a//../b", "//a/b", "//a/b"},
		{"/%2e%2E/a/%2e", "/a/", "/a/"},
		{"/.%2e/a", "/a", "/a"},
		{"/...", "/...", "/..."},
		{"/....", "/....", "/...."},
		{"/.a/..b", "/.a/..b", "/.a/..b"},
		{"/%61%2Fb%2f%3F", "/%61%2Fb%2f%3F", "/a%2Fb%2F?"},
		{"/a|b{c}", "/a|b{c}", "/a|b{c}"},
		{"/?", "/?", "/"},
		{"/a?b?c", "/a?b?c", "/a"},
	} {
		got, err := Read(asked("GET", "h", c.target))
		if err != nil || got.Target != c.sent || got.Path != c.path {
			t.Errorf("%s: sent as %q, routed as %q, %v", c.target, got.Target, got.Path, err)
		}
	}
	for _, bad := range []string{"", "a", "*", "/a b", "/a\\b", "/a#b", "/%", "/%4", "/%zz", "/\x7f", "/\xe9", "/a?b c", "/a?#", "http://h/a", "/\t"} {
		if got, err := Read(asked("GET", "h", bad)); err == nil {
			t.Errorf("%q: passes as %+v", bad, got)
		}
	}
	absolute := asked("GET", "fares.example", "HTTP://fares.example?q")
	absolute.ProtoMajor = 1
	if got, err := Read(absolute); err != nil || got.Target != "/?q" {
		t.Errorf("an absolute one is sent as %q, %v", got.Target, err)
	}
	for _, bad := range []string{"ftp://h/", "http://me@h/", "mailto:x"} {
		absolute.RequestURI = bad
		if got, err := Read(absolute); err == nil {
			t.Errorf("%q: passes as %+v", bad, got)
		}
	}
}

func TestHosts(t *testing.T) {
	for host, good := range map[string]bool{
		"h": true, "h:80": true, "h:": true, "a.b-c_d~e": true, "[::1]": true, "[::1]:8000": true, "127.0.0.1:1": true, "%41b": true, "a!$&'()*+,;=b": true,
		"h:8x": false, "h:123456": false, "h/x": false, "me@h": false, "h x": false, "[::1": false, "[]": false, "[::1]x": false, "[g]": false, ":80": false, "h:1:2": false, "%4": false, "h\x00": false, "h\xe9": false, "": false,
	} {
		if _, err := Read(asked("GET", host, "/")); (err == nil) != good {
			t.Errorf("the host %q: %v", host, err)
		}
	}
}

func TestFieldsThatStay(t *testing.T) {
	for name, stays := range map[string]bool{
		"Accept": false, "X_kept": false, "X-Forwarded-For": true, "X_forwarded_for": true, "X-Forwarded_host": true, "Content_length": true, "Transfer_encoding": true,
		"Connection": true, "Http2-Settings": true, "Http2_settings": true, "Named": true, "Traceparent": true, "Host": true,
	} {
		if Stays(name, []string{"close, named"}) != stays {
			t.Errorf("%s: stays is %t", name, !stays)
		}
	}
	for name, may := range map[string]bool{"Checksum": true, "Grpc-Status": true, "connection": false, "X_Forwarded_For": false, "Content-Length": false, "Authorization": false, "Trailer": false, "host": false} {
		if IsTrailer(name) != may {
			t.Errorf("%s: may come after a body is %t", name, !may)
		}
	}
	if !AreTrailers(http.Header{"A": {"b"}}) || AreTrailers(http.Header{"A b": {"c"}}) || AreTrailers(http.Header{"A": {"b\x01"}}) {
		t.Error("trailers are taken for what they are not")
	}
}

// literal removes dot segments by the letter of RFC 3986, section 5.2.4: slow, and obvious.
func literal(in string) string {
	out := ""
	for in != "" {
		switch {
		case strings.HasPrefix(in, "../"):
			in = in[3:]
		case strings.HasPrefix(in, "./"):
			in = in[2:]
		case strings.HasPrefix(in, "/./"):
			in = in[2:]
		case in == "/.":
			in = "/"
		case strings.HasPrefix(in, "/../"), in == "/..":
			in = "/" + strings.TrimPrefix(in[3:], "/")
			out = out[:max(0, strings.LastIndexByte(out, '/'))]
		case in == ".", in == "..":
			in = ""
		default:
			end := strings.IndexByte(in[1:], '/') + 1
			if end == 0 {
				end = len(in)
			}
			out, in = out+in[:end], in[end:]
		}
	}
	return out
}

// FuzzRequest: what passes is one request to net/http's own reader, the one that was routed: its
// method, host and target are the same, and nothing is left over.
func FuzzRequest(f *testing.F) {
	f.Add("GET", "h", "/a/../b?c")
	f.Add("GET /admin HTTP/1.1\r\nX: ", "h", "/fares")
	f.Add("OPTIONS", "[::1]:80", "*")
	f.Add("PUT", "a%41", "//x/%2e%2e/%2F/..")
	f.Add("GET", "h", "/a b HTTP/1.1\r\n\r\nGET /b")
	f.Fuzz(func(t *testing.T, method, host, target string) {
		got, err := Read(asked(method, host, target))
		if err != nil {
			return
		}
		wire := method + " " + got.Target + " HTTP/1.1\r\nHost: " + host + "\r\n\r\n"
		r := bufio.NewReader(strings.NewReader(wire))
		read, err := http.ReadRequest(r)
		if err != nil {
			t.Fatalf("%q passes, and cannot be read: %v", wire, err)
		}
		if read.Method != method || read.Host != host || read.RequestURI != got.Target || r.Buffered() > 0 || len(read.Header) > 0 {
			t.Fatalf("%q is read as %s %q of %q with %v", wire, read.Method, read.RequestURI, read.Host, read.Header)
		}
		if got.Target == "*" {
			return
		}
		path, _, _ := strings.Cut(target, "?")
		sent, _, _ := strings.Cut(got.Target, "?")
		dotted := strings.NewReplacer("%2e", ".", "%2E", ".").Replace
		if want := literal(dotted(path)); dotted(sent) != want {
			t.Fatalf("%q is sent as %q, by the letter it is %q", path, sent, want)
		}
		// Routed as it is read there: each segment for itself.
		for i, segment := range strings.Split(sent, "/") {
			plain, err := url.PathUnescape(segment)
			if err != nil {
				t.Fatalf("%q: %v", segment, err)
			}
			routed := strings.Split(got.Path, "/")
			if i >= len(routed) || routed[i] != strings.ReplaceAll(plain, "/", "%2F") {
				t.Fatalf("%q is routed as %q", sent, got.Path)
			}
		}
	})
}

// FuzzFields: of a head that net/http reads, what is passed on is read as the same fields again, and
// none of them is one that we write ourselves, in any spelling.
func FuzzFields(f *testing.F) {
	f.Add("X-A: b\r\nx-a: c\r\nConnection: close, X-B\r\nX-B: d\r\n")
	f.Add("X_Forwarded_For: 1.2.3.4\r\nTransfer_Encoding: chunked\r\n")
	f.Add("Upgrade: h2c\r\nHTTP2-Settings: x\r\n")
	f.Add("0:0\r\n \r\n") // folded: net/http leaves the space, which is none of the value (RFC 9112, section 5.1)
	f.Fuzz(func(t *testing.T, head string) {
		in, err := http.ReadRequest(bufio.NewReader(strings.NewReader("GET / HTTP/1.1\r\nHost: h\r\n" + head + "\r\n\r\n")))
		if err != nil {
			return
		}
		var out strings.Builder
		kept := 0
		for name, values := range in.Header {
			if Stays(name, in.Header["Connection"]) {
				continue
			}
			same := http.CanonicalHeaderKey(strings.ReplaceAll(name, "_", "-"))
			for _, ours := range []string{"X-Forwarded-For", "X-Forwarded-Proto", "X-Forwarded-Host", "Content-Length", "Transfer-Encoding", "Connection", "Host", "Upgrade", "Te", "Trailer"} {
				if same == ours {
					t.Fatalf("%q is passed on", name)
				}
			}
			kept += len(values)
			for _, v := range values {
				out.WriteString(name + ": " + v + "\r\n")
			}
		}
		again, err := http.ReadRequest(bufio.NewReader(strings.NewReader("GET / HTTP/1.1\r\nHost: h\r\n" + out.String() + "\r\n")))
		if err != nil {
			return // a value that net/http's own server refuses, as ours does
		}
		for name, values := range again.Header {
			kept -= len(values)
			same := func(got, sent string) bool { return got == strings.Trim(sent, " \t") }
			if !slices.EqualFunc(values, in.Header[name], same) {
				t.Fatalf("%q: %q was %q", name, values, in.Header[name])
			}
		}
		if kept != 0 {
			t.Fatalf("%q became %v", out.String(), again.Header)
		}
	})
}
