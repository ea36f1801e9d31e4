package e2e

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/waittest"
)

// TestRelease is the whole job: two versions under traffic, a bad third that
// holds itself and is reverted, a resize, and the end of the group.
func TestRelease(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(5)
	tr := s.traffic()

	r := s.rollOut("timetable-web@2", "1", "100%")
	done := s.becomes(r.Number, contract.RolloutStateDone)
	if len(done.Waves) != 2 || done.Waves[0].PassedAt == nil || done.Waves[1].PassedAt == nil || done.EndedAt == nil {
		t.Errorf("the rollout's waves are %+v", done.Waves)
	}
	s.whole(4)
	zones := map[string]int{}
	for _, in := range s.instances() {
		zones[in.Zone]++
		if in.Version != "timetable-web@2" || in.Verdict != contract.VerdictHealthy {
			t.Errorf("%s is %s on %s", in.Id, in.Verdict, in.Version)
		}
	}
	if len(zones) != 3 {
		t.Errorf("the zones hold %v", zones)
	}

	bad := s.rollOut("timetable-web@3", "1", "50%", "100%")
	held := s.becomes(bad.Number, contract.RolloutStateHeld)
	if !strings.Contains(held.Why, "not healthy within the settle time of 5 s") || !strings.Contains(held.Why, "503") {
		t.Errorf("it is held because %s", held.Why)
	}
	if n := len(s.machines()); n != 5 {
		t.Errorf("%d machines while held; the four old ones and the one that failed", n)
	}
	s.tell(bad.Number, contract.RolloutCommandCommandRevert)
	s.becomes(bad.Number, contract.RolloutStateReverted)
	s.whole(4)
	if low := tr.lowest.Load(); low < 4 {
		t.Errorf("at one time only %d served", low)
	}
	tr.mustBeWhole(t)

	g, etag, err := client.Read[contract.Group](s.api.GetGroup(ctx, "timetable"))
	if err != nil || g.Template != "timetable-web@2" {
		t.Fatalf("the group is on %s: %v", g.Template, err)
	}
	two := 2
	must[contract.Group](t)(client.Read[contract.Group](s.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &etag}, contract.GroupChange{Size: &two})))
	s.whole(2)
	whatever := "*"
	must[contract.Group](t)(client.Read[contract.Group](s.api.DeleteGroup(ctx, "timetable", &contract.DeleteGroupParams{IfMatch: &whatever})))
	s.eventually("the group is gone", func() error {
		_, _, err := client.Read[contract.Group](s.api.GetGroup(ctx, "timetable"))
		if client.Is(err, "not-found") {
			return nil
		}
		return fmt.Errorf("still there: %v", err)
	})
	if left := s.machines(); len(left) > 0 {
		t.Errorf("machines are left: %v", left)
	}
	if res, err := http.Get("http://" + s.front + "/"); err != nil || res.StatusCode != http.StatusServiceUnavailable {
		t.Errorf("a pool without targets answers %v %v", res, err)
	} else {
		res.Body.Close()
	}
	s.mustHaveCauses()
}

// mustHaveCauses holds the journal against what the instances went through.
func (s *service) mustHaveCauses() {
	s.t.Helper()
	entries := s.journal("")
	went := map[string][]string{}
	for _, e := range slices.Backward(entries) {
		if state, ok := strings.CutPrefix(e.Kind, "instance."); ok {
			went[*e.Instance] = append(went[*e.Instance], state)
		}
		if strings.HasPrefix(e.Kind, "instance.") && e.Actor != "unitas" {
			s.t.Errorf("%s was done by %s", e.Kind, e.Actor)
		}
		if e.Kind == "rollout.started" && e.Actor != "admin" {
			s.t.Errorf("the rollout was started by %s", e.Actor)
		}
	}
	for id, states := range went {
		if states[0] != "ordered" || states[len(states)-1] != "gone" {
			s.t.Errorf("%s went %v", id, states)
		}
	}
}

// TestKilledInTheMiddle kills the service with -9 while it rolls out, and
// starts it again: nothing is doubled, nothing is lost, and it goes on.
func TestKilledInTheMiddle(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	r := s.rollOut("timetable-web@2", "1", "50%", "100%")
	for _, moment := range []string{"at its beginning", "in a later wave"} {
		s.eventually("the rollout moves "+moment, func() error {
			now := s.rollout(r.Number)
			for _, in := range s.instances() {
				if in.Version == "timetable-web@2" && in.State != contract.InstanceStateServing && (moment == "at its beginning" || now.Wave > 1) {
					return nil
				}
			}
			return errors.New(now.Sentence)
		})
		before := s.machines()
		s.stop(syscall.SIGKILL)
		for _, pid := range before {
			if syscall.Kill(pid, 0) != nil {
				t.Errorf("the machine %d did not outlive the service", pid)
			}
		}
		s.up()
	}
	s.becomes(r.Number, contract.RolloutStateDone)
	s.whole(4)
	seen := map[string]bool{}
	for _, in := range s.instances() {
		if seen[in.Address] || in.Version != "timetable-web@2" {
			t.Errorf("%s on %s has %s", in.Id, in.Version, in.Address)
		}
		seen[in.Address] = true
		s.pidOf(in.Id)
	}
	if lost := s.journal("instance.lost"); len(lost) > 0 {
		t.Errorf("machines were lost: %+v", lost)
	}
	if ordered := len(s.journal("instance.ordered")); ordered != 8 {
		t.Errorf("%d instances were ordered in all, and 8 are enough", ordered)
	}
}

