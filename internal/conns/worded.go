package conns

import (
	"bytes"
	"net"
	"strconv"
	"strings"
)

// Worded has what a server of net/http says of a request that it could not read, which it writes to the
// connection itself and as plain text, said by words: a whole answer, made of the status and of why.
func Worded(l net.Listener, words func(status int, why string) []byte) net.Listener {
	return &worded{l, words}
}

type worded struct {
	net.Listener
	words func(status int, why string) []byte
}

func (l *worded) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &wordedConn{c, l.words}, nil
}

type wordedConn struct {
	net.Conn
	words func(status int, why string) []byte
}

// NetConn is the connection below.
func (c *wordedConn) NetConn() net.Conn { return c.Conn }

// The beginning of an answer, and what stands between its status and its text in those that
// no handler has written.
var (
	protocol = []byte("HTTP/1.1 ")
	unread   = []byte("\r\nContent-Type: text/plain; charset=utf-8\r\nConnection: close\r\n\r\n")
)

func (c *wordedConn) Write(p []byte) (int, error) {
	if !bytes.HasPrefix(p, protocol) {
		return c.Conn.Write(p)
	}
	line, text, ok := bytes.Cut(p, unread)
	if !ok || bytes.IndexByte(line, '\n') >= 0 || len(line) < len(protocol)+3 {
		return c.Conn.Write(p)
	}
	status, err := strconv.Atoi(string(line[len(protocol) : len(protocol)+3]))
	if err != nil || status < 400 {
		return c.Conn.Write(p)
	}
	_, why, _ := strings.Cut(string(text), ": ")
	if _, err := c.Conn.Write(c.words(status, why)); err != nil {
		return 0, err
	}
	return len(p), nil
}
