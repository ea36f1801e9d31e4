package wire

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httputil"
	"strconv"
	"strings"
	"sync"
	"time"

	"unitas/internal/caught"
)

// call is one request with its answer.
type call struct {
	c     *conn
	ctx   context.Context
	keep  bool          // the server lets the connection be used again
	rest  time.Duration // for which it may
	asker Asker
	stop  func() bool // of following the context; nil when whoever asked does that

	// Of one with a body, which another goroutine sends.
	sent chan error // its end, or why there was none
	mu   sync.Mutex // of the writer, until the head is out
	out  bool       // the head is
}

// Asker is whoever asks.
type Asker interface {
	// Hint hears an answer that comes before the last.
	Hint(status int, h http.Header)
	// Follow has a call given up after its context ended, in its own way if it has one; false when
	// it has none.
	Follow(ctx context.Context, c interface{ GiveUp() }) bool
	// Unfollow ends that, and reports whether the call was not given up before.
	Unfollow() bool
}

// headWaits is how long the head of a request waits for the first part of its body, to go out in
// one packet with it.
const headWaits = time.Millisecond

// Ask sends a request and returns the head of its answer; its body is to be closed. What
// the request's URL has in Opaque is sent as it stands. rested is set when a connection that rested
// will do. Nothing is sent twice.
//
// An error is an [Error].
func (s *Server) Ask(r *http.Request, rested bool, asker Asker) (*http.Response, error) {
	c, err := s.take(r.Context(), rested)
	if err != nil {
		return nil, err
	}
	c.sent.Store(0)
	x := &call{c: c, ctx: r.Context(), asker: asker, keep: true}
	if !asker.Follow(x.ctx, x) {
		x.stop = context.AfterFunc(x.ctx, caught.Func("giving a request up", x.GiveUp))
	}
	has := r.Body != nil && r.Body != http.NoBody
	wants := has && r.Header.Get("Expect") != ""
	writeHead(c.w, r, has)
	// Who streams, or asks first, is not kept waiting for a part.
	if !has || wants || r.ContentLength < 0 {
		x.out = true
		if err := c.w.Flush(); err != nil {
			return nil, x.fail(Sending, err)
		}
	}
	var goOn chan bool
	if has {
		x.sent = make(chan error, 1)
		goOn = make(chan bool, 1)
		if !wants {
			goOn <- true
		}
		if !x.out {
			wait := later(headWaits, "sending a head", x.sendHead)
			defer wait.Stop()
		}
		caught.Go("sending a body", func() { x.send(r, goOn) })
	}
	if wants {
		wait := later(s.limits.Load().Continue, "waiting for a word to go on", func() { tell(goOn, true) })
		defer wait.Stop()
	}
	for {
		if c.left = s.limits.Load().HeadBytes; c.left == 0 {
			c.left = -1
		}
		if _, err := c.r.Peek(1); err != nil {
			tell(goOn, false)
			return nil, x.fail(Waiting, x.whyNot(err))
		}
		res, err := readAnswer(c.r, r)
		if err != nil {
			tell(goOn, false)
			return nil, x.fail(Answering, err)
		}
		c.left = -1
		switch {
		case res.StatusCode < http.StatusContinue:
			tell(goOn, false)
			return nil, x.fail(Answering, ErrNoStatus)
		case res.StatusCode == http.StatusContinue && wants:
			tell(goOn, true)
		case res.StatusCode == http.StatusSwitchingProtocols:
			if has { // the body is still being sent to who speaks another protocol by now
				tell(goOn, false)
				return nil, x.fail(Answering, errSwitched)
			}
			res.Body = switched{c.r, x}
			return res, nil
		case res.StatusCode < 200:
			asker.Hint(res.StatusCode, res.Header)
		default:
			tell(goOn, false)
			return x.answer(res), nil
		}
	}
}

// ErrNoStatus is of an answer whose status is none.
var ErrNoStatus = errors.New("its status is none")

