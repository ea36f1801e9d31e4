// Package sockets opens addresses to listen on, shared by the services of a host: who
// comes second gets the very socket of who came first, and one queue of callers is taken
// from by all. What one service leaves in it when it ends, or is killed, the others take.
//
// A socket may also come from whoever started the service, by the LISTEN_FDS convention.
//
// A door, here, is where services of a host ask each other for sockets.
package sockets

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"sync"
	"time"

	"github.com/coreos/go-systemd/v22/activation"
	"golang.org/x/sys/unix"

	"unitas/internal/caught"
)

// askLimit is how long another service may take to answer, and longest how long a
// question may be, in bytes.
const (
	askLimit = 2 * time.Second
	longest  = 512
)

// Sockets opens addresses. Its methods are safe for concurrent use.
type Sockets struct {
	dir  *os.File // where the services of a host find each other; nil shares with nobody
	name string   // of this one there
	log  *slog.Logger
	door *net.UnixListener
	done sync.WaitGroup

	mu     sync.Mutex
	open   map[string]*net.TCPListener // by address, as it was asked for
	given  []*net.TCPListener          // by whoever started the service, not asked for yet
	closed bool
}

// Alone opens addresses that are shared with no other service.
func Alone(log *slog.Logger) (*Sockets, error) {
	s := &Sockets{log: log, open: map[string]*net.TCPListener{}}
	return s, s.takeGiven()
}

// Share opens addresses together with the other services that share dir. name is unlike
// that of any of them.
func Share(dir, name string, log *slog.Logger) (*Sockets, error) {
	s := &Sockets{name: name, log: log, open: map[string]*net.TCPListener{}}
	if err := s.takeGiven(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the place where services find each other: %w", err)
	}
	var err error
	if s.dir, err = os.Open(dir); err != nil {
		return nil, fmt.Errorf("open the place where services find each other: %w", err)
	}
	if err := os.Remove(s.at(name)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, errors.Join(err, s.dir.Close())
	}
	if s.door, err = net.ListenUnix("unix", &net.UnixAddr{Name: s.at(name), Net: "unix"}); err != nil {
		return nil, errors.Join(fmt.Errorf("be found by other services: %w", err), s.dir.Close())
	}
	s.done.Go(caught.Func("giving sockets to other services", s.answer))
	return s, nil
}

// at is the way to the door of a service, short enough for an address of a socket
// wherever the directory lies.
func (s *Sockets) at(name string) string {
	return fmt.Sprintf("/proc/self/fd/%d/%s", s.dir.Fd(), name)
}

// takeGiven takes the sockets that whoever started the service opened for it.
func (s *Sockets) takeGiven() error {
	listeners, err := activation.Listeners()
	if err != nil {
		return fmt.Errorf("take the sockets that the service was started with: %w", err)
	}
	for _, l := range listeners {
		if tcp, ok := l.(*net.TCPListener); ok {
			s.given = append(s.given, tcp)
		}
	}
	return nil
}

// Listen opens an address:port, or takes the socket of it that was given or that another
// service has.
func (s *Sockets) Listen(address string) (net.Listener, error) {
	l, err := s.take(address)
	for attempt := 0; l == nil && err == nil; attempt++ {
		if l = s.ask(address); l != nil {
			break
		}
		var bound net.Listener
		if bound, err = net.Listen("tcp", address); err == nil {
			l = bound.(*net.TCPListener)
		} else if errors.Is(err, unix.EADDRINUSE) && attempt < 3 && s.dir != nil {
			err = nil // somebody was faster, and is asked
		}
	}
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.open[address] = l
	return &shared{TCPListener: l, of: s, address: address}, nil
}

// take is the socket of an address that was given.
func (s *Sockets) take(address string) (*net.TCPListener, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return nil, net.ErrClosed
	}
	want, err := net.ResolveTCPAddr("tcp", address)
	if err != nil {
		return nil, err
	}
	for i, l := range s.given {
		if has := l.Addr().(*net.TCPAddr); has.Port == want.Port && (has.IP.Equal(want.IP) || len(want.IP) == 0 && has.IP.IsUnspecified()) {
			s.given = append(s.given[:i:i], s.given[i+1:]...)
			return l, nil
		}
	}
	return nil, nil
}

