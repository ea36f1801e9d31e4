package builtin

import (
	"errors"
	"io"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// patient is an answer that notes how long its caller is waited for.
type patient struct {
	*httptest.ResponseRecorder
	limits int
}

func (p *patient) SetReadDeadline(time.Time) error {
	p.limits++
	return nil
}

// TestABodyThatIsReadLate: who still reads the body when the exchange is over limits nothing of
// the next one on its connection.
func TestABodyThatIsReadLate(t *testing.T) {
	f := newSite(t)
	w := &patient{ResponseRecorder: httptest.NewRecorder()}
	x := &exchange{door: f.doors[f.address], w: w, in: httptest.NewRequest("POST", "/", nil)}
	body := func() *keptBody {
		return &keptBody{ReadCloser: io.NopCloser(strings.NewReader("body")), x: x, left: -1}
	}
	if _, err := io.ReadAll(body()); err != nil || w.limits != 2 { // one to wait, and none at its end
		t.Errorf("while it goes on: %d limits, %v", w.limits, err)
	}
	x.finish()
	w.limits = 0
	if _, err := io.ReadAll(body()); err != nil || w.limits != 0 {
		t.Errorf("when it is over: %d limits, %v", w.limits, err)
	}
}

// TestOneTargetHasABody: a body that was taken back is read by nobody, and one that was read is
// not taken back.
func TestOneTargetHasABody(t *testing.T) {
	f := newSite(t)
	x := &exchange{door: f.doors[f.address], w: httptest.NewRecorder(), in: httptest.NewRequest("POST", "/", nil)}
	kept := &keptBody{ReadCloser: io.NopCloser(strings.NewReader("body")), x: x, left: -1}
	one, two := &attempt{keptBody: kept}, &attempt{keptBody: kept}
	if !one.takeBack() {
		t.Error("one of which nothing was read is not taken back")
	}
	if n, err := one.Read(make([]byte, 4)); n != 0 || !errors.Is(err, errRevoked) {
		t.Errorf("after it was taken back %d bytes were read, %v", n, err)
	}
	if raw, err := io.ReadAll(two); string(raw) != "body" || err != nil {
		t.Errorf("the other reads %q, %v", raw, err)
	}
	if two.takeBack() {
		t.Error("one that was read is taken back")
	}
}
