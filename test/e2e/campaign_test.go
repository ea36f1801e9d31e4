package e2e

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"testing"
	"time"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/pgserver/pgtest"
)

// TestCampaign has three services under real traffic meet faults of many kinds, one after
// another: a short row that is always the same, or at random for as long as UNITAS_CAMPAIGN
// says (such as 2m; make campaign). After each: the group is whole again, no machine is
// doubled or lost, what happened is in the journal, and of the requests only those failed
// that a service held which was killed.
func TestCampaign(t *testing.T) {
	span, seed := 15*time.Second, uint64(1)
	var err error
	if text := os.Getenv("UNITAS_CAMPAIGN"); text != "" {
		if span, err = time.ParseDuration(text); err != nil {
			t.Fatal(err)
		}
		seed = uint64(time.Now().UnixNano())
	}
	if text := os.Getenv("UNITAS_CAMPAIGN_SEED"); text != "" {
		if seed, err = strconv.ParseUint(text, 10, 64); err != nil {
			t.Fatal(err)
		}
	}
	t.Logf("seed %d", seed)
	c := newCampaign(t, seed)
	for over := time.Now().Add(span); time.Now().Before(over); {
		c.fault()
		c.settle()
		if t.Failed() {
			t.Fatalf("it went wrong after %d faults; again with UNITAS_CAMPAIGN_SEED=%d", c.n, seed)
		}
	}
	c.tr.stop()
	t.Logf("%d faults; of %d requests %d failed, and %d might have", c.n, c.tr.sent.Load(), c.tr.failed.Load(), c.forgiven)
}

type campaign struct {
	t        *testing.T
	rand     *rand.Rand
	all      []*service
	way      *pgtest.Way
	tr       *traffic
	size     int
	n        int
	forgiven int64 // requests that were held by a service when it was killed
}

// askers is how many ask at once; each has one request in flight.
const askers = 3

func newCampaign(t *testing.T, seed uint64) *campaign {
	way := pgtest.NewWay(t, pgtest.Database(t))
	first := startOn(t, way.URL, func(s *service) { s.flags = []string{"--replica", "a"} })
	c := &campaign{t: t, rand: rand.New(rand.NewPCG(seed, seed)), all: []*service{first, first.another("b"), first.another("c")}, way: way, size: 4}
	first.stock()
	first.group(4)
	c.tr = first.trafficBy(&http.Transport{DisableKeepAlives: true})
	return c
}

// asked is a service that runs now.
func (c *campaign) asked() *service { return c.all[c.rand.IntN(len(c.all))] }

func (c *campaign) fault() {
	c.n++
	who := c.asked()
	pause := time.Duration(500+c.rand.IntN(9500)) * time.Millisecond
	switch c.rand.IntN(6) {
	case 0:
		c.say("%s is killed", who.flags[1])
		c.forgiven += askers
		who.stop(syscall.SIGKILL)
		who.up()
	case 1:
		c.say("%s is stopped and started", who.flags[1])
		who.stop(syscall.SIGTERM)
		who.up()
	case 2:
		c.say("%s stands still for %s", who.flags[1], pause)
		c.signal(who, syscall.SIGSTOP)
		c.resize(c.other(who))
		time.Sleep(pause)
		c.signal(who, syscall.SIGCONT)
	case 3:
		pids := who.machines()
		if len(pids) == 0 {
			return
		}
		c.say("a machine is killed")
		_ = syscall.Kill(pids[c.rand.IntN(len(pids))], syscall.SIGKILL)
	case 4:
		c.say("the database does not answer for %s", pause)
		c.way.Closed.Store(true)
		time.Sleep(pause)
		c.way.Closed.Store(false)
	case 5:
		c.say("the size is another")
		c.resize(who)
	}
}

func (c *campaign) say(format string, args ...any) {
	c.t.Logf("%s %d. %s", time.Now().Format("15:04:05"), c.n, fmt.Sprintf(format, args...))
}

func (c *campaign) other(than *service) *service {
	return c.all[(slices.Index(c.all, than)+1)%len(c.all)]
}

func (c *campaign) signal(s *service, signal syscall.Signal) {
	if err := s.cmd.Process.Signal(signal); err != nil {
		c.t.Error(err)
	}
}

// resize asks a service for another size.
func (c *campaign) resize(s *service) {
	c.size = 3 + (c.size-3+1+c.rand.IntN(3))%4 // another than now
	whatever := "*"
	s.eventually("the size is taken", func() error {
		_, _, err := client.Read[contract.Group](s.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &c.size}))
		return err
	})
}

// settle waits until all is as it should be, and looks whether it is.
func (c *campaign) settle() {
	for _, s := range c.all {
		s.whole(c.size)
	}
	c.asked().eventually("one service each keeps what there is", func() error {
		by, err := c.all[0].kept()
		if err == nil && (len(by) != len(c.all) || by["a"]+by["b"]+by["c"] != 1) {
			err = fmt.Errorf("they keep %v", by)
		}
		return err
	})
	if failed := c.tr.failed.Load(); failed > c.forgiven {
		c.t.Errorf("%d of %d requests failed, and %d may have: %s", failed, c.tr.sent.Load(), c.forgiven, *c.tr.first.Load())
	}
	ordered := map[string]bool{}
	for _, e := range c.all[0].journal("instance.ordered") {
		for _, id := range about(e) {
			if ordered[id] {
				c.t.Errorf("%s was ordered twice", id)
			}
			ordered[id] = true
		}
	}
	dirs, err := filepath.Glob(filepath.Join(c.all[0].dir, "machines", "timetable-*"))
	if err != nil || len(dirs) != c.size {
		c.t.Errorf("there are the machines %v for a size of %d: %v", dirs, c.size, err)
	}
	for _, in := range c.all[0].instances() {
		if !ordered[in.Id] {
			c.t.Errorf("nothing in the journal says that %s was ordered", in.Id)
		}
		if !slices.Contains(dirs, filepath.Join(c.all[0].dir, "machines", in.Id)) {
			c.t.Errorf("%s has no machine", in.Id)
		}
	}
}

// about are the instances of a line of the journal.
func about(e contract.JournalEntry) []string {
	if e.Instances != nil && len(*e.Instances) > 0 {
		return *e.Instances
	}
	if e.Instance != nil {
		return []string{*e.Instance}
	}
	return nil
}
