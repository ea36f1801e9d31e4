package builtin

import (
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"

	"unitas/internal/balancer"
)

// pairs are the certificates of a listener, in order.
type pairs []*pair

// loadPairs reads them; those that there were stay.
func loadPairs(wanted []balancer.Pair, before pairs, log *slog.Logger) (pairs, error) {
	all := make(pairs, len(wanted))
	for i, w := range wanted {
		for _, had := range before {
			if had.Pair == w {
				all[i] = had
			}
		}
		if all[i] == nil {
			all[i] = &pair{Pair: w, log: log}
			if err := all[i].load(); err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}

// get is the certificate for a handshake: the first that is for the name that is asked for, and
// that the caller can use; the first of all when none is.
func (all pairs) get(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	if len(all) == 0 {
		return nil, errors.New("the listener has no certificate")
	}
	for _, p := range all {
		if c := p.current(); hello.SupportsCertificate(c) == nil {
			return c, nil
		}
	}
	return all[0].current(), nil
}

// state tells when the first of them ends, and what is wrong with any.
func (all pairs) state() (expires time.Time, trouble string) {
	for _, p := range all {
		at, why := p.state()
		if expires.IsZero() || at.Before(expires) {
			expires = at
		}
		if trouble == "" {
			trouble = why
		}
	}
	return expires, trouble
}

// lookEvery is how often at most the files of a certificate are looked at.
const lookEvery = time.Second

// pair is a certificate with its key, read again when one of the files changes.
// A pair that cannot be read leaves the one before in use.
type pair struct {
	balancer.Pair
	log *slog.Logger

	mu      sync.Mutex
	now     *tls.Certificate
	changed [2]time.Time // of the files, as they were last tried
	looked  time.Time
	trouble string
}

func (p *pair) current() *tls.Certificate {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.look()
	return p.now
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
				p.log.Warn("a changed certificate is not taken; the one before stays in use", "file", p.Chain, "error", err)
				p.trouble = "its changed certificate is not taken, and the one before stays in use: " + err.Error()
			}
		}
	}
}

func (p *pair) times() (t [2]time.Time, err error) {
	for i, file := range []string{p.Chain, p.Key} {
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
	loaded, err := tls.LoadX509KeyPair(p.Chain, p.Key)
	p.changed = changed
	if err != nil {
		return fmt.Errorf("read the certificate %s with the key %s: %w", p.Chain, p.Key, err)
	}
	p.now, p.trouble, p.looked = &loaded, "", time.Now()
	return nil
}
