package builtin

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"
)

// refuse answers a request that no target answers: a line in plain words, or what gRPC
// understands for who speaks that.
func (x *exchange) refuse(status int, why string) {
	if x.in.Context().Err() != nil { // the caller went away
		x.failure = "the caller went away"
		return
	}
	x.decline(status, why)
}

// decline is refuse to a caller that is there.
func (x *exchange) decline(status int, why string) {
	x.status, x.failure = status, strings.TrimSuffix(strings.ToLower(why[:1])+why[1:], ".")
	h := x.w.Header()
	where := "listener " + x.door.address
	if x.pool != nil {
		where = "pool " + x.pool.name
	}
	text := fmt.Sprintf("%s (%s)", why, where)
	if status == http.StatusServiceUnavailable || status == http.StatusTooManyRequests {
		h.Set("Retry-After", "1")
	}
	x.isLast(h)
	if strings.HasPrefix(x.in.Header.Get("Content-Type"), "application/grpc") {
		h.Set("Content-Type", "application/grpc")
		h.Set("Grpc-Status", strconv.Itoa(grpcStatus(status)))
		h.Set("Grpc-Message", text)
		x.w.WriteHeader(http.StatusOK)
		return
	}
	h.Set("Content-Type", "text/plain; charset=utf-8")
	x.willWrite(time.Now())
	x.w.WriteHeader(status)
	_, _ = io.WriteString(x.w, text+"\n")
}

// grpcStatus is what a status is to who speaks gRPC (doc/http-grpc-status-mapping.md there, but
// for what is ours alone to know).
func grpcStatus(status int) int {
	switch status {
	case http.StatusNotFound:
		return 12 // unimplemented
	case http.StatusGatewayTimeout:
		return 4 // deadline exceeded
	case http.StatusTooManyRequests, http.StatusRequestEntityTooLarge:
		return 8 // resource exhausted
	}
	return 14 // unavailable
}

// refuseBody answers one whose body was too long or too slow.
func (x *exchange) refuseBody(err error) {
	if errors.Is(err, errSlowBody) {
		x.decline(http.StatusRequestTimeout, "The body of the request did not come.")
		return
	}
	x.decline(http.StatusRequestEntityTooLarge, "The body is longer than it may be.")
}

// switchTo has caller and target speak another protocol with each other from now on.
func (x *exchange) switchTo(res *http.Response) {
	far, ok := res.Body.(io.ReadWriteCloser)
	if !ok {
		x.refuse(http.StatusBadGateway, "The target switched to another protocol badly.")
		return
	}
	if want, got := x.in.Header.Get("Upgrade"), res.Header.Get("Upgrade"); want == "" || !strings.EqualFold(want, got) {
		x.refuse(http.StatusBadGateway, "The target switched to a protocol that nobody asked for.")
		return
	}
	x.status = res.StatusCode
	h := x.w.Header()
	inbound(h, res.Header)
	h["Connection"], h["Upgrade"] = []string{"Upgrade"}, res.Header["Upgrade"]
	x.w.WriteHeader(res.StatusCode)
	near, buffered, err := http.NewResponseController(x.w).Hijack()
	if err != nil {
		x.failure = "the protocol could not be switched"
		return
	}
	defer near.Close()
	_ = near.SetDeadline(time.Time{})
	if err := buffered.Flush(); err != nil {
		return
	}
	x.link.busy.Store(false) // half an end is half an end from now on
	tally := &x.target.tallies[x.page]
	in := func(n int) { tally.in.Add(int64(n)); x.came.Add(int64(n)) }
	out := func(n int) { tally.out.Add(int64(n)); x.sent += int64(n) }
	stop := make(chan struct{})
	defer close(stop)
	go func() { // a balancer that ends ends it
		select {
		case <-x.door.ended:
			near.Close()
			far.Close()
		case <-stop:
		}
	}()
	both(near, buffered.Reader, far, x.door.now.Load().Limits.Quiet, in, out)
}

// halfCloser can say that nothing more comes.
type halfCloser interface{ CloseWrite() error }

// both passes on what each side says until both have ended, or neither said anything for as long
// as idle. Half an end is passed on as half an end.
func both(near net.Conn, fromNear io.Reader, far io.ReadWriteCloser, idle time.Duration, in, out func(int)) {
	watch := newWatch(idle, func() { near.Close(); far.Close() })
	defer watch.stop()
	var all sync.WaitGroup
	all.Go(func() { pass(far, fromNear, watch, in) })
	pass(near, far, watch, out)
	all.Wait()
}

func pass(to io.Writer, from io.Reader, watch *watch, count func(int)) {
	buf := parts.Get().(*[]byte)
	defer parts.Put(buf)
	for {
		n, err := from.Read(*buf)
		if n > 0 {
			watch.seen()
			count(n)
			if _, werr := to.Write((*buf)[:n]); werr != nil {
				err = werr
			}
			watch.seen()
		}
		if err == nil {
			continue
		}
		if half, ok := to.(halfCloser); ok && err == io.EOF {
			if half.CloseWrite() == nil {
				return
			}
		}
		watch.cut()
		return
	}
}
