package e2e

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"unitas/api/contract"
	"unitas/client"
)

// databasePid is the process of the private PostgreSQL.
func (s *service) databasePid() int {
	s.t.Helper()
	raw, err := os.ReadFile(filepath.Join(s.dir, "postgresql", "cluster", "postmaster.pid"))
	if err != nil {
		s.t.Fatal(err)
	}
	var pid int
	if _, err := fmt.Sscan(string(raw), &pid); err != nil {
		s.t.Fatal(err)
	}
	return pid
}

// TestPrivateDatabaseIsBroughtBack kills the private PostgreSQL under a service: groups
// go on serving, and it is there again.
func TestPrivateDatabaseIsBroughtBack(t *testing.T) {
	t.Parallel()
	s := startOn(t, "")
	s.stock()
	s.group(20)
	pid := s.databasePid()
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	s.eventually("the database is down", func() error {
		if answers("http://"+s.listen+"/readyz") == nil {
			return errors.New("it is ready")
		}
		return nil
	})
	if err := answers("http://" + s.front + "/"); err != nil {
		t.Errorf("meanwhile the group does not serve: %v", err)
	}
	s.eventually("it is back", func() error { return answers("http://" + s.listen + "/readyz") })
	whatever, size := "*", 5
	must[contract.Group](t)(client.Read[contract.Group](s.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &size})))
	s.whole(5)
}

// TestStandingDatabase stops every process of the database where it is: requests are
// answered in time that it does not answer, traffic goes on, and so does all of it
// once the database does.
func TestStandingDatabase(t *testing.T) {
	t.Parallel()
	s := startOn(t, "")
	s.stock()
	s.group(20)
	server := s.databasePid()
	all := func(signal syscall.Signal) {
		t.Helper()
		stats, _ := filepath.Glob("/proc/[0-9]*/stat")
		for _, file := range stats {
			raw, err := os.ReadFile(file)
			if err != nil {
				continue
			}
			var pid, parent int
			var state string
			_, rest, _ := strings.Cut(string(raw), ") ")
			if _, err := fmt.Sscan(rest, &state, &parent); err == nil && parent == server {
				_, _ = fmt.Sscan(string(raw), &pid)
				_ = syscall.Kill(pid, signal)
			}
		}
		_ = syscall.Kill(server, signal)
	}
	all(syscall.SIGSTOP)
	defer all(syscall.SIGCONT)
	var waiting sync.WaitGroup
	for _, path := range []string{"/v1/groups", "/v1/groups/timetable", "/v1/journal", "/v1/pools/front", "/v1/service", "/v1/instances"} {
		waiting.Go(func() {
			begun := time.Now()
			status, _, answer := s.call("GET", path, "")
			if took := time.Since(begun); took > 15*time.Second || (status != 503 && path != "/v1/service") {
				t.Errorf("%s is answered %d after %s: %s", path, status, took, answer)
			}
		})
	}
	if err := answers("http://" + s.front + "/"); err != nil {
		t.Errorf("traffic: %v", err)
	}
	waiting.Wait()
	all(syscall.SIGCONT)
	s.eventually("it is ready again", func() error { return answers("http://" + s.listen + "/readyz") })
	whatever, size := "*", 5
	must[contract.Group](t)(client.Read[contract.Group](s.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &size})))
	s.whole(5)
}
