package pgtest

import (
	"bytes"
	"io"
	"net"
	"net/url"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"
)

// Way is a way to a database on which faults can be made.
type Way struct {
	URL    string
	Closed atomic.Bool  // nothing comes through while it is
	Slow   atomic.Int64 // for so long, in ns, every answer waits on its way
	Lose   atomic.Int64 // so many answers to commits are lost, with their connections
	Early  atomic.Bool  // they are lost before the database hears of the commit
	Lost   atomic.Int64 // how many were
}

// NewWay opens a way to the database of the address; it goes with the test.
func NewWay(t testing.TB, database string) *Way {
	t.Helper()
	u, err := url.Parse(database)
	if err != nil {
		t.Fatal(err)
	}
	q := u.Query()
	behind := filepath.Join(q.Get("host"), ".s.PGSQL."+q.Get("port"))
	dir := t.TempDir()
	l, err := net.Listen("unix", filepath.Join(dir, ".s.PGSQL.5432"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	q.Set("host", dir)
	q.Set("port", "5432")
	u.RawQuery = q.Encode()
	w := &Way{URL: u.String()}
	go func() {
		for {
			front, err := l.Accept()
			if err != nil {
				return
			}
			go w.pass(front, behind)
		}
	}()
	return w
}

// pass hands on what both say, until an answer is to be lost.
func (w *Way) pass(front net.Conn, behind string) {
	defer front.Close()
	back, err := net.Dial("unix", behind)
	if err != nil {
		return
	}
	defer back.Close()
	var mute atomic.Bool
	go func() {
		defer front.Close()
		w.hand(front, back, func([]byte) bool { return !mute.Load() }) // whatever the answer to the commit was
	}()
	w.hand(back, front, func(said []byte) bool {
		time.Sleep(time.Duration(w.Slow.Load()))
		if w.Lose.Load() == 0 || !bytes.HasPrefix(said, []byte("Q")) || !bytes.Contains(said, []byte("commit\x00")) {
			return true
		}
		w.Lose.Add(-1)
		w.Lost.Add(1)
		mute.Store(true)
		return !w.Early.Load()
	})
}

// hand hands on what one says to the other, as long as more says so.
func (w *Way) hand(to io.Writer, from io.Reader, more func(said []byte) bool) {
	buf := make([]byte, 64<<10)
	for {
		n, err := from.Read(buf)
		for w.Closed.Load() {
			time.Sleep(5 * time.Millisecond)
		}
		if err != nil || !more(buf[:n]) {
			return
		}
		if _, err := to.Write(buf[:n]); err != nil {
			return
		}
	}
}
