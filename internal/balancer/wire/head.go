package wire

import (
	"bufio"
	"bytes"
	"io"
	"net/http"
	"net/textproto"
	"strconv"
	"strings"
)

// readAnswer reads the head of an answer. Most are plain, and are read here at a third of the cost;
// any that is not is net/http's to read.
func readAnswer(c *bufio.Reader, r *http.Request) (*http.Response, error) {
	head, _ := c.Peek(c.Buffered())
	if end := bytes.Index(head, []byte("\r\n\r\n")); end > 0 && r.Method != http.MethodHead {
		if res := plainAnswer(string(head[:end+2])); res != nil {
			_, _ = c.Discard(end + 4)
			res.Request, res.Body = r, http.NoBody
			if res.ContentLength > 0 {
				res.Body = &exact{c, res.ContentLength}
			}
			return res, nil
		}
	}
	res, err := http.ReadResponse(c, r)
	if err == nil && res.Close {
		dropNamed(res.Header, head)
	}
	return res, err
}

// plainAnswer reads a head that is all there, to the end of its last field: one of HTTP/1.1 and a
// final status, with a length, of fields that mean nothing to how it is read and are written as all
// do. nil when it is not.
func plainAnswer(head string) *http.Response {
	const proto = "HTTP/1.1"
	line, fields, _ := strings.Cut(head, "\r\n")
	status, ok := strings.CutPrefix(line, proto+" ")
	if !ok || len(status) < 3 || (len(status) > 3 && status[3] != ' ') || status[0] < '2' || !isPlain("", status) {
		return nil
	}
	code, err := strconv.Atoi(status[:3])
	if err != nil || code == http.StatusNoContent || code == http.StatusNotModified {
		return nil
	}
	n := strings.Count(fields, "\n")
	values := make([]string, n) // one array for all
	res := &http.Response{Status: status, StatusCode: code, Proto: proto, ProtoMajor: 1, ProtoMinor: 1, Header: make(http.Header, n), ContentLength: -1}
	for k := range n {
		line, fields, ok = strings.Cut(fields, "\r\n")
		colon := strings.IndexByte(line, ':')
		if !ok || colon <= 0 || !isPlain(line[:colon], line[colon+1:]) {
			return nil
		}
		name, value := textproto.CanonicalMIMEHeaderKey(line[:colon]), strings.Trim(line[colon+1:], " \t")
		switch name {
		case "Transfer-Encoding", "Pragma": // net/http says the second in words of today
			return nil
		case "Connection":
			if !strings.EqualFold(value, "keep-alive") {
				return nil
			}
		case "Content-Length":
			length, err := strconv.ParseUint(value, 10, 63)
			if err != nil || res.ContentLength >= 0 {
				return nil
			}
			res.ContentLength = int64(length)
		}
		if had := res.Header[name]; had != nil {
			res.Header[name] = append(had, value)
			continue
		}
		values[k] = value
		res.Header[name] = values[k : k+1 : k+1]
	}
	if res.ContentLength < 0 {
		return nil
	}
	return res
}

// isPlain reports whether a name is a token of letters, digits and hyphens, and whether there is no
// control character in a value, the end of a line above all.
func isPlain(name, value string) bool {
	for i := range len(name) {
		if c := name[i]; c != '-' && (c < '0' || c > '9') && (c|0x20 < 'a' || c|0x20 > 'z') {
			return false
		}
	}
	for i := range len(value) {
		if c := value[i]; (c < ' ' && c != '\t') || c == 0x7f {
			return false
		}
	}
	return true
}

// exact is a body of a known length.
type exact struct {
	from *bufio.Reader
	left int64
}

func (e *exact) Read(p []byte) (int, error) {
	if e.left == 0 {
		return 0, io.EOF
	}
	n, err := e.from.Read(p[:min(int64(len(p)), e.left)])
	switch e.left -= int64(n); {
	case e.left == 0:
		return n, io.EOF
	case err == io.EOF:
		return n, io.ErrUnexpectedEOF
	}
	return n, err
}

// Close does nothing: the end of a body is its reader's to see to.
func (e *exact) Close() error { return nil }

// dropNamed takes away the fields that a Connection field names. Where that says close as well,
// the reader of the head has taken the field away with all that it says.
func dropNamed(h http.Header, head []byte) {
	for line := range bytes.Lines(head) {
		name, value, ok := bytes.Cut(line, []byte(":"))
		if !ok {
			if len(bytes.TrimSpace(line)) == 0 {
				return
			}
			continue
		}
		if !bytes.EqualFold(name, []byte("Connection")) {
			continue
		}
		for one := range bytes.SplitSeq(value, []byte(",")) {
			h.Del(string(bytes.TrimSpace(one)))
		}
	}
}
