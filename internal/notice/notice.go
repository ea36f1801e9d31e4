// Package notice sends messages to the outside: events in the form of CloudEvents, signed as
// the Standard Webhooks specification says.
package notice

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"golang.org/x/net/http/httpguts"

	webhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"unitas/internal/fleet/words"
)

// Limits of one message.
const (
	// SendLimit is how long the other side may take.
	SendLimit = 10 * time.Second
	dialLimit = 3 * time.Second
	atOnce    = 32
	maxAnswer = 64 << 10
	maxNote   = 500
	secretLen = 32
	// MaxSecret is how long a secret may be.
	MaxSecret = 200
)

// Message is one message to one address.
type Message struct {
	URL, Secret string
	Headers     map[string]string // besides its own
	// ID is the same when it is sent again, so that who hears it twice can tell.
	ID      string
	Type    string // such as unitas.ticket.opened
	Source  string
	Subject string
	Time    time.Time
	Data    any
}

// Delivery is what came of sending a message.
type Delivery struct {
	// Status is that of the answer, 0 when there was none.
	Status int
	Took   time.Duration
	// Heard is set when it need not be sent again: the other side took it, or wants no more.
	Heard bool
	// Answer is pass or fail when the other side said so at once, with its note.
	Answer, Note string
	// CameBack is the answer or why there is none, in words for people.
	CameBack string
}

// Sender sends messages, few at once.
type Sender struct {
	client *http.Client
	slots  chan struct{}
}

// New makes a sender.
func New() *Sender {
	transport := &http.Transport{
		DialContext: (&net.Dialer{Timeout: dialLimit}).DialContext, TLSHandshakeTimeout: dialLimit, ResponseHeaderTimeout: SendLimit,
		MaxIdleConns: atOnce, MaxConnsPerHost: atOnce, IdleConnTimeout: time.Minute, MaxResponseHeaderBytes: maxAnswer, ForceAttemptHTTP2: true,
	}
	return &Sender{slots: make(chan struct{}, atOnce), client: &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse // it goes where it was told to, or nowhere
	}}}
}

// NewSecret makes a secret to sign with.
func NewSecret() string {
	raw := make([]byte, secretLen)
	_, _ = rand.Read(raw)
	return "whsec_" + base64.StdEncoding.EncodeToString(raw)
}

// CheckSecret reports a secret that nothing can be signed with.
func CheckSecret(secret string) error {
	raw, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, "whsec_"))
	if err != nil || len(raw) < 24 || len(secret) > MaxSecret {
		return fmt.Errorf("a secret is whsec_ and at least 24 bytes in base64, up to %d characters in all", MaxSecret)
	}
	return nil
}

// CheckHeader reports a header that messages cannot have besides their own.
func CheckHeader(name, value string) error {
	canonical := http.CanonicalHeaderKey(name)
	switch {
	case !httpguts.ValidHeaderFieldName(name):
		return fmt.Errorf("%q is no name of a header", words.Plain(name, 80))
	case strings.HasPrefix(canonical, "Content-") || strings.HasPrefix(canonical, "Webhook-") || strings.HasPrefix(canonical, "Proxy-"),
		slices.Contains([]string{"Host", "Connection", "Transfer-Encoding", "Te", "Trailer", "Upgrade", "Keep-Alive", "Expect"}, canonical):
		return fmt.Errorf("the header %s is the message's own; give another", canonical)
	case value == "" || !httpguts.ValidHeaderFieldValue(value):
		return fmt.Errorf("the value of %s is none that a header can have: it is empty, or has control characters", canonical)
	}
	return nil
}

// Send sends a message once and waits for the answer, at most for [SendLimit].
func (s *Sender) Send(ctx context.Context, m Message) Delivery {
	select {
	case s.slots <- struct{}{}:
		defer func() { <-s.slots }()
	case <-ctx.Done():
		return Delivery{CameBack: "it was not sent: the service is stopping, or others were sent for too long"}
	}
	ctx, cancel := context.WithTimeout(ctx, SendLimit)
	defer cancel()
	begun := time.Now()
	out := s.send(ctx, m)
	out.Took = time.Since(begun)
	return out
}

func (s *Sender) send(ctx context.Context, m Message) Delivery {
	body, header, err := sign(m, time.Now())
	if err != nil {
		return Delivery{CameBack: err.Error()}
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, m.URL, bytes.NewReader(body))
	if err != nil {
		return Delivery{CameBack: plain(err.Error())}
	}
	r.Header = header
	answer, err := s.client.Do(r)
	if err != nil {
		return Delivery{CameBack: whyNot(err)}
	}
	defer answer.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(answer.Body, maxAnswer))
	if err != nil {
		return Delivery{Status: answer.StatusCode, CameBack: whyNot(err)}
	}
	return read(answer.StatusCode, raw)
}

// sign makes what is sent of a message.
func sign(m Message, now time.Time) ([]byte, http.Header, error) {
	e := event.New()
	e.SetID(m.ID)
	e.SetType(m.Type)
	e.SetSource(m.Source)
	e.SetSubject(m.Subject)
	e.SetTime(m.Time)
	if err := e.SetData(event.ApplicationJSON, m.Data); err != nil {
		return nil, nil, err
	}
	body, err := json.Marshal(e)
	if err != nil {
		return nil, nil, err
	}
	signer, err := webhooks.NewWebhook(m.Secret)
	if err != nil {
		return nil, nil, errors.New("its secret is none to sign with")
	}
	signature, err := signer.Sign(m.ID, now, body)
	header := http.Header{}
	for name, value := range m.Headers {
		header.Set(name, value)
	}
	for name, value := range map[string]string{
		"Content-Type": "application/cloudevents+json", "User-Agent": "unitas",
		webhooks.HeaderWebhookID: m.ID, webhooks.HeaderWebhookTimestamp: strconv.FormatInt(now.Unix(), 10), webhooks.HeaderWebhookSignature: signature,
	} {
		header.Set(name, value)
	}
	return body, header, err
}

// read tells what an answer says.
func read(status int, raw []byte) Delivery {
	out := Delivery{Status: status, Heard: (status >= 200 && status < 300) || status == http.StatusGone, CameBack: plain(string(raw))}
	var said struct {
		Answer string `json:"answer"`
		Note   string `json:"note"`
	}
	if status < 200 || status >= 300 || json.Unmarshal(raw, &said) != nil {
		return out
	}
	if said.Answer == "pass" || said.Answer == "fail" {
		out.Answer, out.Note = said.Answer, plain(said.Note)
	}
	return out
}

// whyNot tells why there is no answer, without the address, which everybody sees anyway.
func whyNot(err error) string {
	var of *url.Error
	if errors.As(err, &of) {
		if of.Timeout() {
			return fmt.Sprintf("no answer within %s", words.Span(SendLimit))
		}
		err = of.Err
	}
	return plain(err.Error())
}

func plain(text string) string { return words.Plain(text, maxNote) }

// Verify reports whether a request was signed with the secret, lately. The body is as it was
// read.
func Verify(secret string, header http.Header, body []byte) error {
	signer, err := webhooks.NewWebhook(secret)
	if err != nil {
		return err
	}
	return signer.Verify(body, header)
}
