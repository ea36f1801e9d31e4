// Package mailcatch is a mail server that keeps what it is sent and passes nothing on. It stands
// in for one in the demo and in tests.
package mailcatch

import (
	"io"
	"net"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// Limits of what is kept.
const (
	most    = 1000
	longest = 1 << 20 // bytes of one mail
)

// Mail is one that was sent.
type Mail struct {
	At   time.Time
	From string
	To   []string
	Raw  string
}

// Catcher keeps the last mails.
type Catcher struct {
	server *smtp.Server
	heard  func(Mail)

	mu     sync.Mutex
	mails  []Mail
	refuse string
}

// Listen begins to take mail on the listener; heard is called with each, nil for nobody.
func Listen(l net.Listener, heard func(Mail)) *Catcher {
	c := &Catcher{heard: heard}
	c.server = smtp.NewServer(backend{c})
	c.server.Domain, c.server.MaxMessageBytes, c.server.MaxRecipients = "localhost", longest, 50
	c.server.ReadTimeout, c.server.WriteTimeout = 10*time.Second, 10*time.Second
	go func() { _ = c.server.Serve(l) }()
	return c
}

// Mails are those that were sent, oldest first.
func (c *Catcher) Mails() []Mail {
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]Mail{}, c.mails...)
}

// Refuse has all mail refused with a reason from now on; "" takes it again.
func (c *Catcher) Refuse(why string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.refuse = why
}

// Close ends it.
func (c *Catcher) Close() { _ = c.server.Close() }

type backend struct{ c *Catcher }

func (b backend) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{c: b.c}, nil }

type session struct {
	c    *Catcher
	mail Mail
}

func (s *session) Reset()        { s.mail = Mail{} }
func (s *session) Logout() error { return nil }

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.c.mu.Lock()
	defer s.c.mu.Unlock()
	if s.c.refuse != "" {
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: s.c.refuse}
	}
	s.mail.From = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.mail.To = append(s.mail.To, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(io.LimitReader(r, longest))
	if err != nil {
		return err
	}
	s.mail.At, s.mail.Raw = time.Now(), string(raw)
	s.c.mu.Lock()
	s.c.mails = append(s.c.mails, s.mail)
	s.c.mails = s.c.mails[max(0, len(s.c.mails)-most):]
	s.c.mu.Unlock()
	if s.c.heard != nil {
		s.c.heard(s.mail)
	}
	return nil
}
