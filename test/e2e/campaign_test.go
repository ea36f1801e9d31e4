package e2e

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
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
	"unitas/internal/pgserver"
	"unitas/internal/pgserver/pgtest"
)

// TestCampaign has three services under real traffic meet faults of many kinds, one after
// another: for two minutes in an order that is always the same, or at random for as long as UNITAS_CAMPAIGN
// says (such as 10m; make campaign). After each: the group is whole again, no machine is
// doubled or lost, what happened is in the journal, and of the requests only those failed
// that a service held which was killed. Beside it there are groups that must notice nothing, and one
// that means ill: see campaign_beside_test.go.
func TestCampaign(t *testing.T) {
	t.Parallel() // beside others, as on a host that has more to do
	span, seed := 2*time.Minute, uint64(1)
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
	openBlocks.Lock()
	t.Cleanup(openBlocks.Unlock)
	c := newCampaign(t, seed)
	for over := time.Now().Add(span); time.Now().Before(over); {
		c.fault()
		c.settle()
		if t.Failed() {
			t.Fatalf("it went wrong after %d faults; again with UNITAS_CAMPAIGN_SEED=%d", c.n, seed)
		}
	}
	c.tr.stop()
	c.beside.over(c)
	t.Logf("%d faults; of %d requests %d failed, and %d might have; of %d to another group %d, and of %d to another service %d", c.n, c.tr.sent.Load(), c.tr.failed.Load(), c.forgiven,
		c.beside.berths.sent.Load(), c.beside.berths.failed.Load(), c.beside.other.sent.Load(), c.beside.other.failed.Load())
}

type campaign struct {
	t        *testing.T
	rand     *rand.Rand
	deck     []func(who *service, pause time.Duration) // the faults that are still to come of this round
	cluster  string                                    // the directory of PostgreSQL
	disk     string                                    // of the services, that can be filled; "" when there is none
	all      []*service
	way      *pgtest.Way
	tr       *traffic
	beside   beside
	size     int
	n        int
	forgiven int64 // requests that were held by a service when it was killed
}

func newCampaign(t *testing.T, seed uint64) *campaign {
	c := &campaign{t: t, rand: rand.New(rand.NewPCG(seed, seed)), size: 4}
	c.way = pgtest.NewWay(t, c.database())
	first := startOn(t, c.way.URL, func(s *service) {
		s.flags = []string{"--replica", "a", "--keep-free", "16MiB", "--measure-every", "1s"}
		c.smallDisk(s.dir)
		c.settableClock(s)
	})
	c.all = []*service{first, first.another("b"), first.another("c")}
	first.stock()
	first.group(4)
	c.tr = first.trafficBy(&http.Transport{DisableKeepAlives: true})
	c.beside.begin(c, first)
	return c
}

// asked is a service that runs now.
func (c *campaign) asked() *service { return c.all[c.rand.IntN(len(c.all))] }

// database is one of a PostgreSQL of the campaign's own, which is brought back when it is
// killed.
func (c *campaign) database() string {
	c.t.Helper()
	dir, err := os.MkdirTemp("", "unitas-pg-")
	if err != nil {
		c.t.Fatal(err)
	}
	c.t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		c.t.Fatal(err)
	}
	s, err := pgserver.Start(ctx, filepath.Join(dir, "pg"), true) // what is committed is not lost
	if err != nil {
		c.t.Fatal(err)
	}
	watched, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		s.Supervise(watched, slog.New(slog.DiscardHandler))
	}()
	c.t.Cleanup(func() {
		stop()
		<-done
		if err := s.Stop(ctx); err != nil {
			c.t.Error(err)
		}
	})
	if err := s.Create(ctx, "campaign"); err != nil {
		c.t.Fatal(err)
	}
	c.cluster = filepath.Join(dir, "pg", "cluster")
	return s.URL("campaign")
}

// smallDisk gives a directory a disk of its own that can be filled, where we may.
func (c *campaign) smallDisk(dir string) {
	if os.Geteuid() != 0 {
		return
	}
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=400m,mode=755"); err != nil {
		c.t.Logf("no disk is filled: %v", err)
		return
	}
	c.disk = dir
	c.t.Cleanup(func() {
		if err := errors.Join(syscall.Unmount(dir, syscall.MNT_DETACH), os.Remove(dir)); err != nil {
			c.t.Error(err)
		}
	})
}

