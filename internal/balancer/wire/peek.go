package wire

import (
	"errors"
	"io"
	"net"
	"sync"
	"syscall"
)

var partBuffers = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

// peeker looks whether there is something to read, without waiting and without reading it.
type peeker func() (quiet bool)

// peekerOf is that of a connection of the kernel's; any other is quiet.
func peekerOf(c net.Conn) peeker {
	sc, ok := c.(syscall.Conn)
	if !ok {
		return func() bool { return true }
	}
	raw, err := sc.SyscallConn()
	if err != nil {
		return func() bool { return false }
	}
	var quiet bool
	var one [1]byte
	look := func(fd uintptr) bool {
		_, _, err := syscall.Recvfrom(int(fd), one[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		quiet = errors.Is(err, syscall.EAGAIN)
		return true
	}
	return func() bool { return raw.Read(look) == nil && quiet }
}

// isQuiet reports whether a connection that rested is as it was left: what has something to
// say unasked, or has ended, is not asked anything.
func (c *conn) isQuiet() bool { return c.peek() }

// isHangUp reports whether the other side ended the connection before it said anything.
func isHangUp(err error) bool {
	return errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE)
}
