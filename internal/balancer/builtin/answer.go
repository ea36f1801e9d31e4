package builtin

import (
	"errors"
	"io"
	"net/http"
	"time"

	"unitas/internal/balancer/form"
	"unitas/internal/balancer/wire"
)

// answer passes an answer on as it comes, and tells what became of it.
func (a *attempt) answer(res *http.Response) fate {
	x := a.x
	defer res.Body.Close()
	if x.line != nil {
		x.line.FirstMs = inMs(a.first)
	}
	a.t.answered()
	if res.StatusCode == http.StatusSwitchingProtocols {
		return a.switchTo(res)
	}
	h := x.w.Header()
	inbound(h, res.Header)
	if _, typed := h["Content-Type"]; !typed {
		h["Content-Type"] = nil // none is guessed
	}
	x.isLast(h)
	announced := 0
	for name := range res.Trailer {
		if form.IsTrailer(name) {
			h.Add("Trailer", name)
			announced++
		}
	}
	x.begins(res.StatusCode)
	x.w.WriteHeader(res.StatusCode)
	f := fate{status: res.StatusCode, begun: true}
	if res.Body != http.NoBody {
		f = a.copy(res, f)
	}
	if f.by == nobody {
		x.trailers(h, res.Trailer, announced)
	}
	return f
}

// begins notes that the answer begins: nothing is written before it any more.
func (x *exchange) begins(status int) {
	x.speak.Lock()
	x.spoken = true
	x.speak.Unlock()
	x.status = status
}

// mostOfAPart is how much of an answer is given to a caller of HTTP/2 at once, in bytes: its
// patience is by what it takes of it.
const mostOfAPart = 16 << 10

// copy passes the body on, each part as it comes. One that breaks off is broken off to the
// caller as well: nothing else tells it that this is not all.
func (a *attempt) copy(res *http.Response, f fate) fate {
	x := a.x
	out := &a.t.tallies[x.page].out
	flush := http.NewResponseController(x.w).Flush
	if ready, ok := res.Body.(interface{ Ready() bool }); (!ok || !ready.Ready()) && (res.ContentLength != 0) {
		_ = flush()
	}
	buf := parts.Get().(*[]byte)
	defer parts.Put(buf)
	part := *buf
	if x.in.ProtoMajor > 1 {
		part = part[:mostOfAPart]
	}
	for {
		x.patience.begin(forPart)
		n, err := res.Body.Read(part)
		x.patience.end(forPart)
		if n > 0 {
			out.Add(int64(n))
			x.sent += int64(n)
			x.patience.begin(forTaking)
			_, werr := x.w.Write(part[:n])
			if werr == nil && err == nil && x.sent != res.ContentLength {
				werr = flush()
			}
			x.patience.end(forTaking)
			if werr != nil {
				f.by, f.why = theCaller, errGone
				return f
			}
			if !a.counted && time.Since(a.since) > longAnswer {
				a.count(f.status, true)
			}
		}
		if err == io.EOF {
			return f
		}
		if err != nil {
			_ = flush()
			return a.broken(err, f)
		}
	}
}

// broken is the fate of an answer that broke off.
func (a *attempt) broken(err error, f fate) fate {
	var failed *wire.Error
	late := errors.Is(err, errLatePart) || (errors.As(err, &failed) && failed.Late)
	switch fault := a.x.body.fault(); {
	case fault != nil: // the target cannot go on without the rest
		f.by, f.why = theCaller, fault.Error()
	case a.x.hasGone():
		f.by, f.why = theCaller, errGone
	case late && a.x.ctx.Err() != nil:
		f.by, f.status, f.why = theTarget, 0, string(errLate)
	case late:
		f.by, f.status, f.why = theTarget, 0, string(errLatePart)
	default:
		f.by, f.status, f.why = theTarget, 0, "the target broke off its answer"
	}
	return f
}

// abort breaks the exchange off to the caller. One of HTTP/1.0 takes any end for the end of an
// answer without a length, but for a reset.
func (x *exchange) abort() {
	if x.in.ProtoMajor == 1 && x.in.ProtoMinor == 0 {
		reset(x.link.lined)
	}
	panic(http.ErrAbortHandler)
}

// isLast says that the connection ends with this answer, when something of the request is still
// to come: what comes after would be taken for a request, or not at all.
func (x *exchange) isLast(h http.Header) {
	if x.in.ProtoMajor == 1 && (!x.body.isWhole() || x.link.surplus) {
		h.Set("Connection", "close")
	}
}

// trailers passes on the fields after the body.
func (x *exchange) trailers(h, all http.Header, announced int) {
	kept := http.Header{}
	for name, values := range all {
		if form.IsTrailer(name) && form.AreTrailers(http.Header{name: values}) {
			kept[name] = values
		}
	}
	if len(kept) == 0 {
		return
	}
	for name, values := range kept {
		if len(kept) != announced {
			name = http.TrailerPrefix + name
		}
		h[name] = values
	}
	_ = http.NewResponseController(x.w).Flush()
}

// switchTo has caller and target speak another protocol with each other from now on.
func (a *attempt) switchTo(res *http.Response) fate {
	x := a.x
	f := fate{status: res.StatusCode, begun: true}
	bad := func(why string) fate {
		return fate{by: theTarget, begun: true, why: why, tell: &refusal{http.StatusBadGateway, "The target " + why + "."}}
	}
	far, ok := res.Body.(io.ReadWriteCloser)
	if !ok || x.upgrade == "" {
		return bad("switched to another protocol that nobody asked for")
	}
	if got := res.Header.Get("Upgrade"); got == "" || !form.Named([]string{x.upgrade}, got) {
		return bad("switched to a protocol that nobody asked for")
	}
	h := x.w.Header()
	inbound(h, res.Header)
	h["Connection"], h["Upgrade"] = []string{"Upgrade"}, res.Header["Upgrade"]
	x.begins(res.StatusCode)
	x.w.WriteHeader(res.StatusCode)
	conn, buffered, err := http.NewResponseController(x.w).Hijack()
	if err != nil {
		f.by, f.why = ourselves, "the protocol could not be switched"
		return f
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Time{})
	if err := buffered.Flush(); err != nil {
		f.by, f.why = theCaller, errGone
		return f
	}
	x.link.awaits.Store(false) // half an end is half an end from now on
	a.count(f.status, true)
	tally := &a.t.tallies[x.page]
	in := func(n int64) { tally.in.Add(n); x.came.Add(n) }
	out := func(n int64) { tally.out.Add(n); x.sent += n }
	x.door.tunnel(side{conn, buffered.Reader}, side{far, far}, x.door.now.Load().Limits.TunnelIdle, in, out, pass)
	return f
}

// Hint passes on the answers that come before the last, but for "100 Continue": the server says
// that by itself when the body is wanted, which is when the target said so.
func (x *exchange) Hint(status int, h http.Header) {
	if status == http.StatusContinue || !x.in.ProtoAtLeast(1, 1) {
		return
	}
	x.speak.Lock()
	defer x.speak.Unlock()
	out := x.w.Header()
	inbound(out, h)
	x.w.WriteHeader(status)
	for name := range h {
		delete(out, name)
	}
}

// inbound passes the fields of an answer on.
func inbound(to, from http.Header) {
	connection := from["Connection"]
	for name, values := range from {
		if form.IsOfTheHop(name) || (connection != nil && form.Named(connection, name)) {
			continue
		}
		if have := to[name]; have != nil {
			values = append(have[:len(have):len(have)], values...)
		}
		to[name] = values
	}
}
