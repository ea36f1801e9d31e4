package control_test

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/machine"
	"unitas/internal/notice"
	"unitas/internal/store"
)

// hooked makes a group with these hooks, and gives each that sends a secret.
func (b *bench) hooked(size int, hooks ...fleet.Hook) (secret string) {
	b.t.Helper()
	secret = notice.NewSecret()
	b.group(0)
	err := b.store.ChangeGroupAnd(ctx, time.Now(), "ada", "berths", store.AnyRevision, func(tx *store.Tx, g *store.Group) (e fleet.Entry, err error) {
		g.Group, e, err = g.Change(func(g *fleet.Group) { g.Size, g.Hooks = size, hooks }, "")
		for _, h := range hooks {
			if h.Send != "" && err == nil {
				err = tx.SetHookSecret(ctx, g.Name, h.Name, secret)
			}
		}
		return e, err
	})
	if err != nil {
		b.t.Fatal(err)
	}
	return secret
}

func (b *bench) deliveries() []store.Delivery {
	all, err := b.store.Deliveries(ctx, "berths", "", "", store.Page{Limit: 100})
	if err != nil {
		b.t.Fatal(err)
	}
	return all
}

// receiver is where messages go; each gets the next of what it is to answer, the last again
// and again.
type receiver struct {
	*httptest.Server
	mu     sync.Mutex
	bodies []string
	ids    []string
	heads  []http.Header
}

func newReceiver(t *testing.T, answers ...func(http.ResponseWriter)) *receiver {
	r := &receiver{}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body, _ := io.ReadAll(q.Body)
		r.mu.Lock()
		n := len(r.bodies)
		r.bodies, r.ids, r.heads = append(r.bodies, string(body)), append(r.ids, q.Header.Get("Webhook-Id")), append(r.heads, q.Header.Clone())
		r.mu.Unlock()
		answers[min(n, len(answers)-1)](w)
	}))
	t.Cleanup(r.Close)
	return r
}

func says(status int, body string) func(http.ResponseWriter) {
	return func(w http.ResponseWriter) {
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}
}

func (r *receiver) heard() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.bodies)
}

// TestAHookIsTold: each ticket goes out signed, again under the same id until it is heard, and
// its response is the answer.
func TestAHookIsTold(t *testing.T) {
	b := newBench(t)
	r := newReceiver(t, says(503, "not yet"), says(200, `{"answer": "pass", "note": "120 sailings"}`))
	b.start("one")
	secret := b.hooked(1, fleet.Hook{Name: "warm-cache", At: fleet.AtLaunch, Deadline: time.Minute, MaxDeadline: time.Minute, Otherwise: fleet.Fail, Send: r.URL})
	b.whole(1)
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.ids) != 2 || r.ids[0] != "berths-001.1.warm-cache" || r.ids[1] != r.ids[0] {
		t.Errorf("it was sent as %v", r.ids)
	}
	if err := notice.Verify(secret, r.heads[1], []byte(r.bodies[1])); err != nil {
		t.Errorf("the signature: %v", err)
	}
	for _, part := range []string{`"instance":"berths-001"`, `"port":8080`, `"answer_path":"/v1/instances/berths-001/tickets/warm-cache/answer"`, `"type":"unitas.ticket.opened"`} {
		if !strings.Contains(r.bodies[1], part) {
			t.Errorf("the message says no %s: %s", part, r.bodies[1])
		}
	}
	all := b.deliveries()
	if len(all) != 2 || all[0].Status != 200 || !all[0].Heard || all[1].Status != 503 || all[1].Heard || all[1].CameBack != "not yet" {
		t.Errorf("recorded is %+v", all)
	}
	if e := b.journal("ticket.passed"); len(e) != 1 || !strings.Contains(e[0].Because, "120 sailings") || e[0].Actor != "hook warm-cache" {
		t.Errorf("the journal says %+v", e)
	}
	if u := b.ctl.Holds("berths")["warm-cache"]; u.Median < 500*time.Millisecond || u.Median > 30*time.Second {
		t.Errorf("it usually holds for %s", u.Median)
	}
}

// TestATakenOverTicketIsNotToldTwice: who was told once is not told again by the next service,
// and the answer counts whoever hears it.
func TestATakenOverTicketIsNotToldTwice(t *testing.T) {
	b := newBench(t)
	r := newReceiver(t, says(202, ""))
	b.start("one")
	b.hooked(1, fleet.Hook{Name: "warm-cache", At: fleet.AtLaunch, Deadline: time.Minute, MaxDeadline: time.Minute, Otherwise: fleet.Fail, Send: r.URL})
	b.eventually("it was told", func() bool { return len(b.deliveries()) == 1 })
	b.stop()
	b.start("one")
	b.eventually("it is held", func() bool {
		in, err := b.store.Instance(ctx, "berths-001")
		return err == nil && in.State == fleet.HeldIn && b.ctl.Keeps("berths")
	})
	if err := b.ctl.AnswerTicket(ctx, "ada", "berths-001", "warm-cache", 1, fleet.Pass, "by hand"); err != nil {
		t.Fatal(err)
	}
	if err := b.ctl.AnswerTicket(ctx, "ada", "berths-001", "warm-cache", 0, fleet.Pass, "again"); err != nil {
		t.Errorf("the same answer again: %v", err)
	}
	var refusal *fleet.Refusal
	if err := b.ctl.AnswerTicket(ctx, "ada", "berths-001", "warm-cache", 2, fleet.Pass, ""); !errors.As(err, &refusal) {
		t.Errorf("an answer to another launch: %v", err)
	}
	b.whole(1)
	if n := r.heard(); n != 1 {
		t.Errorf("it was told %d times", n)
	}
	if err := b.ctl.SendTicket(ctx, "ada", "berths-001", "warm-cache"); err != nil || r.heard() != 2 {
		t.Errorf("sent again by hand: %v, %d times", err, r.heard())
	}
	if all := b.deliveries(); len(all) != 2 || all[0].SentBy != "ada" {
		t.Errorf("recorded is %+v", all)
	}
}

