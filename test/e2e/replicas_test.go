package e2e

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/porttest"
)

// replicas starts a first service under a name, and n more on its directory and database.
func replicas(t *testing.T, n int) []*service {
	t.Helper()
	first := startOn(t, pgtest.Database(t), func(s *service) { s.flags = []string{"--replica", "a"} })
	all := []*service{first}
	for k := range n {
		all = append(all, first.another(string(rune('b'+k))))
	}
	return all
}

// another is one more service beside this one.
func (s *service) another(name string) *service { return s.anotherOf(name, s.binary) }

// anotherOf is one more of another release.
func (s *service) anotherOf(name, binary string) *service {
	s.t.Helper()
	next := *s
	next.binary = binary
	next.listen, next.flags, next.cmd = porttest.Free(s.t), append([]string{"--replica", name}, s.flags[2:]...), nil
	var err error
	if next.api, err = client.Connect("http://"+next.listen, s.token); err != nil {
		s.t.Fatal(err)
	}
	s.t.Cleanup(func() {
		if next.cmd != nil {
			next.stop(syscall.SIGTERM)
		}
	})
	next.up()
	return &next
}

// kept is how many groups each live replica keeps, by name.
func (s *service) kept() (map[string]int, error) {
	list, _, err := client.Read[contract.ReplicaList](s.api.ListReplicas(ctx))
	by := map[string]int{}
	for _, r := range list.Items {
		if r.Alive {
			by[r.Name] = r.Groups
		}
	}
	return by, err
}

// TestReplicas: three services on one database share groups and listeners; a change asked
// of any is carried out, planned ends cost no request, and a killed one is taken over.
func TestReplicas(t *testing.T) {
	t.Parallel()
	all := replicas(t, 2)
	a, b, c := all[0], all[1], all[2]
	a.stock()
	a.group(4)
	for n := range 5 {
		name := fmt.Sprintf("spare-%d", n)
		_, _, out := a.call("POST", "/v1/groups", fmt.Sprintf(`{"name":%q,"template":"timetable-web@1","size":0,"max":2,"zones":["east-pier"]}`, name))
		if !strings.Contains(out, name) {
			t.Fatal(out)
		}
	}
	a.eventually("the groups are spread", func() error {
		by, err := b.kept()
		if err == nil && (by["a"] != 2 || by["b"] != 2 || by["c"] != 2) {
			err = fmt.Errorf("they keep %v", by)
		}
		return err
	})
	whatever := "*"
	for n, s := range all { // one of them keeps the group, and two do not
		size := 5 + n
		must[contract.Group](t)(client.Read[contract.Group](s.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &size})))
		s.whole(size)
	}
	tr := a.traffic()
	// A rolling restart of all three: nobody is refused, nothing is lost.
	for _, s := range all {
		s.stop(syscall.SIGTERM)
		s.up()
	}
	size := 5
	must[contract.Group](t)(client.Read[contract.Group](c.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &size})))
	b.whole(5)
	tr.mustBeWhole(t)
	if n := len(a.machines()); n != 5 {
		t.Errorf("there are %d machines", n)
	}
	b.stop(syscall.SIGKILL)
	size = 6
	must[contract.Group](t)(client.Read[contract.Group](c.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &size})))
	c.whole(6)
	c.eventually("its groups are taken over", func() error {
		by, err := a.kept()
		if err == nil && by["a"]+by["c"] != 6 {
			err = fmt.Errorf("they keep %v", by)
		}
		return err
	})
}

// TestUpgradedInPlace: services with the private PostgreSQL take over from each other as
// well, and it ends with the last of them.
func TestUpgradedInPlace(t *testing.T) {
	t.Parallel()
	old := startOn(t, "", func(s *service) { s.flags = []string{"--replica", "old"} })
	old.stock()
	old.group(4)
	tr := old.trafficBy(&http.Transport{DisableKeepAlives: true})
	next := old.another("new")
	if took := old.stop(syscall.SIGTERM); took > 15*time.Second {
		t.Errorf("the old one took %s to end", took)
	}
	next.eventually("the new one keeps the group", func() error {
		by, err := next.kept()
		if err == nil && by["new"] != 1 {
			err = fmt.Errorf("they keep %v", by)
		}
		return err
	})
	next.whole(4)
	tr.stop()
	if failed := tr.failed.Load(); failed > 0 {
		t.Errorf("%d of %d requests failed: %s", failed, tr.sent.Load(), *tr.first.Load())
	}
	next.stop(syscall.SIGTERM)
	if raw, err := os.ReadFile(filepath.Join(old.dir, "postgresql", "cluster", "postmaster.pid")); err == nil {
		t.Errorf("PostgreSQL runs on: %s", raw)
	}
}

// TestPausedReplica stops a replica where it is until others keep its groups, and lets it
// go on: it is refused everywhere, and nothing is done twice.
func TestPausedReplica(t *testing.T) {
	t.Parallel()
	all := replicas(t, 1)
	a, b := all[0], all[1]
	a.stock()
	a.group(4)
	a.eventually("the group is kept", func() error {
		by, err := b.kept()
		if err == nil && by["a"]+by["b"] != 1 {
			err = fmt.Errorf("they keep %v", by)
		}
		return err
	})
	by, _ := b.kept()
	keeps, other := a, b
	if by["b"] == 1 {
		keeps, other = b, a
	}
	pause := func(signal syscall.Signal) {
		t.Helper()
		if err := keeps.cmd.Process.Signal(signal); err != nil {
			t.Fatal(err)
		}
	}
	pause(syscall.SIGSTOP)
	tr := other.trafficBy(&http.Transport{DisableKeepAlives: true})
	whatever, size := "*", 5
	must[contract.Group](t)(client.Read[contract.Group](other.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &size})))
	other.whole(5)
	victim := other.instances()[0].Id
	must[contract.Instance](t)(client.Read[contract.Instance](other.api.TellInstance(ctx, victim, &contract.TellInstanceParams{IfMatch: &whatever}, contract.InstanceCommand{Command: contract.InstanceCommandCommandRetire})))
	other.whole(5)
	pause(syscall.SIGCONT)
	other.eventually("both are alive", func() error {
		by, err := other.kept()
		if err == nil && len(by) != 2 {
			err = fmt.Errorf("alive are %v", by)
		}
		return err
	})
	size = 4
	must[contract.Group](t)(client.Read[contract.Group](keeps.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &size})))
	keeps.whole(4)
	tr.stop() // only what the paused one had taken itself had to wait for it
	if asked, failed := tr.sent.Load(), tr.failed.Load(); failed > 3 || asked < 100 {
		t.Errorf("of %d requests %d failed: %s", asked, failed, *tr.first.Load())
	}
	if n := len(a.machines()); n != 4 {
		t.Errorf("there are %d machines", n)
	}
	if _, err := os.Stat(filepath.Join(a.dir, "machines", victim)); err == nil {
		t.Errorf("%s is back", victim)
	}
}
