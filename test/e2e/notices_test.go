package e2e

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/mailcatch"
	"unitas/internal/notice"
	"unitas/internal/pgserver/pgtest"
)

// TestWhoIsTold: what happens is told by signed message and by mail to who asked for it and to
// nobody else, what comes together as one, and again after the other side was away.
func TestWhoIsTold(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	post := mailcatch.Listen(l, nil)
	t.Cleanup(post.Close)
	board := &board{}
	there := httptest.NewServer(board)
	t.Cleanup(there.Close)
	s := startOn(t, pgtest.Database(t), func(s *service) {
		s.flags = []string{"--mail-server", "smtp://" + l.Addr().String(), "--mail-from", "unitas@saltmere.example", "--url", "https://unitas.saltmere.example"}
	})
	s.stock()
	add := func(n contract.NewNotice) {
		t.Helper()
		must[contract.Notice](t)(client.Read[contract.Notice](s.api.AddNotice(ctx, nil, n)))
	}
	soon, gather, mails, elsewhere := 0.0, 3.0, []string{"sre@saltmere.example"}, []string{"timetable"}
	add(contract.NewNotice{Name: "on-call", Topics: []contract.Topic{contract.Launches, contract.Resizes}, Mail: &mails, GatherSeconds: &gather})
	s.group(3)
	add(contract.NewNotice{Name: "board", Topics: []contract.Topic{contract.AtMax}, Send: &there.URL, GatherSeconds: &soon, Groups: &elsewhere})
	secret := must[contract.HookSecret](t)(client.Read[contract.HookSecret](s.api.GetNoticeSecret(ctx, "board"))).Secret
	board.set(secret, true) // at first it is away

	s.eventually("four launches are one mail", func() error {
		all := post.Mails()
		if len(all) != 1 {
			return fmt.Errorf("%d mails", len(all))
		}
		for _, words := range []string{"timetable: 4 launches", "To: <sre@saltmere.example>", "https://unitas.saltmere.example/groups/timetable", "timetable-004", "You are told by the notice on-call"} {
			if !strings.Contains(all[0].Raw, words) {
				t.Fatalf("the mail does not say %q:\n%s", words, all[0].Raw)
			}
		}
		return nil
	})
	most, whatever := 9, "*"
	must[contract.Group](t)(client.Read[contract.Group](s.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &most})))
	s.eventually("the board heard nothing and is told to be failing", func() error {
		n, _, err := client.Read[contract.Notice](s.api.GetNotice(ctx, "board"))
		if err == nil && n.FailingAt == nil {
			err = errors.New("it is not failing")
		}
		return err
	})
	board.set(secret, false)
	var told notice.Content
	s.eventually("the board hears once it is back", func() error {
		heard := board.all()
		if len(heard) == 0 {
			return errors.New("it heard nothing")
		}
		var event struct {
			Type, Subject string
			Data          notice.Content
		}
		if err := json.Unmarshal(heard[0], &event); err != nil {
			t.Fatal(err)
		}
		if told = event.Data; event.Type != "unitas.notice" || event.Subject != "board" {
			t.Fatalf("it heard %s", heard[0])
		}
		return nil
	})
	if len(told.Lines) != 1 || told.Lines[0].Kind != "group.resized" || told.Lines[0].Group != "timetable" || told.Lines[0].Topics[0] != "at-max" || len(told.Groups) != 1 || !strings.Contains(told.Groups[0].Sentence, "serving") {
		t.Errorf("the board heard %+v", told)
	}
	s.eventually("it does not count as failing any more", func() error {
		n, _, err := client.Read[contract.Notice](s.api.GetNotice(ctx, "board"))
		if err == nil && n.FailingAt != nil {
			err = errors.New("it is failing")
		}
		return err
	})
	messages := must[contract.MessageList](t)(client.Read[contract.MessageList](s.api.ListMessages(ctx, "board"))).Items
	if len(messages) != 1 || messages[0].State != contract.MessageStateSent || messages[0].Tries < 2 || messages[0].Status != 200 {
		t.Errorf("its messages are %+v", messages)
	}
	again := must[contract.Message](t)(client.Read[contract.Message](s.api.SendMessage(ctx, "board", contract.NewMessage{Again: &messages[0].Number})))
	if again.State != contract.MessageStateSent || again.SentBy != "admin" || len(board.all()) != 2 {
		t.Errorf("sent again it is %+v, and the board heard %d", again, len(board.all()))
	}
	b := contract.Notice{}
	board.mu.Lock()
	board.asks = "Bearer quay"
	board.mu.Unlock()
	change := func(c contract.NoticeSettings) {
		t.Helper()
		b = must[contract.Notice](t)(client.Read[contract.Notice](s.api.ChangeNotice(ctx, "board", &contract.ChangeNoticeParams{IfMatch: &whatever}, c)))
	}
	if m := must[contract.Message](t)(client.Read[contract.Message](s.api.SendMessage(ctx, "board", contract.NewMessage{}))); m.Status != http.StatusUnauthorized {
		t.Errorf("without its header a message is %+v", m)
	}
	change(contract.NoticeSettings{Headers: &map[string]string{"Authorization": "Bearer quay"}})
	if m := must[contract.Message](t)(client.Read[contract.Message](s.api.SendMessage(ctx, "board", contract.NewMessage{}))); m.State != contract.MessageStateSent {
		t.Errorf("with its header a message is %+v", m)
	}
	if _, _, answer := s.call("GET", "/v1/notices/board", ""); len(b.Headers) != 1 || b.Headers[0] != "Authorization" || strings.Contains(answer, "quay") {
		t.Errorf("of its headers is told %v: %s", b.Headers, answer)
	}
	off := true
	if change(contract.NoticeSettings{Off: &off}); len(b.Headers) != 1 {
		t.Errorf("another setting takes its headers: %v", b.Headers)
	}
	other := there.URL + "/other"
	if change(contract.NoticeSettings{Send: &other}); len(b.Headers) != 0 {
		t.Errorf("another address is sent them: %v", b.Headers)
	}
	test := must[contract.Message](t)(client.Read[contract.Message](s.api.SendMessage(ctx, "on-call", contract.NewMessage{})))
	if test.State != contract.MessageStateSent || test.Subject != "A test of the notice on-call" {
		t.Errorf("a test is %+v", test)
	}
}

// board is somebody who hears signed messages, and may be away.
type board struct {
	mu     sync.Mutex
	secret string
	asks   string // for in the header Authorization
	away   bool
	heard  []json.RawMessage
}

func (b *board) set(secret string, away bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.secret, b.away = secret, away
}

func (b *board) all() []json.RawMessage {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]json.RawMessage{}, b.heard...)
}

func (b *board) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	raw, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case b.away:
		http.Error(w, "the board is away", http.StatusBadGateway)
	case b.asks != "" && r.Header.Get("Authorization") != b.asks, notice.Verify(b.secret, r.Header, raw) != nil:
		http.Error(w, "who are you?", http.StatusUnauthorized)
	default:
		b.heard = append(b.heard, raw)
	}
}