// killed is how often the service is killed; UNITAS_KILLS has it more often.
func killed() int {
	if n, err := strconv.Atoi(os.Getenv("UNITAS_KILLS")); err == nil {
		return n
	}
	return 6
}

// hooks adds a launch hook and a retire hook that run commands, and returns the file to
// which each instance's name is added as it goes.
func (s *service) hooks() string {
	s.t.Helper()
	file := filepath.Join(s.t.TempDir(), "saved")
	if err := errors.Join(os.WriteFile(file, nil, 0o666), os.Chmod(file, 0o666)); err != nil {
		s.t.Fatal(err)
	}
	for dir := filepath.Dir(file); len(dir) > len(os.TempDir()); dir = filepath.Dir(dir) { // machines have users of their own
		_ = os.Chmod(dir, 0o755)
	}
	whatever := "*"
	for name, hook := range map[string]contract.NewHook{
		"join": {At: contract.HookPointLaunch, Run: &[]string{"sleep", "0.2"}},
		"save": {At: contract.HookPointRetire, Run: &[]string{"sh", "-c", "sleep 0.2; echo $UNITAS_INSTANCE >> " + file}},
	} {
		hook.Name = name
		must[contract.Group](s.t)(client.Read[contract.Group](s.api.AddHook(ctx, "timetable", &contract.AddHookParams{IfMatch: &whatever}, hook)))
	}
	return file
}

// TestKilledAgainAndAgain kills the service with -9 at moments drawn at random
// while a rollout with hooks and drains goes out, and holds what is there against what
// must be.
func TestKilledAgainAndAgain(t *testing.T) {
	t.Parallel()
	seed := uint64(time.Now().UnixNano())
	t.Logf("the moments are drawn with the seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 0))
	s := start(t)
	s.stock()
	s.group(20)
	saved := s.hooks()
	ro := s.rollOut("timetable-web@2", "1", "50%", "100%")
	for n := range killed() {
		if now := s.rollout(ro.Number); n > 0 && now.EndedAt != nil { // back and forth
			ro = s.rollOut(now.From, "1", "50%", "100%")
		}
		moment := time.NewTimer(time.Duration(r.IntN(700)) * time.Millisecond)
		<-moment.C
		s.stop(syscall.SIGKILL)
		seen := map[string]int{}
		for _, pid := range s.machines() {
			if comm, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid)); string(comm) == "sh\n" || string(comm) == "sleep\n" {
				continue // a command of a hook
			}
			raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
			for variable := range strings.SplitSeq(string(raw), "\x00") {
				if id, ok := strings.CutPrefix(variable, "UNITAS_INSTANCE="); ok {
					seen[id]++
				}
			}
		}
		for id, n := range seen {
			if n > 1 {
				t.Errorf("%s has %d machines", id, n)
			}
		}
		if len(seen) > 4+2+4 { // the size, what is above, and those on their way out
			t.Errorf("there are %d machines", len(seen))
		}
		s.up()
	}
	s.becomes(ro.Number, contract.RolloutStateDone)
	s.whole(4)
	if lost := s.journal("instance.lost"); len(lost) > 0 {
		t.Errorf("machines were lost: %+v", lost)
	}
	raw, err := os.ReadFile(saved)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range s.journal("instance.gone") {
		if e.Instance != nil && !strings.Contains(string(raw), *e.Instance+"\n") {
			t.Errorf("%s is gone, and its retire hook did not run", *e.Instance)
		}
	}
}

// requestsSent is how many go through the listener; UNITAS_REQUESTS has it be more.
func requestsSent() int64 {
	if n, err := strconv.ParseInt(os.Getenv("UNITAS_REQUESTS"), 10, 64); err == nil {
		return n
	}
	return 15_000
}

