package builtin

import (
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// patient is an answer that notes that a read was to end.
type patient struct {
	*httptest.ResponseRecorder
	woken chan bool
}

func (p *patient) SetReadDeadline(time.Time) error {
	p.woken <- true
	return nil
}

// bodied is an exchange with a body that comes from somewhere.
func bodied(t *testing.T, from io.Reader) *exchange {
	f := newSite(t)
	x := &exchange{door: f.doors[f.address], link: &link{lined: &linked{}}, w: &patient{httptest.NewRecorder(), make(chan bool, 10)}, in: httptest.NewRequest("POST", "/", nil)}
	x.in.Body = io.NopCloser(from)
	x.in.ContentLength = -1
	x.keepBody()
	return x
}

// as is the body for one more attempt.
func (x *exchange) as() *reading { return x.body.read(&http.Request{}) }

// TestOneTargetHasABody: a body that was taken back is read by nobody, and the next has it from its
// beginning, for as long as not too much of it came.
func TestOneTargetHasABody(t *testing.T) {
	x := bodied(t, strings.NewReader("a body"))
	one := x.as()
	part := make([]byte, 3)
	if n, err := one.Read(part); err != nil || n == 0 {
		t.Fatalf("%d bytes were read, %v", n, err)
	}
	two := x.as()
	if n, err := one.Read(part); n != 0 || !errors.Is(err, errRevoked) {
		t.Errorf("after it was taken back %d bytes were read, %v", n, err)
	}
	if raw, err := io.ReadAll(two); string(raw) != "a body" || err != nil {
		t.Errorf("the other reads %q, %v", raw, err)
	}
	x = bodied(t, strings.NewReader(strings.Repeat("long", mostKept)))
	if n, err := io.CopyN(io.Discard, x.as(), mostKept/2); n != mostKept/2 || err != nil || !x.body.isReplayable() {
		t.Errorf("of %d bytes, %v, nothing is kept", n, err)
	}
	slow := x.as()
	if _, err := io.Copy(io.Discard, x.as()); err != nil || x.body.isReplayable() || !x.body.isWhole() {
		t.Errorf("all of a long one is kept, %v", err)
	}
	x.body.holder = slow // whoever lets it read: what it would need is gone
	if n, err := slow.Read(part); n != 0 || !errors.Is(err, errRevoked) {
		t.Errorf("one that came too late reads %d bytes, %v", n, err)
	}
}

// TestNotAllBodiesAreKept: of one too many nothing is, so it goes to another target only while
// nothing of it came; and what is over is counted out.
func TestNotAllBodiesAreKept(t *testing.T) {
	x := bodied(t, strings.NewReader("a body"))
	bodies := &x.door.house.bodies
	if bodies.Load() != 1 {
		t.Fatalf("%d are kept", bodies.Load())
	}
	bodies.Store(mostBodies)
	more := &exchange{door: x.door, link: x.link, w: x.w, in: httptest.NewRequest("POST", "/", strings.NewReader("another"))}
	more.keepBody()
	if !more.body.loose || !more.body.isReplayable() || bodies.Load() != mostBodies {
		t.Errorf("one too many is kept, or cannot go elsewhere before it came; %d are kept", bodies.Load())
	}
	dead := more.as()
	if raw, err := io.ReadAll(more.as()); string(raw) != "another" || err != nil || more.body.isReplayable() {
		t.Errorf("it is read as %q, %v", raw, err)
	}
	if n, err := dead.Read(make([]byte, 10)); n != 0 || !errors.Is(err, errRevoked) {
		t.Errorf("who had it before reads %d bytes, %v", n, err)
	}
	x.finish()
	more.finish()
	if bodies.Load() != mostBodies-1 {
		t.Errorf("when they are over %d are kept", bodies.Load())
	}
}

// TestABodyThatIsReadLate: once the exchange is over nobody reads from the caller any more, and
// who does just then is woken.
func TestABodyThatIsReadLate(t *testing.T) {
	reads, ends := io.Pipe()
	x := bodied(t, reads)
	over := make(chan error, 1)
	go func() {
		_, err := x.as().Read(make([]byte, 10))
		over <- err
	}()
	waitFor(t, "somebody reads", x.body.waiting.Load)
	go func() {
		<-x.w.(*patient).woken
		ends.CloseWithError(io.ErrUnexpectedEOF)
	}()
	x.finish()
	if err := <-over; !errors.Is(err, errStopped) {
		t.Errorf("who read is told %v", err)
	}
	if n, err := x.as().Read(make([]byte, 10)); n != 0 || !errors.Is(err, errStopped) {
		t.Errorf("afterwards %d bytes are read, %v", n, err)
	}
}

// slowWriter takes what is written once it may.
type slowWriter struct {
	*httptest.ResponseRecorder
	may, took chan struct{}
}

func (w *slowWriter) WriteHeader(int) {
	<-w.may
	close(w.took)
}

// TestHintsEndWithTheRequest: who goes on with the answer waits for an early one that is being
// written, and drops those that are not.
func TestHintsEndWithTheRequest(t *testing.T) {
	t.Parallel() // it mostly waits
	w := &slowWriter{httptest.NewRecorder(), make(chan struct{}), make(chan struct{})}
	h := hints{x: &exchange{w: w, in: httptest.NewRequest("GET", "/", nil)}}
	for range 3 {
		_ = h.take(http.StatusEarlyHints, nil)
	}
	waitFor(t, "the first is being written", func() bool {
		h.mu.Lock()
		defer h.mu.Unlock()
		return len(h.queue) == 2
	})
	time.AfterFunc(50*time.Millisecond, func() { close(w.may) })
	h.end(false) // a second one would close what is closed
	select {
	case <-w.took:
	default:
		t.Error("the answer goes on while an early one is being written")
	}
}

// halfway is a connection that notes whether it was closed by halves first.
type halfway struct {
	net.Conn
	half bool
}

func (h *halfway) CloseWrite() error {
	h.half = true
	return nil
}

// TestOneTooManyDoesNotLinger: what a caller still sends is read after its answer, but for one that
// passed the limit of connections.
func TestOneTooManyDoesNotLinger(t *testing.T) {
	for _, surplus := range []bool{true, false} {
		near, far := net.Pipe()
		far.Close()
		c := &halfway{Conn: near}
		l := &link{surplus: surplus}
		newLinked(c, l)
		l.linger()
		if l.lined.Close(); c.half == surplus {
			t.Errorf("one too many %t: closed by halves first %t", surplus, c.half)
		}
	}
}
