package builtin

import (
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strings"
)

// isOfTheHop reports whether a field is of one connection and no other (RFC 9110, section
// 7.6.1), by its canonical name.
func isOfTheHop(name string) bool {
	switch name {
	case "Connection", "Proxy-Connection", "Keep-Alive", "Proxy-Authenticate", "Proxy-Authorization", "Te", "Trailer", "Transfer-Encoding", "Upgrade":
		return true
	}
	return false
}

// named reports whether a field that is a list of tokens, such as Connection, has one of the name.
func named(field []string, name string) bool {
	for _, all := range field {
		for one := range strings.SplitSeq(all, ",") {
			if strings.EqualFold(strings.TrimSpace(one), name) {
				return true
			}
		}
	}
	return false
}

// outbound is the request as a target gets it: what came in goes out, to the byte, but for what
// is of the connection and what a caller may not say of others (RFC 7239, section 8.1). plain is
// set for our own wire, which sends a target as it was written.
func (x *exchange) outbound(in *http.Request, plain bool) *http.Request {
	connection := in.Header["Connection"]
	h := make(http.Header, len(in.Header)+6)
	for name, values := range in.Header {
		switch name {
		case "Host", "Content-Length", "Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto", "X-Request-Id", "Traceparent":
			continue
		}
		if isOfTheHop(name) || (connection != nil && named(connection, name)) {
			continue
		}
		h[name] = values
	}
	if named(in.Header["Te"], "trailers") {
		h["Te"] = []string{"trailers"}
	}
	if up := in.Header["Upgrade"]; len(up) == 1 && named(connection, "Upgrade") && in.ProtoMajor == 1 {
		h["Connection"], h["Upgrade"] = []string{"Upgrade"}, up
	}
	proto := "http"
	if x.link.secure {
		proto = "https"
	}
	// One array for all.
	own := [...]string{x.link.address, in.Host, proto, x.requestID, x.trace}
	h["X-Forwarded-For"], h["X-Forwarded-Host"], h["X-Forwarded-Proto"] = own[0:1:1], own[1:2:2], own[2:3:3]
	h["X-Request-Id"], h["Traceparent"] = own[3:4:4], own[4:5:5]
	out := &http.Request{Method: in.Method, Host: in.Host, Header: h, ContentLength: in.ContentLength, Trailer: in.Trailer, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
		URL: &url.URL{Scheme: "http", Path: in.URL.Path, RawPath: in.URL.RawPath, RawQuery: in.URL.RawQuery, ForceQuery: in.URL.ForceQuery}}
	if target := raw(in); target != "" && plain {
		out.URL.Opaque = target
	}
	out = out.WithContext(in.Context())
	if x.body != nil {
		x.body.out = out
	}
	return out
}

// identify gives a request the names that it goes by everywhere, those that it came with where
// they can be written.
func (x *exchange) identify() {
	x.requestID, x.trace = given(x.in.Header["X-Request-Id"]), traced(x.in.Header["Traceparent"])
	if x.requestID == "" {
		x.requestID = x.trace[3:35]
	}
}

// raw is what was asked for, as it was written: without scheme and authority.
func raw(in *http.Request) string {
	target := in.RequestURI
	if strings.HasPrefix(target, "/") || target == "*" {
		return target
	}
	_, rest, ok := strings.Cut(target, "://")
	if !ok {
		return ""
	}
	if i := strings.IndexAny(rest, "/?"); i >= 0 {
		rest = rest[i:]
	} else {
		rest = "/"
	}
	if rest[0] == '?' {
		rest = "/" + rest
	}
	return rest
}

// longestID is how long a request's name from outside may be.
const longestID = 128

// given is the name that a request came with, "" when it is none that can be written anywhere.
func given(values []string) string {
	if len(values) != 1 || len(values[0]) > longestID {
		return ""
	}
	for i := range len(values[0]) {
		if c := values[0][i]; c <= ' ' || c > '~' || c == '"' || c == '\\' {
			return ""
		}
	}
	return values[0]
}

// traced is the trace that a request came with, or a new one (W3C Trace Context, version 00).
func traced(values []string) string {
	if len(values) == 1 && isTrace(values[0]) {
		return values[0]
	}
	var raw [24]byte
	for i := 0; i < len(raw); i += 8 {
		n := rand.Uint64() | 1
		for k := range 8 {
			raw[i+k] = byte(n >> (8 * k))
		}
	}
	var out [55]byte
	copy(out[:], "00-")
	hex.Encode(out[3:], raw[:16])
	out[35] = '-'
	hex.Encode(out[36:], raw[16:])
	copy(out[52:], "-00")
	return string(out[:])
}

func isTrace(s string) bool {
	if len(s) < 55 || (len(s) > 55 && (s[:2] == "00" || s[55] != '-')) || len(s) > 512 || s[:2] == "ff" {
		return false
	}
	for i := range 55 {
		switch c := s[i]; {
		case i == 2 || i == 35 || i == 52:
			if c != '-' {
				return false
			}
		case (c < '0' || c > '9') && (c < 'a' || c > 'f'):
			return false
		}
	}
	return strings.Trim(s[3:35], "0") != "" && strings.Trim(s[36:52], "0") != ""
}

// inbound passes the fields of an answer on.
func inbound(to, from http.Header) {
	connection := from["Connection"]
	for name, values := range from {
		if isOfTheHop(name) || (connection != nil && named(connection, name)) {
			continue
		}
		if have := to[name]; have != nil {
			values = append(have[:len(have):len(have)], values...)
		}
		to[name] = values
	}
}

func tooLong(most int64) string {
	return fmt.Sprintf("The body is longer than the %d bytes that it may have.", most)
}
