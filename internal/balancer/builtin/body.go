package builtin

import (
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"unitas/internal/balancer/form"
	"unitas/internal/caught"
)

// Why a body ends before its end. All of them are the caller's doing.
var (
	errLongBody   = errors.New("the body is longer than it may be")
	errSlowBody   = errors.New("the caller was too slow with the body")
	errBrokenBody = errors.New("its body, or a field after it, is malformed")
	errCutBody    = errors.New("its body broke off")
)

// Why a target gets no more of one.
var (
	errRevoked = errors.New("the body goes to another target")
	errStopped = errors.New("the request is over")
)

// mostKept is how much of a body is kept so that another target can have it from its beginning,
// in bytes, and mostBodies of how many bodies at once; of more nothing is kept.
const (
	mostKept   = 64 << 10
	mostBodies = 1000
)

// keptBody is the body of a request. Its beginning is kept, so that it can go to another target
// for as long as not much of it came; its end is known, whoever read it.
type keptBody struct {
	x    *exchange
	from io.ReadCloser
	to   atomic.Pointer[tally] // of who has it

	live    sync.Mutex // whoever reads on from the caller
	waiting atomic.Bool
	asked   bool // the caller was told to go on

	mu     sync.Mutex
	kept   []byte // all that came, while loose is not set; then nothing
	came   int64
	loose  bool // nothing is kept: too much came, or too many are kept
	most   int64
	ended  error    // io.EOF when it is whole
	holder *reading // who may read it; nobody else gets a byte
}

// keepBody takes the body of a request, when it has one, before anything is answered: the server
// would wait for it to come first.
func (x *exchange) keepBody() {
	r := x.in
	if r.Body == nil || r.Body == http.NoBody || r.ContentLength == 0 {
		return
	}
	x.body = &keptBody{x: x, from: r.Body, most: -1}
	if bodies := &x.door.house.bodies; bodies.Add(1) > mostBodies {
		bodies.Add(-1)
		x.body.loose = true
	}
	if r.ProtoMajor == 1 {
		// A target may answer before it has read all; HTTP/2 needs no word for it.
		_ = http.NewResponseController(x.w).EnableFullDuplex()
	}
}

// narrow bounds the body by so many bytes; the least of several counts, and 0 is without a bound.
func (b *keptBody) narrow(most int64) {
	if b != nil && most > 0 && (b.most < 0 || most < b.most) {
		b.most = most
	}
}

// end is why the body ended, nil while it goes on.
func (b *keptBody) end() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.ended
}

// isWhole reports whether all of it came.
func (b *keptBody) isWhole() bool { return b == nil || b.end() == io.EOF }

// fault is what the caller did wrong with it, nil when nothing.
func (b *keptBody) fault() error {
	if b == nil {
		return nil
	}
	if err := b.end(); err != nil && err != io.EOF && err != errStopped {
		return err
	}
	return nil
}

