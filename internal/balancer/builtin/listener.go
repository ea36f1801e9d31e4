package builtin

import (
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"sync"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/conns"
)

// listener is one open address of a pool.
type listener struct {
	settings balancer.Listener
	socket   net.Listener
	pair     *pair         // nil for http
	done     chan struct{} // closed when it takes no more connections

	mu      sync.Mutex
	closed  bool
	trouble string // why it stopped
}

// open opens the address.
func open(l balancer.Listener, listen Listen, guard *conns.Guard, log *slog.Logger) (*listener, error) {
	out := &listener{settings: l, done: make(chan struct{})}
	if l.Certificate != "" {
		out.pair = &pair{certificate: l.Certificate, key: l.Key, log: log}
		if err := out.pair.load(); err != nil {
			return nil, err
		}
	}
	var err error
	if out.socket, err = listen(l.Address); err != nil {
		return nil, err
	}
	out.socket = guard.Listen(out.socket)
	if out.pair != nil {
		out.socket = tls.NewListener(out.socket, &tls.Config{
			MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}, GetCertificate: out.pair.get,
		})
	}
	return out, nil
}

// serve answers requests until the listener is closed.
func (l *listener) serve(server *http.Server, log *slog.Logger) {
	defer close(l.done)
	err := server.Serve(l.socket)
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.closed && !errors.Is(err, http.ErrServerClosed) {
		log.Error("a listener stopped", "address", l.settings.Address, "error", err)
		l.trouble = err.Error()
	}
}

func (l *listener) stopped() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.trouble != ""
}

// close takes no new connections; those that are there go on.
func (l *listener) close() {
	l.mu.Lock()
	l.closed = true
	l.mu.Unlock()
	l.socket.Close()
}

func (l *listener) stats() balancer.ListenerStats {
	l.mu.Lock()
	s := balancer.ListenerStats{Listener: l.settings, Trouble: l.trouble}
	l.mu.Unlock()
	if l.pair != nil {
		var trouble string
		s.Expires, trouble = l.pair.state()
		if s.Trouble == "" {
			s.Trouble = trouble
		}
	}
	return s
}

// lookEvery is how often at most the files of a certificate are looked at.
const lookEvery = time.Second

// pair is a certificate with its key, read again when one of the files changes.
// A pair that cannot be read leaves the one before in use.
type pair struct {
	certificate, key string // files
	log              *slog.Logger

	mu      sync.Mutex
	now     *tls.Certificate
	changed [2]time.Time // of the files, as they were last tried
	looked  time.Time
	trouble string
}

// get returns the certificate for a handshake.
func (p *pair) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.look()
	return p.now, nil
}

func (p *pair) state() (expires time.Time, trouble string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.look()
	return p.now.Leaf.NotAfter, p.trouble
}

// look reads the files again when they changed. The lock is held.
func (p *pair) look() {
	if now := time.Now(); now.Sub(p.looked) >= lookEvery {
		p.looked = now
		if changed, err := p.times(); err != nil || changed != p.changed {
			if err := p.load(); err != nil && err.Error() != p.trouble {
				p.log.Warn("a changed certificate is not taken; the one before stays in use", "file", p.certificate, "error", err)
				p.trouble = "its changed certificate is not taken, and the one before stays in use: " + err.Error()
			}
		}
	}
}

func (p *pair) times() (t [2]time.Time, err error) {
	for i, file := range []string{p.certificate, p.key} {
		info, err := os.Stat(file)
		if err != nil {
			return t, err
		}
		t[i] = info.ModTime()
	}
	return t, nil
}

func (p *pair) load() error {
	changed, err := p.times()
	if err != nil {
		return fmt.Errorf("read the certificate: %w", err)
	}
	loaded, err := tls.LoadX509KeyPair(p.certificate, p.key)
	p.changed = changed
	if err != nil {
		return fmt.Errorf("read the certificate %s with the key %s: %w", p.certificate, p.key, err)
	}
	p.now, p.trouble, p.looked = &loaded, "", time.Now()
	return nil
}