// fault makes the next one of the round; each round has all kinds, in an order of its own.
func (c *campaign) fault() {
	if len(c.deck) == 0 {
		c.deck = []func(*service, time.Duration){c.kill, c.restart, c.standStill, c.killMachine, c.cutOff, c.slow, c.killDatabase, c.setClock, c.stranger, func(who *service, _ time.Duration) {
			c.say("the size is another")
			c.resize(who)
		}}
		if c.disk != "" {
			c.deck = append(c.deck, c.fill)
		}
		c.rand.Shuffle(len(c.deck), func(i, j int) { c.deck[i], c.deck[j] = c.deck[j], c.deck[i] })
	}
	c.n++
	next := c.deck[0]
	c.deck = c.deck[1:]
	next(c.asked(), time.Duration(500+c.rand.IntN(9500))*time.Millisecond)
}

func (c *campaign) kill(who *service, _ time.Duration) {
	c.say("%s is killed", who.flags[1])
	c.forgiven += askers
	who.stop(syscall.SIGKILL)
	who.up()
}

func (c *campaign) restart(who *service, _ time.Duration) {
	c.say("%s is stopped and started", who.flags[1])
	who.stop(syscall.SIGTERM)
	who.up()
}

func (c *campaign) standStill(who *service, pause time.Duration) {
	c.say("%s stands still for %s", who.flags[1], pause)
	c.signal(who, syscall.SIGSTOP)
	c.resize(c.other(who))
	time.Sleep(pause)
	c.signal(who, syscall.SIGCONT)
}

func (c *campaign) killMachine(who *service, _ time.Duration) {
	pids := who.machinesOf("timetable")
	if len(pids) == 0 {
		return
	}
	c.say("a machine is killed")
	_ = syscall.Kill(pids[c.rand.IntN(len(pids))], syscall.SIGKILL)
}

func (c *campaign) cutOff(_ *service, pause time.Duration) {
	c.say("the database does not answer for %s", pause)
	c.way.Closed.Store(true)
	time.Sleep(pause)
	c.way.Closed.Store(false)
}

func (c *campaign) slow(who *service, pause time.Duration) {
	c.say("the database answers slowly for %s", pause)
	c.way.Slow.Store(int64(100 * time.Millisecond))
	c.resize(who)
	time.Sleep(pause)
	c.way.Slow.Store(0)
}

func (c *campaign) killDatabase(*service, time.Duration) {
	raw, err := os.ReadFile(filepath.Join(c.cluster, "postmaster.pid"))
	var pid int
	if err == nil {
		_, err = fmt.Sscan(string(raw), &pid)
	}
	if err != nil {
		c.t.Fatal(err)
	}
	c.say("PostgreSQL is killed")
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		c.t.Fatal(err)
	}
}

// fill leaves no room on the disk of the services, has them need some, and makes room.
func (c *campaign) fill(who *service, pause time.Duration) {
	c.say("the disk is full for %s", pause)
	filler := filepath.Join(c.disk, "filler")
	f, err := os.Create(filler)
	if err != nil {
		c.t.Fatal(err)
	}
	if _, err = io.Copy(f, zeros{}); !errors.Is(err, syscall.ENOSPC) {
		c.t.Errorf("the disk was not filled: %v", err)
	}
	f.Close()
	c.resize(who)
	c.killMachine(who, 0)
	time.Sleep(pause)
	if err := os.Remove(filler); err != nil {
		c.t.Fatal(err)
	}
}

// zeros are without an end.
type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }

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
		if err == nil && (len(by) != len(c.all) || by["a"]+by["b"]+by["c"] != 3) {
			err = fmt.Errorf("they keep %v", by)
		}
		return err
	})
	if failed := c.tr.failed.Load(); failed > c.forgiven {
		c.t.Errorf("%d of %d requests failed, and %d may have: %s", failed, c.tr.sent.Load(), c.forgiven, *c.tr.first.Load())
	}
	c.beside.noticeNothing(c)
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
