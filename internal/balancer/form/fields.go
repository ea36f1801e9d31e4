package form

import (
	"net/http"
	"net/textproto"
	"slices"
	"strings"

	"golang.org/x/net/http/httpguts"
)

// IsOfTheHop reports whether a field is of one connection and no other (RFC 9110, section
// 7.6.1), by its canonical name.
func IsOfTheHop(name string) bool {
	switch name {
	case "Connection", "Proxy-Connection", "Keep-Alive", "Proxy-Authenticate", "Proxy-Authorization", "Te", "Trailer", "Transfer-Encoding", "Upgrade", "Http2-Settings":
		return true
	}
	return false
}

// isOurs reports whether a field is written by us for a target, whatever a caller says, by its
// canonical name: those of the request itself, and who it is from (RFC 7239, section 8.1).
func isOurs(name string) bool {
	switch name {
	case "Host", "Content-Length", "Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto", "X-Request-Id", "Traceparent":
		return true
	}
	return false
}

// folded is the name that programs take a field with underscores for, many of which cannot tell
// one from a hyphen.
func folded(name string) string {
	if strings.IndexByte(name, '_') < 0 {
		return name
	}
	return textproto.CanonicalMIMEHeaderKey(strings.ReplaceAll(name, "_", "-"))
}

// Stays reports whether a field of a request stays here, by its canonical name; connection is the
// Connection field, which may name more.
func Stays(name string, connection []string) bool {
	f := folded(name)
	return isOurs(f) || IsOfTheHop(f) || (connection != nil && Named(connection, name))
}

// IsTrailer reports whether a field may come after a body (RFC 9110, section 6.5.1): it says
// nothing of how the message is read or where it goes, nor of who it is from.
func IsTrailer(name string) bool {
	f := folded(textproto.CanonicalMIMEHeaderKey(name))
	switch f {
	case "Authorization", "Cookie", "Set-Cookie", "Content-Encoding", "Content-Type", "Content-Range", "Expect", "Max-Forwards", "Cache-Control", "Range", "Www-Authenticate":
		return false
	}
	return !isOurs(f) && !IsOfTheHop(f)
}

// AreTrailers reports whether fields that came after a body are some that can be written: the
// servers that read them look at less than at those before it.
func AreTrailers(h http.Header) bool {
	for name, values := range h {
		if !isToken(name) || slices.ContainsFunc(values, func(v string) bool { return !httpguts.ValidHeaderFieldValue(v) }) {
			return false
		}
	}
	return true
}

// Named reports whether a field that is a list of tokens, such as Connection, has one of the name.
func Named(field []string, name string) bool {
	for _, all := range field {
		for one := range strings.SplitSeq(all, ",") {
			if strings.EqualFold(strings.TrimSpace(one), name) {
				return true
			}
		}
	}
	return false
}

// Upgrade is the part of an Upgrade field that may be passed on, of the names that may; "" when
// none is. HTTP/2 in clear never may: what followed would go past all that is looked at here.
func Upgrade(r *http.Request, may []string) string {
	if r.ProtoMajor != 1 || r.ProtoMinor == 0 || len(r.Header["Upgrade"]) == 0 || !Named(r.Header["Connection"], "Upgrade") {
		return ""
	}
	var kept []string
	for _, all := range r.Header["Upgrade"] {
		for one := range strings.SplitSeq(all, ",") {
			one = strings.TrimSpace(one)
			if !strings.EqualFold(one, "h2c") && slices.ContainsFunc(may, func(m string) bool { return strings.EqualFold(m, one) }) {
				kept = append(kept, one)
			}
		}
	}
	return strings.Join(kept, ", ")
}
