package notice

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

func message(url string) Message {
	return Message{URL: url, Secret: NewSecret(), ID: "timetable-001.1.warm-cache", Type: "unitas.ticket.opened", Source: "unitas", Subject: "timetable-001/warm-cache",
		Time: time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC), Data: map[string]string{"instance": "timetable-001"}}
}

// TestSignedAsTheStandardsSay takes a message as a receiver would that knows only the two
// specifications.
func TestSignedAsTheStandardsSay(t *testing.T) {
	var m Message
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if err := Verify(m.Secret, r.Header, body); err != nil {
			t.Errorf("the signature: %v", err)
		}
		if err := Verify(NewSecret(), r.Header, body); err == nil {
			t.Error("another secret verifies it as well")
		}
		if err := Verify(m.Secret, r.Header, append(body, ' ')); err == nil {
			t.Error("another body verifies as well")
		}
		var e map[string]any
		if err := json.Unmarshal(body, &e); err != nil {
			t.Error(err)
		}
		for field, want := range map[string]any{"specversion": "1.0", "id": m.ID, "type": m.Type, "source": "unitas", "subject": m.Subject, "time": "2026-05-01T06:00:00Z"} {
			if e[field] != want {
				t.Errorf("%s is %v, not %v", field, e[field], want)
			}
		}
		if got := r.Header.Get("Content-Type"); got != "application/cloudevents+json" {
			t.Errorf("it comes as %q", got)
		}
		if r.Header.Get("Authorization") != "Bearer quay" {
			t.Errorf("its own headers are %v", r.Header)
		}
		if r.Header.Get("Webhook-Id") != m.ID || r.Header.Get("Webhook-Timestamp") == "" {
			t.Errorf("headers %v", r.Header)
		}
		_, _ = io.WriteString(w, `{"answer": "pass", "note": "120 sailings\u001b[31m warmed"}`)
	}))
	defer receiver.Close()
	m = message(receiver.URL)
	m.Headers = map[string]string{"authorization": "Bearer quay", "Webhook-Id": "another"}
	out := New().Send(context.Background(), m)
	if out.Status != 200 || !out.Heard || out.Answer != "pass" || strings.ContainsRune(out.Note, 27) || !strings.HasPrefix(out.Note, "120 sailings") {
		t.Errorf("it came to %+v", out)
	}
}

// TestWhatCameBack: what is no answer answers nothing, and what was not taken is to be sent
// again.
func TestWhatCameBack(t *testing.T) {
	for _, c := range []struct {
		status        int
		body          string
		heard         bool
		answer, reads string
	}{
		{200, `{"answer": "fail", "note": "no room"}`, true, "fail", "no room"},
		{202, ``, true, "", ""},
		{200, `{"answer": "maybe"}`, true, "", "maybe"},
		{200, `<html>`, true, "", "<html>"},
		{500, `{"answer": "pass"}`, false, "", "pass"},
		{307, ``, false, "", ""},
		{410, ``, true, "", ""},
	} {
		went := 0
		receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			went++
			w.Header().Set("Location", "/elsewhere")
			w.WriteHeader(c.status)
			_, _ = io.WriteString(w, c.body)
		}))
		out := New().Send(context.Background(), message(receiver.URL))
		receiver.Close()
		if out.Status != c.status || out.Heard != c.heard || out.Answer != c.answer || !strings.Contains(out.CameBack, c.reads) || went != 1 {
			t.Errorf("%d %s came to %+v after %d requests", c.status, c.body, out, went)
		}
	}
}

// TestNobodyThere: that nobody answers is said in words.
func TestNobodyThere(t *testing.T) {
	receiver := httptest.NewServer(http.NotFoundHandler())
	receiver.Close()
	if out := New().Send(context.Background(), message(receiver.URL)); out.Heard || out.Status != 0 || !strings.Contains(out.CameBack, "refused") {
		t.Errorf("it came to %+v", out)
	}
}

// TestEndlessAnswers are read only so far.
func TestEndlessAnswers(t *testing.T) {
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for r.Context().Err() == nil {
			if _, err := io.WriteString(w, strings.Repeat("x", 1<<16)); err != nil {
				return
			}
		}
	}))
	defer receiver.Close()
	out := New().Send(context.Background(), message(receiver.URL))
	if !out.Heard || len(out.CameBack) > maxNote+8 {
		t.Errorf("it came to %d bytes, %+v", len(out.CameBack), out.Status)
	}
}

func TestSecrets(t *testing.T) {
	if err := CheckSecret(NewSecret()); err != nil {
		t.Error(err)
	}
	for _, bad := range []string{"", "whsec_", "whsec_!!!", "whsec_c2hvcnQ=", "whsec_" + strings.Repeat("QUJD", 100)} {
		if CheckSecret(bad) == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

// TestHeadersOfMessages: which headers messages may have besides their own.
func TestHeadersOfMessages(t *testing.T) {
	for _, good := range [][2]string{{"Authorization", "Bearer quay"}, {"x-berth", "3"}} {
		if err := CheckHeader(good[0], good[1]); err != nil {
			t.Errorf("%v: %v", good, err)
		}
	}
	for _, bad := range [][2]string{{"", "x"}, {"Bad Name", "x"}, {"host", "x"}, {"content-length", "1"}, {"webhook-signature", "x"}, {"Transfer-Encoding", "chunked"}, {"X-Berth", ""}, {"X-Berth", "a\r\nHost: b"}} {
		if CheckHeader(bad[0], bad[1]) == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}
