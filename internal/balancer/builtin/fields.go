package builtin

import (
	"context"
	"encoding/hex"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strings"

	"unitas/internal/balancer/form"
)

// outbound is the request as a target gets it: what came in goes out, to the byte, but for what
// is of the connection and what a caller may not say of others, and the form of its path. Each
// attempt has one of its own, for a transport may still read it when it has given up.
func (x *exchange) outbound(ctx context.Context, t *target) *http.Request {
	in := x.in
	connection := in.Header["Connection"]
	h := make(http.Header, len(in.Header)+5)
	for name, values := range in.Header {
		if !form.Stays(name, connection) {
			h[name] = values
		}
	}
	if form.Named(in.Header["Te"], "trailers") {
		h["Te"] = []string{"trailers"}
	}
	if x.upgrade != "" {
		h["Connection"], h["Upgrade"] = []string{"Upgrade"}, []string{x.upgrade}
	}
	proto := "http"
	if x.link.secure {
		proto = "https"
	}
	// One array for all.
	own := [...]string{x.link.address, in.Host, proto, x.requestID, x.trace}
	h["X-Forwarded-For"], h["X-Forwarded-Host"], h["X-Forwarded-Proto"] = own[0:1:1], own[1:2:2], own[2:3:3]
	h["X-Request-Id"], h["Traceparent"] = own[3:4:4], own[4:5:5]
	out := in.WithContext(ctx) // a copy
	out.URL, out.Header = &url.URL{Scheme: "http", Host: t.host, Opaque: x.asked.Target}, h
	out.Proto, out.ProtoMajor, out.ProtoMinor = "HTTP/1.1", 1, 1
	out.Body, out.Trailer, out.TransferEncoding, out.RequestURI, out.Close = nil, nil, nil, "", false
	if up := t.upstream.Load(); up.other != nil {
		if _, named := h["User-Agent"]; !named {
			h["User-Agent"] = nil // none is added
		}
		if strings.HasPrefix(x.asked.Target, "//") { // those transports take that for a host
			path, query, asks := strings.Cut(x.asked.Target, "?")
			out.URL.Opaque, out.URL.RawPath, out.URL.RawQuery, out.URL.ForceQuery = "", path, query, asks
			out.URL.Path, _ = url.PathUnescape(path)
		}
	}
	for name := range in.Trailer {
		if form.IsTrailer(name) {
			if out.Trailer == nil {
				out.Trailer = http.Header{}
			}
			out.Trailer[name] = nil
		}
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
