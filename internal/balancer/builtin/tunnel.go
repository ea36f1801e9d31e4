package builtin

import (
	"errors"
	"io"
	"net"
	"os"
	"sync"
	"syscall"
	"time"

	"unitas/internal/caught"
)

// side is one of the two that a tunnel is between.
type side struct {
	io.WriteCloser
	from io.Reader
}

// halfCloser can say that nothing more comes.
type halfCloser interface{ CloseWrite() error }

// passer passes on what one side says until it ends.
type passer func(to, from side, w *watch, count func(int64)) error

// tunnel passes on what each side says until both have ended, or neither said anything for as long
// as quiet, or the balancer ends. Half an end is passed on as half an end, and a reset as a reset.
func (d *door) tunnel(caller, target side, quiet time.Duration, in, out func(int64), pass passer) {
	w := newWatch(quiet, func() { caller.Close(); target.Close() })
	defer w.stop()
	over := make(chan struct{})
	defer close(over)
	caught.Go("a tunnel of a listener", func() {
		select {
		case <-d.ended:
			w.cut()
		case <-over:
		}
	})
	one := func(to, from side, count func(int64)) {
		err := caught.Do("a tunnel of a listener", func() {
			if err := pass(to, from, w, count); err != nil {
				if isReset(err) {
					w.once.Do(func() { resetSide(caller); resetSide(target) })
				}
				w.cut()
			}
		})
		if err != nil {
			w.cut()
		}
	}
	var both sync.WaitGroup
	both.Go(caught.Func("a tunnel of a listener", func() { one(target, caller, in) }))
	one(caller, target, out)
	both.Wait()
}

func isReset(err error) bool {
	return errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE)
}

func resetSide(s side) {
	switch c := s.WriteCloser.(type) {
	case net.Conn:
		reset(c)
	case interface{ NetConn() net.Conn }: // of the wire
		reset(c.NetConn())
		s.Close()
	default:
		s.Close()
	}
}

// halfEnd says to a side that the other says no more; an error when that cannot be said.
func halfEnd(to side) error {
	if half, ok := to.WriteCloser.(halfCloser); ok {
		return half.CloseWrite()
	}
	return errors.ErrUnsupported
}

// pass is a passer of whatever sides.
func pass(to, from side, w *watch, count func(int64)) error {
	buf := parts.Get().(*[]byte)
	defer parts.Put(buf)
	for {
		n, err := from.from.Read(*buf)
		if n > 0 {
			w.seen()
			count(int64(n))
			if _, werr := to.Write((*buf)[:n]); werr != nil {
				return werr
			}
			w.seen()
		}
		if err == io.EOF {
			return halfEnd(to)
		}
		if err != nil {
			return err
		}
	}
}

// lookAtLeast is how often a connection that is passed on in the kernel is looked at.
const lookAtLeast = time.Second

// splice is a passer of connections of the kernel's, which pass bytes on by themselves. Now and
// then it stops for a moment to see whether something came.
func splice(to, from side, w *watch, count func(int64)) error {
	conn := from.WriteCloser.(net.Conn)
	every := lookAtLeast
	if w.idle > 0 {
		every = min(every, w.idle/2)
	}
	for {
		_ = conn.SetReadDeadline(time.Now().Add(every))
		n, err := io.Copy(to.WriteCloser, conn)
		if n > 0 {
			count(n)
			w.seen()
		}
		if errors.Is(err, os.ErrDeadlineExceeded) {
			if n == 0 {
				every = min(2*every, max(lookAtLeast, w.idle/4)) // a quiet one costs little
			} else {
				every = lookAtLeast
			}
			continue
		}
		if err != nil {
			return err
		}
		return halfEnd(to)
	}
}