// runner is a yard whose machines run commands.
type runner struct {
	*yard
	ran func(ctx context.Context, id string, command []string) (machine.Ran, error)
}

func (r runner) Run(ctx context.Context, id string, command []string) (machine.Ran, error) {
	return r.ran(ctx, id, command)
}

// TestACommandAnswers: its exit status does, what it wrote is kept, and a machine that stops
// waits for it. One that does not end is ended with its ticket.
func TestACommandAnswers(t *testing.T) {
	b := newBench(t)
	ended := make(chan error, 1)
	b.machines = runner{b.yard, func(ctx context.Context, id string, command []string) (machine.Ran, error) {
		switch {
		case command[0] == "join":
			return machine.Ran{Output: []byte("joined\nas " + id + "\n"), Took: time.Second}, nil
		case b.yard.stopped(id) > 0:
			t.Errorf("the machine of %s was stopped before its logs were saved", id)
		}
		<-ctx.Done() // it never ends by itself
		ended <- ctx.Err()
		return machine.Ran{Status: -1, Why: "killed by signal 9"}, nil
	}}
	b.start("one")
	b.hooked(1,
		fleet.Hook{Name: "join", At: fleet.AtLaunch, Deadline: time.Minute, MaxDeadline: time.Minute, Otherwise: fleet.Fail, Run: []string{"join"}},
		fleet.Hook{Name: "save-logs", At: fleet.AtRetire, Deadline: 2 * time.Second, MaxDeadline: time.Minute, Otherwise: fleet.Pass, Run: []string{"save"}})
	b.whole(1)
	if e := b.journal("ticket.passed"); len(e) != 1 || !strings.Contains(e[0].Because, "as berths-001") {
		t.Errorf("the journal says %+v", e)
	}
	if all := b.deliveries(); len(all) != 1 || all[0].Kind != "command" || all[0].Status != 0 || all[0].CameBack != "joined\nas berths-001\n" {
		t.Errorf("recorded is %+v", all)
	}
	if err := b.store.ChangeGroup(ctx, time.Now(), "ada", "berths", store.AnyRevision, func(_ store.Reader, g *store.Group) (e fleet.Entry, err error) {
		g.Group, e, err = g.Change(func(g *fleet.Group) { g.Size = 0 }, "")
		return e, err
	}); err != nil {
		t.Fatal(err)
	}
	b.gone("it goes once its time is over", "berths-001")
	select {
	case <-ended:
	case <-time.After(30 * time.Second):
		t.Error("its command goes on")
	}
	if e := b.journal("ticket.expired"); len(e) != 1 {
		t.Errorf("the journal says %+v", e)
	}
}

// TestAFrozenGroupLosesNoTicket: a deadline that was over while the group was frozen runs anew at the thaw.
func TestAFrozenGroupLosesNoTicket(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.hooked(1, fleet.Hook{Name: "warm-cache", At: fleet.AtLaunch, Deadline: time.Second, MaxDeadline: time.Minute, Otherwise: fleet.Pass})
	change := func(f func(g fleet.Group) (fleet.Group, fleet.Entry, error)) {
		t.Helper()
		if err := b.store.ChangeGroup(ctx, time.Now(), "ada", "berths", store.AnyRevision, func(_ store.Reader, g *store.Group) (e fleet.Entry, err error) {
			g.Group, e, err = f(g.Group)
			return e, err
		}); err != nil {
			t.Fatal(err)
		}
	}
	var over time.Time
	b.eventually("it is held", func() bool {
		in, err := b.store.Instance(ctx, "berths-001")
		if err != nil || len(in.Tickets) == 0 {
			return false
		}
		over = in.Tickets[0].Deadline
		return true
	})
	change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.Freeze("storm") })
	b.eventually("its deadline is over", func() bool { return time.Now().After(over.Add(50 * time.Millisecond)) })
	if n := len(b.journal("ticket.expired")); n != 0 {
		t.Fatalf("it expired while the group was frozen, %d times", n)
	}
	change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.Thaw("") })
	b.eventually("it runs anew", func() bool { return len(b.journal("ticket.extended")) == 1 })
	b.whole(1)
}