var errSwitched = errors.New("it switched to another protocol in the middle of a request")

// fail ends the call with an error.
func (x *call) fail(at string, err error) *Error {
	rested := x.c.rested && at != Answering && isHangUp(err)
	x.done(false)
	failed := Failed(at, x.c.sent.Load() > 0, x.cause(err))
	failed.Rested = rested && x.ctx.Err() == nil
	return failed
}

// cause is why it was given up, when it was.
func (x *call) cause(err error) error {
	if why := context.Cause(x.ctx); why != nil {
		return why
	}
	return err
}

// tell says once whether the body is to be sent.
func tell(goOn chan bool, yes bool) {
	select {
	case goOn <- yes:
	default:
	}
}

// whyNot is why the body could not be sent, when that is why there is no answer.
func (x *call) whyNot(err error) error {
	select {
	case why := <-x.sent:
		x.sent <- why
		if why != nil {
			return why
		}
	default:
	}
	return err
}

// answer makes the end of the body the end of the call.
func (x *call) answer(res *http.Response) *http.Response {
	x.keep = !res.Close && (res.ProtoAtLeast(1, 1) || strings.EqualFold(res.Header.Get("Connection"), "keep-alive"))
	x.rest = restOf(res.Header)
	if res.Body == http.NoBody || res.ContentLength == 0 && len(res.TransferEncoding) == 0 {
		x.done(true)
		res.Body = http.NoBody
		return res
	}
	res.Body = &body{Reader: res.Body, x: x}
	return res
}

// done ends the call, whole when all of the answer was read.
func (x *call) done(whole bool) {
	sent, followed := true, x.unfollow()
	if x.sent != nil {
		select {
		case err := <-x.sent:
			x.sent <- err
			sent = err == nil
		default:
			sent = false // the server did not wait for all of it
		}
	}
	if !whole || !sent || !x.keep || !followed {
		x.c.close()
		return
	}
	x.c.server.keep(x.c, x.rest)
}

// GiveUp ends the call's connection: nobody waits for it any more.
func (x *call) GiveUp() { x.c.close() }

func (x *call) unfollow() bool {
	if x.stop != nil {
		return x.stop()
	}
	return x.asker.Unfollow()
}

// sendHead sends the head, when it is not out yet.
func (x *call) sendHead() {
	x.mu.Lock()
	defer x.mu.Unlock()
	if !x.out {
		x.out = true
		if x.c.w.Flush() != nil {
			x.c.close()
		}
	}
}

// send sends the body once it may.
func (x *call) send(r *http.Request, goOn chan bool) {
	end := func(err error) {
		if err != nil {
			x.c.close()
		}
		x.sent <- err
	}
	defer caught.Told("sending a body", end)
	if !<-goOn {
		x.sent <- errNotWanted
		return
	}
	end(x.writeBody(r))
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
func (x *call) writeBody(r *http.Request) error {
	w := x.c.w
	if r.ContentLength >= 0 {
		n, err := x.copyParts(w, r.Body)
		if err == nil && n != r.ContentLength {
			err = io.ErrUnexpectedEOF
		}
		if err == nil {
			err = w.Flush()
		}
		return err
	}
	chunks := httputil.NewChunkedWriter(w)
	if _, err := x.copyParts(chunks, r.Body); err != nil {
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
	w.WriteString("\r\n")
	return w.Flush()
}

func (x *call) copyParts(to io.Writer, from io.Reader) (sent int64, err error) {
	buf := partBuffers.Get().(*[]byte)
	defer partBuffers.Put(buf)
	for {
		n, err := from.Read(*buf)
		if n > 0 || err == io.EOF {
			if err := x.part(to, (*buf)[:n]); err != nil {
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
	}
}

// part sends a part, the first with the head when that is not out yet.
func (x *call) part(to io.Writer, p []byte) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.out = true
	if len(p) > 0 {
		if _, err := to.Write(p); err != nil {
			return err
		}
	}
	return x.c.w.Flush()
}
