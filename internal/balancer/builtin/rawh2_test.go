package builtin

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"testing"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"

	"unitas/internal/fleet/traffic"
)

// rawH2 is a caller that speaks HTTP/2 in clear frame by frame.
type rawH2 struct {
	net.Conn
	*http2.Framer
	fields bytes.Buffer
	enc    *hpack.Encoder
}

// http2 has the site's listener speak HTTP/2, and makes a caller of it.
func (f *site) http2(t testing.TB) *rawH2 {
	t.Helper()
	if !f.listener.HTTP2 {
		f.listen(func(l *traffic.Listener) { l.HTTP2 = true })
	}
	c, err := net.Dial("tcp", f.address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	_ = c.SetDeadline(time.Now().Add(20 * time.Second))
	r := &rawH2{Conn: c, Framer: http2.NewFramer(c, c)}
	r.ReadMetaHeaders = hpack.NewDecoder(4096, nil)
	r.AllowIllegalWrites = true
	r.enc = hpack.NewEncoder(&r.fields)
	if _, err := io.WriteString(c, http2.ClientPreface); err != nil {
		t.Fatal(err)
	}
	if err := r.WriteSettings(); err != nil {
		t.Fatal(err)
	}
	return r
}

// head sends the head of a request; fields are names and values in turn.
func (r *rawH2) head(stream uint32, ends bool, fields ...string) error {
	r.fields.Reset()
	for i := 0; i < len(fields); i += 2 {
		_ = r.enc.WriteField(hpack.HeaderField{Name: fields[i], Value: fields[i+1]})
	}
	return r.WriteHeaders(http2.HeadersFrameParam{StreamID: stream, BlockFragment: r.fields.Bytes(), EndStream: ends, EndHeaders: true})
}

// plainly are the fields of a plain request, with more.
func plainly(method, path string, more ...string) []string {
	return append([]string{":method", method, ":scheme", "http", ":authority", "h", ":path", path}, more...)
}

// answer is what a stream is answered: its status and body, or with what it ended.
func (r *rawH2) answer(stream uint32) (status, body string) {
	for {
		frame, err := r.ReadFrame()
		if err != nil {
			return status, "ended: " + err.Error()
		}
		switch one := frame.(type) {
		case *http2.SettingsFrame:
			if !one.IsAck() {
				_ = r.WriteSettingsAck()
			}
			continue
		case *http2.MetaHeadersFrame:
			if one.StreamID == stream {
				status += one.PseudoValue("status")
			}
		case *http2.DataFrame:
			if one.StreamID == stream {
				body += string(one.Data())
			}
		case *http2.RSTStreamFrame:
			if one.StreamID == stream {
				return status, fmt.Sprint("reset: ", one.ErrCode)
			}
		case *http2.GoAwayFrame:
			return status, fmt.Sprint("go away: ", one.ErrCode)
		}
		if h := frame.Header(); h.StreamID == stream && h.Flags.Has(http2.FlagDataEndStream) && (h.Type == http2.FrameData || h.Type == http2.FrameHeaders) {
			return status, body
		}
	}
}
