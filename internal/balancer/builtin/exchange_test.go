package builtin

import (
	"errors"
	"io"
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