// TestBackAndForth has rollouts go back and forth under traffic that asks as fast as it may:
// no request fails.
func TestBackAndForth(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	s.hooks()
	asking, stop := context.WithCancel(ctx)
	defer stop()
	var sent, failed atomic.Int64
	var first atomic.Pointer[string]
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			c := &http.Client{Transport: &http.Transport{}, Timeout: 20 * time.Second}
			for asking.Err() == nil {
				res, err := c.Get("http://" + s.front + "/")
				why := ""
				switch {
				case err != nil:
					why = err.Error()
				default:
					_, _ = io.Copy(io.Discard, res.Body)
					res.Body.Close()
					if res.StatusCode != http.StatusOK {
						why = res.Status
					}
				}
				if sent.Add(1); why != "" {
					failed.Add(1)
					first.CompareAndSwap(nil, &why)
				}
			}
		})
	}
	rollouts, to := 0, "timetable-web@2"
	for sent.Load() < requestsSent() {
		s.becomes(s.rollOut(to, "1", "50%", "100%").Number, contract.RolloutStateDone)
		rollouts++
		to = map[string]string{"timetable-web@2": "timetable-web@1", "timetable-web@1": "timetable-web@2"}[to]
	}
	stop()
	all.Wait()
	t.Logf("%d requests, %d failed, %d rollouts", sent.Load(), failed.Load(), rollouts)
	if n := failed.Load(); n > 0 {
		t.Errorf("%d of %d requests failed, the first with: %s", n, sent.Load(), *first.Load())
	}
}

// TestKilledBehindItsBack kills a machine: it is replaced, with the cause.
func TestKilledBehindItsBack(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	victim := s.instances()[1]
	if err := syscall.Kill(s.pidOf(victim.Id), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	s.eventually("it is replaced", func() error {
		for _, in := range s.instances() {
			if in.Id == victim.Id {
				return fmt.Errorf("it is still %s", in.State)
			}
		}
		return nil
	})
	s.whole(4)
	lost := s.journal("instance.lost")
	if len(lost) != 1 || *lost[0].Instance != victim.Id || !strings.Contains(lost[0].Because, "killed by signal 9") {
		t.Errorf("the journal says %+v", lost)
	}
	if fresh := s.instances()[3]; fresh.Zone != victim.Zone {
		t.Errorf("its place in %s was filled in %s", victim.Zone, fresh.Zone)
	}
}

// TestIllIsReplaced stops a machine's processes, so that it answers no more.
func TestIllIsReplaced(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	victim := s.instances()[0]
	if err := syscall.Kill(s.pidOf(victim.Id), syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	s.eventually("it is sent away", func() error {
		if len(s.journal("instance.gone")) == 0 {
			return errors.New("not yet")
		}
		return nil
	})
	s.whole(4)
	ill := s.journal("verdict.unhealthy")
	if len(ill) != 1 || *ill[0].Instance != victim.Id || !strings.Contains(ill[0].Because, "no whole answer within") {
		t.Errorf("the journal says %+v", ill)
	}
}

// TestStopAndStart: SIGTERM ends the service within seconds and leaves the
// instances as they are.
func TestStopAndStart(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	before := s.machines()
	// A watcher of events must not hold the service up.
	watching := make(chan struct{})
	go func() {
		_ = s.api.Events(t.Context(), "", func() { close(watching) }, func(client.Event) error { return errors.New("over") })
	}()
	waittest.For(t, "the watch", watching)
	if took := s.stop(syscall.SIGTERM); took > 6*time.Second {
		t.Errorf("stopping took %s", took)
	}
	s.up()
	s.whole(4)
	after := s.machines()
	slices.Sort(before)
	slices.Sort(after)
	if !slices.Equal(before, after) {
		t.Errorf("the machines were %v and are %v", before, after)
	}
	s.eventually("requests are answered again", func() error { return answers("http://" + s.front + "/") })
}

// TestDatabaseStops takes PostgreSQL away for ten seconds in the middle of a
// rollout: traffic goes on, and so does the rollout when it is back.
func TestDatabaseStops(t *testing.T) {
	t.Parallel()
	pg, err := pgtest.Cluster(ctx)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(pg.End)
	if err := pg.Create(ctx, "unitas"); err != nil {
		t.Fatal(err)
	}
	s := startOn(t, pg.URL("unitas"))
	s.stock()
	s.group(30)
	tr := s.traffic()
	r := s.rollOut("timetable-web@2", "1", "100%")
	s.eventually("the first wave is replaced", func() error {
		if s.rollout(r.Number).Waves[0].FilledAt == nil {
			return errors.New("not yet")
		}
		return nil
	})
	if err := pg.Stop(ctx); err != nil {
		t.Fatal(err)
	}
	back := time.After(10 * time.Second)
	s.eventually("the service says what is wrong", func() error {
		_, _, err := client.Read[contract.Group](s.api.GetGroup(ctx, "timetable"))
		if !client.Is(err, "unavailable") {
			return fmt.Errorf("it says %v", err)
		}
		return nil
	})
	waittest.For(t, "the service", back)
	if err := pg.Up(ctx); err != nil {
		t.Fatal(err)
	}
	s.becomes(r.Number, contract.RolloutStateDone)
	s.whole(4)
	tr.mustBeWhole(t)
}
