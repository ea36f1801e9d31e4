package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/pgserver/pgtest"
)

// openBlocks is for whoever runs the last release, which notes its addresses where every user of the host may lock
// them, or a workload that means ill, which locks all that it can: that release does not start beside it.
var openBlocks sync.Mutex

// TestUpgrade runs the last release and this one side by side on one database, under traffic, through
// the life of a group: the group is kept by either in turn, up and down again, and nobody's request
// fails. Each says what the other has recorded.
func TestUpgrade(t *testing.T) {
	t.Parallel()
	last, err := filepath.Abs("../../bin/unitas-last")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(last); err != nil {
		if raw, err := exec.Command("git", "rev-parse", "--is-shallow-repository").Output(); err == nil && strings.TrimSpace(string(raw)) == "false" {
			t.Fatal("the last release is not there; make it with: build/last")
		}
		t.Skip("this clone has no history to make the last release from")
	}
	openBlocks.Lock()
	t.Cleanup(openBlocks.Unlock) // after all that it started is gone
	release, err := os.ReadFile("../../build/last-release")
	if err != nil {
		t.Fatal(err)
	}
	was := strings.Fields(string(release))[0]
	old := startOn(t, pgtest.Database(t), func(s *service) { s.flags, s.binary = []string{"--replica", "old"}, last })
	old.stock()
	old.group(4)
	note := "as the last release knows it"
	must[contract.Course](t)(client.Read[contract.Course](old.api.SaveCourse(ctx, "careful", nil, contract.CourseSettings{Note: &note})))
	tr := old.traffic()
	fresh := old.anotherOf("new", "")
	list := must[contract.ReplicaList](t)(client.Read[contract.ReplicaList](fresh.api.ListReplicas(ctx)))
	for _, r := range list.Items {
		if (r.Name == "old") != (r.Version == was) {
			t.Errorf("%s is of %s", r.Name, r.Version)
		}
	}
	// life asks either service of a rollout, a change of size, an end and a fault, and reads all of it at both.
	life := func(by *service, all []*service, to string) {
		t.Helper()
		by.becomes(by.rollOut(to, "1", "100%").Number, contract.RolloutStateDone)
		whatever, size := "*", 5
		must[contract.Group](t)(client.Read[contract.Group](by.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &size})))
		by.whole(5)
		size = 4
		must[contract.Group](t)(client.Read[contract.Group](by.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &size})))
		by.whole(4)
		first := by.instances()[0].Id
		must[contract.Instance](t)(client.Read[contract.Instance](by.api.TellInstance(ctx, first, &contract.TellInstanceParams{IfMatch: &whatever}, contract.InstanceCommand{Command: contract.InstanceCommandCommandRetire})))
		by.eventually("it is gone", func() error { // the other may still see it serve
			if in, _, err := client.Read[contract.Instance](by.api.GetInstance(ctx, first)); err != nil || in.State != contract.InstanceStateGone {
				return fmt.Errorf("%s, %v", in.State, err)
			}
			return nil
		})
		by.whole(4)
		for _, s := range all {
			for _, path := range []string{"/v1/groups/timetable", "/v1/pools/front", "/v1/listeners", "/v1/rollouts", "/v1/courses", "/v1/journal?limit=500", "/v1/instances", "/v1/templates", "/v1/images", "/v1/checks", "/v1/replicas"} {
				if status, _, out := s.call("GET", path, ""); status != 200 {
					t.Errorf("%s answers %s with %d %s", s.flags[1], path, status, out)
				}
			}
		}
	}
	both := []*service{old, fresh}
	life(fresh, both, "timetable-web@2")
	life(old, both, "timetable-web@1")
	old.stop(syscall.SIGTERM) // the upgrade
	life(fresh, both[1:], "timetable-web@2")
	old.up() // the way back
	fresh.stop(syscall.SIGTERM)
	life(old, both[:1], "timetable-web@1")
	fresh.up()
	old.stop(syscall.SIGKILL)
	life(fresh, both[1:], "timetable-web@2")
	tr.mustBeWhole(t)
	replay := must[contract.Replay](t)(client.Read[contract.Replay](fresh.api.ReplayRollout(ctx, 2)))
	if len(replay.Differences) > 0 {
		t.Errorf("decided over again the rollout that the last release kept is another: %+v", replay.Differences)
	}
	if n := len(fresh.machines()); n != 4 {
		t.Errorf("there are %d machines", n)
	}
	old.up()
}