// shared is an open socket, which the service gives to others while it has it.
type shared struct {
	*net.TCPListener
	of      *Sockets
	address string
}

// Close ends that this service listens; others that share the socket go on.
func (l *shared) Close() error {
	l.of.mu.Lock()
	if l.of.open[l.address] == l.TCPListener {
		delete(l.of.open, l.address)
	}
	l.of.mu.Unlock()
	return l.TCPListener.Close()
}

// ask gets the socket of an address from another service, or nil.
func (s *Sockets) ask(address string) *net.TCPListener {
	if s.dir == nil {
		return nil
	}
	doors, _ := os.ReadDir(s.dir.Name())
	for _, d := range doors {
		if d.Name() == s.name {
			continue
		}
		l, err := askAt(s.at(d.Name()), address)
		if l != nil {
			return l
		}
		if err != nil {
			s.log.Debug("another service did not answer about a socket", "service", d.Name(), "error", err)
		}
	}
	return nil
}

// question is what one service asks another.
type question struct {
	Address string `json:"address"`
}

func askAt(file, address string) (*net.TCPListener, error) {
	c, err := net.DialTimeout("unix", file, askLimit)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	conn := c.(*net.UnixConn)
	if err := conn.SetDeadline(time.Now().Add(askLimit)); err != nil {
		return nil, err
	}
	raw, err := json.Marshal(question{address})
	if err != nil {
		return nil, err
	}
	if _, err := conn.Write(raw); err != nil {
		return nil, err
	}
	if err := conn.CloseWrite(); err != nil {
		return nil, err
	}
	word, oob := make([]byte, 1), make([]byte, unix.CmsgSpace(4))
	n, oobn, _, _, err := conn.ReadMsgUnix(word, oob)
	if err != nil || n == 0 || oobn == 0 {
		return nil, err
	}
	messages, err := unix.ParseSocketControlMessage(oob[:oobn])
	if err != nil || len(messages) != 1 {
		return nil, err
	}
	fds, err := unix.ParseUnixRights(&messages[0])
	if err != nil || len(fds) != 1 {
		return nil, err
	}
	f := os.NewFile(uintptr(fds[0]), address)
	defer f.Close()
	l, err := net.FileListener(f)
	if err != nil {
		return nil, err
	}
	tcp, ok := l.(*net.TCPListener)
	if !ok {
		return nil, errors.Join(errors.New("what another service gave is no socket that takes callers"), l.Close())
	}
	return tcp, nil
}

// answer gives sockets to other services that ask.
func (s *Sockets) answer() {
	for {
		conn, err := s.door.AcceptUnix()
		if err != nil {
			return
		}
		s.done.Go(func() {
			defer caught.Told("giving a socket to another service", nil)
			defer conn.Close()
			if err := s.give(conn); err != nil {
				s.log.Debug("a socket was not given to another service", "error", err)
			}
		})
	}
}

func (s *Sockets) give(conn *net.UnixConn) error {
	if err := conn.SetDeadline(time.Now().Add(askLimit)); err != nil {
		return err
	}
	var q question
	if err := json.NewDecoder(io.LimitReader(conn, longest)).Decode(&q); err != nil {
		return err
	}
	s.mu.Lock()
	l := s.open[q.Address]
	s.mu.Unlock()
	if l == nil {
		_, err := conn.Write([]byte("-"))
		return err
	}
	raw, err := l.SyscallConn()
	if err != nil {
		return err
	}
	var sent error
	err = raw.Control(func(fd uintptr) {
		_, _, sent = conn.WriteMsgUnix([]byte("+"), unix.UnixRights(int(fd)), nil)
	})
	return errors.Join(err, sent)
}

// Close ends that other services find this one. What is open stays open.
func (s *Sockets) Close() error {
	s.mu.Lock()
	s.closed = true
	s.mu.Unlock()
	if s.door == nil {
		return nil
	}
	err := s.door.Close() // which removes it
	s.done.Wait()
	return errors.Join(err, s.dir.Close())
}
