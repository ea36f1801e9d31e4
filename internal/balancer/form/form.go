// Package form is what a request must look like to be passed on, and what of it is: its method,
// target and host by RFC 9112 and RFC 9113 (sections 8.2, 8.3 and 10.3), the one form of a path
// that is routed by and sent, and whose each field is. It is asked before any route, so that no
// target reads another request than the one that was routed.
package form

import (
	"errors"
	"net/http"
	"strconv"
	"strings"

	"golang.org/x/net/http/httpguts"
)

// Request is what a request asks for.
type Request struct {
	// Target is what a target gets: path and query as they were written, but without dot
	// segments; or "*".
	Target string
	// Path is what routes are held against: that path with its escapes resolved, but for %2F,
	// which stays so that it splits nothing.
	Path string
}

// Faults of requests.
var (
	errMethod  = errors.New("its method is not a name")
	errTarget  = errors.New("its path or query has what none may have: a space, a control character, #, \\, a byte beyond ASCII or a broken escape; or it does not begin with a slash")
	errScheme  = errors.New("it asks for what is neither of http nor of https")
	errHost    = errors.New("its host is not a name or an address, with a port or without")
	errHosts   = errors.New("it names two hosts")
	errNoHost  = errors.New("it names no host")
	errLength  = errors.New("its Content-Length is not a number")
	errTrailer = errors.New("a field that its Trailer announces is not a name")
)

// Read is what a request asks for, or why it is none. The server that read it has held its fields
// against the standard already.
func Read(r *http.Request) (Request, error) {
	if !isToken(r.Method) {
		return Request{}, errMethod
	}
	if err := hosts(r); err != nil {
		return Request{}, err
	}
	if r.ProtoMajor >= 2 {
		if err := length(r); err != nil {
			return Request{}, err
		}
	}
	for name := range r.Trailer {
		if !isToken(name) {
			return Request{}, errTrailer
		}
	}
	return target(r)
}

func isToken(s string) bool { return httpguts.ValidHeaderFieldName(s) }

// hosts holds the host against RFC 9112, section 3.2, and RFC 9113, section 8.3.1.
func hosts(r *http.Request) error {
	if !isHost(r.Host) {
		return errHost
	}
	if r.ProtoMajor < 2 {
		return nil // two, or none of HTTP/1.1, are refused where it is read
	}
	if r.Host == "" {
		return errNoHost
	}
	if also := r.Header["Host"]; len(also) > 1 || (len(also) == 1 && !strings.EqualFold(also[0], r.Host)) {
		return errHosts
	}
	return nil
}

// isHost reports whether a text is a host with a port or without (RFC 3986, section 3.2, without
// a user). None is one, of HTTP/1.0.
func isHost(host string) bool {
	if rest, ok := strings.CutPrefix(host, "["); ok {
		ip, port, closed := strings.Cut(rest, "]")
		if !closed || ip == "" || strings.Trim(ip, "0123456789abcdefABCDEF:.") != "" {
			return false
		}
		return port == "" || isPort(port)
	}
	name := host
	if i := strings.IndexByte(host, ':'); i >= 0 {
		name = host[:i]
		if name == "" || !isPort(host[i:]) {
			return false
		}
	}
	for i := 0; i < len(name); i++ {
		switch c := name[i]; {
		case c == '%':
			if i+2 >= len(name) || !isHex(name[i+1]) || !isHex(name[i+2]) {
				return false
			}
			i += 2
		case !isUnreserved(c) && strings.IndexByte("!$&'()*+,;=", c) < 0:
			return false
		}
	}
	return true
}

// isPort reports whether a text is a colon with a port, which may be empty.
func isPort(s string) bool {
	return s[0] == ':' && len(s) <= 6 && strings.Trim(s[1:], "0123456789") == ""
}

// length refuses a length that the server of HTTP/2 takes for none.
func length(r *http.Request) error {
	all := r.Header["Content-Length"]
	if len(all) == 0 {
		return nil
	}
	if n, err := strconv.ParseInt(all[0], 10, 63); len(all) > 1 || err != nil || n < 0 || all[0][0] == '+' {
		return errLength
	}
	return nil
}

