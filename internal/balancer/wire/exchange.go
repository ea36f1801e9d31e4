package wire

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httputil"
	"strconv"
	"strings"
	"time"
)

// exchange is one request with its answer.
type exchange struct {
	c      *conn
	limits *Limits
	keep   bool // the server lets the connection be used again
	wrote  chan error
	stop   func() bool // of following the context
}

// Ask sends a request and returns the head of its answer; its body is to be closed. What
// the request's URL has in Opaque is sent as it stands. early is called for each answer that comes
// before the last. Nothing is sent twice but what was sent over a connection that the server had
// just given up, and may be.
//
// An error is an [Error].
func (s *Server) Ask(r *http.Request, early func(status int, h http.Header) error) (*http.Response, error) {
	c, rested, err := s.take(r.Context())
	if err != nil {
		return nil, err
	}
	res, err := s.ask(c, r, early)
	var failed *Error
	if err == nil || !rested || !errors.As(err, &failed) || failed.Late || failed.At == Answering || r.Context().Err() != nil ||
		(failed.Sent && (!isReplayable(r) || !isHangUp(err))) || (r.Body != nil && r.Body != http.NoBody) {
		return res, err
	}
	if c, err = s.fresh(r.Context()); err != nil {
		return nil, err
	}
	return s.ask(c, r, early)
}

// isReplayable reports whether a request that a server may have had may be sent again.
func isReplayable(r *http.Request) bool {
	switch r.Method {
	case http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodTrace:
		return true
	}
	return false
}

func (s *Server) ask(c *conn, r *http.Request, early func(int, http.Header) error) (*http.Response, error) {
	x := &exchange{c: c, limits: s.limits.Load(), keep: true}
	x.stop = context.AfterFunc(r.Context(), c.close)
	fail := func(at string, sent bool, err error) (*http.Response, error) {
		x.done(false)
		if why := context.Cause(r.Context()); why != nil {
			err = why
		}
		return nil, Failed(at, sent, err)
	}
	has := r.Body != nil && r.Body != http.NoBody
	wants := has && r.Header.Get("Expect") != ""
	writeHead(c.w, r, has)
	// A body that is there comes with the head in one packet; who streams is not kept waiting.
	if !has || wants || r.ContentLength < 0 {
		if err := c.w.Flush(); err != nil {
			return fail(Sending, true, err)
		}
	}
	var goOn chan bool
	if has {
		x.wrote = make(chan error, 1)
		goOn = make(chan bool, 1)
		if !wants {
			goOn <- true
		}
		go x.send(r, goOn)
	}
	if wants {
		wait := time.AfterFunc(x.limits.Continue, func() { tell(goOn, true) })
		defer wait.Stop()
	}
	if first := x.limits.FirstByte; first > 0 && !has {
		_ = c.raw.SetReadDeadline(time.Now().Add(first))
	}
	for {
		c.left = x.limits.HeadBytes
		if c.left == 0 {
			c.left = -1
		}
		if _, err := c.r.Peek(1); err != nil {
			tell(goOn, false)
			return fail(Waiting, true, x.whyNot(err))
		}
		head, _ := c.r.Peek(c.r.Buffered())
		res, err := http.ReadResponse(c.r, r)
		if err != nil {
			tell(goOn, false)
			return fail(Answering, true, err)
		}
		if res.Close {
			dropNamed(res.Header, head)
		}
		c.left = -1
		switch {
		case res.StatusCode == http.StatusContinue && wants:
			tell(goOn, true)
		case res.StatusCode == http.StatusSwitchingProtocols:
			x.unlimited()
			res.Body = switched{c.r, x}
			return res, nil
		case res.StatusCode < 200:
			if err := early(res.StatusCode, res.Header); err != nil {
				tell(goOn, false)
				return fail(Answering, true, err)
			}
		default:
			tell(goOn, false)
			return x.answer(res), nil
		}
	}
}

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

// tell says once whether the body is to be sent.
func tell(goOn chan bool, yes bool) {
	select {
	case goOn <- yes:
	default:
	}
}

// whyNot is why the body could not be sent, when that is why there is no answer.
func (x *exchange) whyNot(err error) error {
	select {
	case why := <-x.wrote:
		x.wrote <- why
		if why != nil {
			return why
		}
	default:
	}
	return err
}

func (x *exchange) unlimited() {
	if x.limits.FirstByte > 0 {
		_ = x.c.raw.SetReadDeadline(time.Time{})
	}
}

