package e2e

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"syscall"
	"testing"
	"time"

	"unitas/api/contract"
	"unitas/client"
)

// pool reads a pool.
func (s *service) pool(name string) contract.Pool {
	s.t.Helper()
	return must[contract.Pool](s.t)(client.Read[contract.Pool](s.api.GetPool(ctx, name)))
}

func (s *service) pools(names ...string) contract.Group {
	s.t.Helper()
	whatever := "*"
	return must[contract.Group](s.t)(client.Read[contract.Group](s.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Pools: &names})))
}

// TestPoolsJudgeAlone: a pool whose check finds nobody well takes nothing from the
// pool beside it, before and after a restart; when the group leaves it, it is forgotten.
func TestPoolsJudgeAlone(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	statuses, interval := "204", 0.1 // which it never answers
	must[contract.Check](t)(client.Read[contract.Check](s.api.CreateCheck(ctx, nil, contract.NewCheck{Name: "nowhere", Kind: contract.NewCheckKindHttp, Statuses: &statuses, IntervalSeconds: &interval})))
	must[contract.Pool](t)(client.Read[contract.Pool](s.api.CreatePool(ctx, nil, contract.NewPool{Name: "back", Listeners: &[]contract.PoolListener{{Address: s.back}}, Check: "nowhere"})))
	traffic := s.traffic()
	if g := s.pools("front", "back"); !strings.Contains(strings.Join(*g.Effects, ", "), "once nowhere finds it healthy") {
		t.Errorf("it is said to bring about %v", *g.Effects)
	}
	s.eventually("the other pool finds all ill", func() error {
		targets := s.pool("back").Targets
		if len(targets) != 4 {
			return fmt.Errorf("it has %d targets", len(targets))
		}
		for _, target := range targets {
			if target.Verdict != contract.VerdictUnhealthy {
				return fmt.Errorf("%s is %s: %s", target.Instance, target.Verdict, target.Why)
			}
			if !strings.Contains(target.Why, "failed 3 of 3: 200") {
				t.Errorf("it is said why: %s", target.Why)
			}
		}
		return nil
	})
	if err := answers("http://" + s.back + "/"); err == nil {
		t.Error("the other pool answers")
	}
	if p := s.pool("front"); !strings.HasPrefix(p.Sentence, "4 of 4 targets get requests") {
		t.Errorf("the first pool: %s", p.Sentence)
	}
	traffic.mustBeWhole(t)
	s.stop(syscall.SIGTERM)
	s.up()
	s.eventually("all get requests again", func() error {
		if p := s.pool("front"); !strings.HasPrefix(p.Sentence, "4 of 4 targets get requests") {
			return errors.New(p.Sentence)
		}
		return nil
	})
	s.pools("front")
	s.eventually("what it said is forgotten", func() error {
		for _, in := range s.instances() {
			if len(in.Reports) != 1 || in.Verdict != contract.VerdictHealthy {
				return fmt.Errorf("%s: %+v", in.Id, in.Reports)
			}
		}
		return nil
	})
	s.whole(4)
}

// TestNoRequestsBeforeThePasses: a pool that is put before a running group sends it
// nothing before its own check is satisfied, and shows how far that is.
func TestNoRequestsBeforeThePasses(t *testing.T) {
	s := start(t)
	s.stock()
	s.group(20)
	path, interval, passes := "/up", 0.5, 4
	must[contract.Check](t)(client.Read[contract.Check](s.api.CreateCheck(ctx, nil, contract.NewCheck{Name: "careful", Kind: contract.NewCheckKindHttp, Path: &path, IntervalSeconds: &interval, Passes: &passes})))
	must[contract.Pool](t)(client.Read[contract.Pool](s.api.CreatePool(ctx, nil, contract.NewPool{Name: "back", Listeners: &[]contract.PoolListener{{Address: s.back}}, Check: "careful"})))
	s.pools("front", "back")
	refused, progress := 0, map[string]bool{}
	s.eventually("the pool has all", func() error {
		before := s.pool("back")
		res, err := http.Get("http://" + s.back + "/")
		if err != nil {
			return err
		}
		raw, _ := io.ReadAll(res.Body)
		res.Body.Close()
		healthy := 0
		for _, target := range s.pool("back").Targets { // may be none yet
			if target.Verdict == contract.VerdictHealthy {
				healthy++
			} else if target.Open {
				t.Errorf("%s gets requests and is %s", target.Instance, target.Verdict)
			}
		}
		for _, target := range before.Targets {
			progress[target.Why] = true
		}
		switch {
		case res.StatusCode == http.StatusOK && healthy == 0:
			t.Errorf("it answers %s before any target is healthy", raw)
		case res.StatusCode != http.StatusOK:
			refused++
		}
		if healthy < 4 {
			return fmt.Errorf("%d are healthy", healthy)
		}
		return nil
	})
	if refused == 0 {
		t.Error("no request was refused before the passes were there")
	}
	said := false
	for why := range progress {
		said = said || strings.Contains(why, "of 4 passes; the last answer: 200")
	}
	if !said {
		t.Errorf("how far it is was told as %v", progress)
	}
}

// TestRestartRefusesNobody: who comes to a listener after a restart gets an answer of
// a target; nobody is told that there is none.
func TestRestartRefusesNobody(t *testing.T) {
	s := start(t)
	s.stock()
	s.group(20)
	for range 3 {
		s.stop(syscall.SIGTERM)
		done, answered := make(chan struct{}), make(chan map[int]int)
		go func() {
			c := http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
			statuses := map[int]int{}
			for {
				select {
				case <-done:
					answered <- statuses
					return
				case <-time.After(time.Millisecond):
				}
				if res, err := c.Get("http://" + s.front + "/"); err == nil {
					res.Body.Close()
					statuses[res.StatusCode]++
				}
			}
		}()
		s.up()
		s.whole(4)
		s.eventually("it is answered", func() error { return answers("http://" + s.front + "/") })
		close(done)
		if statuses := <-answered; len(statuses) != 1 || statuses[http.StatusOK] == 0 {
			t.Errorf("after a restart the answers are %v", statuses)
		}
	}
}
