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

// ready is what a service says of itself to whoever asks whether it is ready.
func (s *service) ready() (string, error) {
	res, err := (&http.Client{Timeout: 5 * time.Second}).Get("http://" + s.listen + "/readyz")
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	return fmt.Sprint(res.StatusCode, " ", string(raw)), err
}

// TestARestartThatNobodyNotices: a service that is told to stop gives its groups up at once, says
// what it waits for, and lets a request of several seconds end, under which nobody stops the machine
// meanwhile: though the other service shrinks the group to nothing.
func TestARestartThatNobodyNotices(t *testing.T) {
	t.Parallel()
	all := replicas(t, 1)
	a, b := all[0], all[1]
	a.stock()
	a.group(1)
	tr := a.traffic()
	long := make(chan error, 1)
	begun := time.Now()
	go func() {
		res, err := (&http.Client{Timeout: time.Minute, Transport: &http.Transport{}}).Get("http://" + a.front + "/?wait=8s")
		if err == nil {
			var raw []byte
			raw, err = io.ReadAll(res.Body)
			res.Body.Close()
			if res.StatusCode != http.StatusOK {
				err = fmt.Errorf("%d %s", res.StatusCode, raw)
			}
		}
		long <- err
	}()
	// It may have come to either: the one that has it is stopped.
	var stops, stays *service
	a.eventually("the long request is in flight", func() error {
		for _, s := range all {
			p, _, err := client.Read[contract.Pool](s.api.GetPool(ctx, "front"))
			if err != nil {
				return err
			}
			for _, target := range p.Targets {
				if target.InFlight > 0 && time.Since(begun) > 2*time.Second {
					stops, stays = s, b
					if s == b {
						stays = a
					}
					return nil
				}
			}
		}
		return errors.New("nobody has it")
	})
	tr.stop()
	if err := stops.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	stops.eventually("it says what it waits for", func() error {
		said, err := stops.ready()
		if err == nil && (!strings.HasPrefix(said, "503 The service stops: ") || !strings.Contains(said, "in flight may go on for at most ")) {
			err = errors.New(said)
		}
		return err
	})
	stays.eventually("the other has all groups", func() error {
		by, err := stays.kept()
		if err == nil && by[stays.flags[1]] != 1 {
			err = fmt.Errorf("they keep %v", by)
		}
		return err
	})
	if took := time.Since(begun); took > 7*time.Second {
		t.Logf("the groups went over only after %s", took)
	}
	whatever, none := "*", 0
	must[contract.Group](t)(client.Read[contract.Group](stays.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &none, Min: &none})))
	if err := <-long; err != nil {
		t.Errorf("the long request ended with %v after %s", err, time.Since(begun))
	}
	if err := stops.cmd.Wait(); err != nil {
		t.Errorf("it ends with %v", err)
	}
	stops.cmd = nil
	stays.whole(0)
}