// isReplayable reports whether another target can have it from its beginning, once nobody has it.
func (b *keptBody) isReplayable() bool {
	if b == nil {
		return true
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.loose && (b.came > 0 || b.waiting.Load()) {
		return false
	}
	return b.ended == nil || b.ended == io.EOF
}

// forget keeps nothing of it any more. The lock is held.
func (b *keptBody) forget() {
	if !b.loose {
		b.loose, b.kept = true, nil
		b.x.door.house.bodies.Add(-1)
	}
}

// close ends it for a reason, unless it has ended, and wakes whoever waits for it.
func (b *keptBody) close(why error) {
	b.mu.Lock()
	if b.ended == nil {
		b.ended = why
	}
	b.mu.Unlock()
	b.wake()
}

// wake ends a read from the caller that is under way.
func (b *keptBody) wake() {
	_ = http.NewResponseController(b.x.w).SetReadDeadline(time.Unix(1, 0))
}

// stop has nobody read it any more, once it returned. It waits for nothing but that.
func (b *keptBody) stop() {
	if !b.isWhole() {
		b.close(errStopped)
		b.live.Lock()
		//lint:ignore SA2001 whoever reads has ended
		b.live.Unlock()
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.forget()
}

// fill reads a part from the caller when a reading has had all that came. It reads into p alone when
// nothing is kept.
func (b *keptBody) fill(r *reading, p []byte) (n int) {
	b.live.Lock()
	defer b.live.Unlock()
	b.mu.Lock()
	loose := b.loose
	if b.ended != nil || b.came > r.at || b.holder != r {
		b.mu.Unlock()
		return 0
	}
	b.waiting.Store(true)
	b.mu.Unlock()
	defer b.waiting.Store(false)
	part := p
	if !loose {
		buf := parts.Get().(*[]byte)
		defer parts.Put(buf)
		part = *buf
	}
	b.goOn()
	b.x.patience.begin(forBody)
	n, err := b.from.Read(part)
	b.x.patience.end(forBody)
	b.x.came.Add(int64(n))
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.came += int64(n); !loose {
		b.kept = append(b.kept, part[:n]...)
	}
	switch {
	case b.ended != nil: // meanwhile
	case b.most >= 0 && b.came > b.most:
		b.ended = errLongBody
		n = 0
	case err == io.EOF && !form.AreTrailers(b.x.in.Trailer):
		b.ended = errBrokenBody
	case err == io.EOF:
		b.ended = err
		if b.x.in.ProtoMajor == 1 {
			b.x.link.awaits.Store(true)
		}
	case errors.Is(err, os.ErrDeadlineExceeded):
		b.ended = errSlowBody
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET), errors.Is(err, net.ErrClosed):
		b.ended = errCutBody
	case err != nil:
		b.ended = errBrokenBody
	}
	if !loose {
		return 0 // it is taken from what is kept
	}
	return n
}

// goOn tells a caller once that it may send the body. The server would do it with the first read,
// but beside whoever writes an early answer.
func (b *keptBody) goOn() {
	if b.asked {
		return
	}
	b.asked = true
	if b.x.in.ProtoMajor == 1 && b.x.in.Header.Get("Expect") != "" {
		b.x.speak.Lock()
		defer b.x.speak.Unlock()
		if !b.x.spoken {
			b.x.w.WriteHeader(http.StatusContinue)
		}
	}
}

// reading is the body as one attempt has it, from its beginning.
type reading struct {
	*keptBody
	out    *http.Request // that it is of
	at     int64
	moving bool // a part was handed on, and not taken yet
}

// read has an attempt, and no other any more, read the body from its beginning.
func (b *keptBody) read(out *http.Request) *reading {
	r := &reading{keptBody: b, out: out}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.holder = r
	return r
}

// takeBack has nobody read it.
func (b *keptBody) takeBack() {
	if b != nil {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.holder = nil
	}
}

// Read reads, unless the body was taken back.
func (r *reading) Read(p []byte) (n int, err error) {
	defer caught.Into("reading a body", &err)
	if r.moving {
		r.moving = false
		r.x.patience.end(forRoom)
	}
	for n == 0 {
		if n, err = r.next(p); err != nil || n > 0 || len(p) == 0 {
			break
		}
		if n = r.fill(r, p); n > 0 {
			r.at += int64(n)
		}
	}
	if n > 0 {
		if to := r.to.Load(); to != nil {
			to.in.Add(int64(n))
		}
		r.moving = true
		r.x.patience.begin(forRoom)
		return n, nil
	}
	if err == io.EOF {
		r.trailers()
		if !r.x.headed.Load() {
			r.x.patience.begin(forHead)
		}
	}
	return n, err
}

// trailers puts the fields that came after the body into the request.
func (r *reading) trailers() {
	for name, values := range r.x.in.Trailer {
		if !form.IsTrailer(name) {
			continue
		}
		if r.out.Trailer == nil { // some that nobody announced
			r.out.Trailer = http.Header{}
		}
		r.out.Trailer[name] = values
	}
}

// next takes what is kept, or tells why nothing comes any more.
func (r *reading) next(p []byte) (n int, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case r.holder != r, r.loose && r.at < r.came:
		return 0, errRevoked
	case r.ended != nil && r.ended != io.EOF:
		return 0, r.ended
	case !r.loose && r.at < int64(len(r.kept)):
		n = copy(p, r.kept[r.at:])
		r.at += int64(n)
		if r.at == r.came && r.came > mostKept && r.live.TryLock() { // nobody whose body it was reads on
			r.forget()
			r.live.Unlock()
		}
		return n, nil
	case r.ended == io.EOF:
		return 0, io.EOF
	}
	return 0, nil
}

// Close leaves the body open: the server closes it when the request is over.
func (r *reading) Close() error { return nil }

// again is the body anew, for who asks the same target once more.
func (r *reading) again() (io.ReadCloser, error) {
	if !r.isReplayable() {
		return nil, errRevoked
	}
	return r.read(r.out), nil
}