// target reads what is asked for, in any of its forms (RFC 9112, section 3.2).
func target(r *http.Request) (Request, error) {
	asked := r.RequestURI
	if asked == "*" {
		if r.Method != http.MethodOptions {
			return Request{}, errTarget
		}
		return Request{Target: "*", Path: "*"}, nil
	}
	if !strings.HasPrefix(asked, "/") {
		scheme, rest, ok := strings.Cut(asked, "://")
		if !ok || r.ProtoMajor >= 2 {
			return Request{}, errTarget
		}
		if !strings.EqualFold(scheme, "http") && !strings.EqualFold(scheme, "https") {
			return Request{}, errScheme
		}
		end := strings.IndexAny(rest, "/?")
		if end < 0 {
			end = len(rest)
		}
		if strings.IndexByte(rest[:end], '@') >= 0 {
			return Request{}, errHost
		}
		if asked = rest[end:]; asked == "" || asked[0] == '?' {
			asked = "/" + asked
		}
	}
	path, query, hasQuery := strings.Cut(asked, "?")
	plain, ok := look(path)
	if !ok || !isQuery(query) {
		return Request{}, errTarget
	}
	if plain {
		return Request{Target: asked, Path: path}, nil
	}
	path = withoutDots(path)
	out := Request{Target: path, Path: resolved(path)}
	if hasQuery {
		out.Target += "?" + query
	}
	return out, nil
}

// look holds the bytes of a path against RFC 3986, section 3.3, but lets pass what is not
// reserved and harms nobody, such as a bar or a brace. plain is set when there is nothing in it
// that could be written in another way.
func look(path string) (plain, ok bool) {
	plain = true
	for i := 0; i < len(path); i++ {
		switch c := path[i]; {
		case c <= ' ' || c >= 0x7f || c == '#' || c == '\\':
			return false, false
		case c == '%':
			if i+2 >= len(path) || !isHex(path[i+1]) || !isHex(path[i+2]) {
				return false, false
			}
			plain = false
		case c == '/' && i+1 < len(path) && path[i+1] == '.':
			plain = false
		}
	}
	return plain, true
}

func isQuery(query string) bool {
	for i := range len(query) {
		if c := query[i]; c <= ' ' || c >= 0x7f || c == '#' {
			return false
		}
	}
	return true
}

// withoutDots removes the dot segments of a path that begins with a slash (RFC 3986, section
// 5.2.4), also those whose dots are escaped, which are the same (section 6.2.2.2). Doubled
// slashes and escaped ones stay.
func withoutDots(path string) string {
	segments := strings.Split(path[1:], "/")
	kept := segments[:0]
	last := len(segments) - 1
	for i, s := range segments {
		n := dots(s)
		if n == 0 {
			kept = append(kept, s)
			continue
		}
		if n == 2 && len(kept) > 0 {
			kept = kept[:len(kept)-1]
		}
		if i == last {
			kept = append(kept, "")
		}
	}
	return "/" + strings.Join(kept, "/")
}

// dots is 1 or 2 for a segment that is so many dots, and 0 for any other.
func dots(segment string) (n int) {
	for segment != "" && n < 3 {
		switch {
		case segment[0] == '.':
			segment = segment[1:]
		case len(segment) >= 3 && segment[:2] == "%2" && (segment[2] == 'e' || segment[2] == 'E'):
			segment = segment[3:]
		default:
			return 0
		}
		n++
	}
	return n % 3
}

// resolved is a path without its escapes, but for those of a slash.
func resolved(path string) string {
	if strings.IndexByte(path, '%') < 0 {
		return path
	}
	var out strings.Builder
	for i := 0; i < len(path); i++ {
		if path[i] != '%' {
			out.WriteByte(path[i])
			continue
		}
		if c := unhex(path[i+1])<<4 | unhex(path[i+2]); c == '/' {
			out.WriteString("%2F")
		} else {
			out.WriteByte(c)
		}
		i += 2
	}
	return out.String()
}

func isUnreserved(c byte) bool {
	return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || c == '-' || c == '.' || c == '_' || c == '~'
}

func isHex(c byte) bool {
	return '0' <= c && c <= '9' || 'a' <= c && c <= 'f' || 'A' <= c && c <= 'F'
}

func unhex(c byte) byte {
	switch {
	case c <= '9':
		return c - '0'
	case c >= 'a':
		return c - 'a' + 10
	}
	return c - 'A' + 10
}