// answer makes the end of the body the end of the exchange.
func (x *exchange) answer(res *http.Response) *http.Response {
	x.unlimited()
	x.keep = !res.Close && (res.ProtoAtLeast(1, 1) || strings.EqualFold(res.Header.Get("Connection"), "keep-alive"))
	if res.Body == http.NoBody || res.ContentLength == 0 && len(res.TransferEncoding) == 0 {
		x.done(true)
		res.Body = http.NoBody
		return res
	}
	res.Body = &body{Reader: res.Body, x: x}
	return res
}

// done ends the exchange, whole when all of the answer was read.
func (x *exchange) done(whole bool) {
	followed := x.stop()
	sent := true
	if x.wrote != nil {
		select {
		case err := <-x.wrote:
			sent = err == nil
		default:
			sent = false // the server did not wait for all of it
		}
	}
	if !whole || !sent || !x.keep || !followed {
		x.c.close()
		return
	}
	if x.limits.Idle > 0 || x.limits.FirstByte > 0 {
		_ = x.c.raw.SetDeadline(time.Time{})
	}
	x.c.server.keep(x.c)
}

// send sends the body once it may.
func (x *exchange) send(r *http.Request, goOn chan bool) {
	if !<-goOn {
		x.wrote <- errNotWanted
		return
	}
	err := writeBody(x.c.w, r)
	if err == nil {
		err = x.c.w.Flush()
	}
	if err == nil && x.limits.FirstByte > 0 {
		_ = x.c.raw.SetReadDeadline(time.Now().Add(x.limits.FirstByte))
	}
	x.wrote <- err
	if err != nil {
		x.c.close()
	}
}

var errNotWanted = errors.New("the body was not wanted")

// writeHead writes the request line and the fields.
func writeHead(w *bufio.Writer, r *http.Request, has bool) {
	w.WriteString(r.Method)
	w.WriteByte(' ')
	if r.URL.Opaque != "" {
		w.WriteString(r.URL.Opaque)
	} else {
		w.WriteString(r.URL.RequestURI())
	}
	w.WriteString(" HTTP/1.1\r\nHost: ")
	w.WriteString(r.Host)
	w.WriteString("\r\n")
	for name, values := range r.Header {
		for _, v := range values {
			w.WriteString(name)
			w.WriteString(": ")
			w.WriteString(v)
			w.WriteString("\r\n")
		}
	}
	switch {
	case has && r.ContentLength < 0:
		w.WriteString("Transfer-Encoding: chunked\r\n")
		if len(r.Trailer) > 0 {
			w.WriteString("Trailer: ")
			w.WriteString(strings.Join(names(r.Trailer), ", "))
			w.WriteString("\r\n")
		}
	case has || (r.ContentLength == 0 && mayHaveBody(r.Method)):
		w.WriteString("Content-Length: ")
		w.WriteString(strconv.FormatInt(max(r.ContentLength, 0), 10))
		w.WriteString("\r\n")
	}
	w.WriteString("\r\n")
}

// mayHaveBody reports whether no body is worth saying.
func mayHaveBody(method string) bool {
	return method == http.MethodPost || method == http.MethodPut || method == http.MethodPatch
}

func names(h http.Header) (all []string) {
	for name := range h {
		all = append(all, name)
	}
	return all
}

// writeBody writes the body, in chunks when nobody knows how long it is. Each part is sent as
// it comes.
func writeBody(w *bufio.Writer, r *http.Request) error {
	if r.ContentLength >= 0 {
		n, err := copyParts(w, w, r.Body)
		if err == nil && n != r.ContentLength {
			err = io.ErrUnexpectedEOF
		}
		return err
	}
	chunks := httputil.NewChunkedWriter(w)
	if _, err := copyParts(chunks, w, r.Body); err != nil {
		return err
	}
	if err := chunks.Close(); err != nil {
		return err
	}
	for name, values := range r.Trailer {
		for _, v := range values {
			w.WriteString(name + ": " + v + "\r\n")
		}
	}
	_, err := w.WriteString("\r\n")
	return err
}

func copyParts(to io.Writer, w *bufio.Writer, from io.Reader) (sent int64, err error) {
	buf := partBuffers.Get().(*[]byte)
	defer partBuffers.Put(buf)
	for {
		n, err := from.Read(*buf)
		if n > 0 {
			if _, err := to.Write((*buf)[:n]); err != nil {
				return sent, err
			}
			sent += int64(n)
		}
		if err == io.EOF {
			return sent, nil
		}
		if err != nil {
			return sent, err
		}
		if err := w.Flush(); err != nil {
			return sent, err
		}
	}
}
