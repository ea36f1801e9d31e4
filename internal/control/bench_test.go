package control_test

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"unitas/internal/balancer"
	"unitas/internal/clock"
	"unitas/internal/control"
	"unitas/internal/feed"
	"unitas/internal/fleet"
	"unitas/internal/fleet/say"
	"unitas/internal/fleet/template"
	"unitas/internal/machine"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
)

// yard is a machine driver in memory that does what it is told to get wrong.
type yard struct {
	mu       sync.Mutex
	machines map[string]fleet.MachineState
	specs    map[string]machine.Spec
	launches map[string]int
	stops    map[string]int
	halted   map[string]bool
	wakes    map[string]int
	refuse   func(machine.Spec) error
	failStop int                  // how many stops still fail
	tells    []func(machine.Fact) // of each service
	fences   map[string]int64
	// recorded is asked at every launch whether the instance has its record.
	recorded func(id string) bool
	early    []string
	// under is how many launches are under way now, by zone.
	under map[string]int
	// stall, when set, holds launches, which then come to nothing.
	stall chan struct{}
	// fencing, when set, holds whoever takes a group over.
	fencing chan struct{}
	// stopping, when set, is called before a machine is stopped.
	stopping func(id string)
}

func newYard() *yard {
	return &yard{machines: map[string]fleet.MachineState{}, specs: map[string]machine.Spec{}, launches: map[string]int{}, stops: map[string]int{}, halted: map[string]bool{}, wakes: map[string]int{}, fences: map[string]int64{}, under: map[string]int{}}
}

func (y *yard) Address(zone string, number int64) (string, error) {
	return fmt.Sprintf("%s-%d", zone, number), nil
}

func (y *yard) Numbers() int64 { return 1 << 20 }

func (y *yard) Fence(_ context.Context, group string, epoch int64) error {
	if y.fencing != nil {
		<-y.fencing
	}
	y.mu.Lock()
	defer y.mu.Unlock()
	if epoch < y.fences[group] {
		return machine.ErrDeposed
	}
	y.fences[group] = epoch
	return nil
}

func (y *yard) Launch(_ context.Context, o machine.Order, spec machine.Spec) error {
	if y.recorded != nil && !y.recorded(spec.ID) {
		y.mu.Lock()
		y.early = append(y.early, spec.ID)
		y.mu.Unlock()
	}
	y.mu.Lock()
	defer y.mu.Unlock()
	if stall := y.stall; stall != nil {
		y.under[spec.Zone]++
		y.mu.Unlock()
		<-stall
		y.mu.Lock()
		y.under[spec.Zone]--
		return nil
	}
	if o.Epoch < y.fences[o.Group] {
		return machine.ErrDeposed
	}
	if y.machines[spec.ID] != fleet.MachineUnknown {
		return nil
	}
	y.launches[spec.ID]++
	if y.refuse != nil {
		if err := y.refuse(spec); err != nil {
			return err
		}
	}
	y.machines[spec.ID], y.specs[spec.ID] = fleet.MachineRunning, spec
	return nil
}

func (y *yard) Stop(_ context.Context, o machine.Order, _ time.Duration) error {
	id := o.ID
	if y.stopping != nil {
		y.stopping(id)
	}
	y.mu.Lock()
	defer y.mu.Unlock()
	y.stops[id]++
	if y.failStop > 0 {
		y.failStop--
		return errors.New("the driver is busy")
	}
	delete(y.machines, id)
	return nil
}

func (y *yard) List(context.Context) ([]machine.Fact, error) {
	y.mu.Lock()
	defer y.mu.Unlock()
	var facts []machine.Fact
	for id, state := range y.machines {
		facts = append(facts, machine.Fact{ID: id, State: state, Why: "its process was not found", Launch: y.specs[id].Launch, Template: y.specs[id].Template, Digest: y.specs[id].Digest})
	}
	return facts, nil
}

func (y *yard) Watch(tell func(machine.Fact)) {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.tells = append(y.tells, tell)
}

func (y *yard) Halt(_ context.Context, o machine.Order, _ time.Duration) error {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.halted[o.ID] = true
	return nil
}

func (y *yard) Wake(_ context.Context, o machine.Order) error {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.halted[o.ID] = false
	y.wakes[o.ID]++
	return nil
}

// rests tells whether a machine is halted, and how often it was woken.
func (y *yard) rests(id string) (halted bool, wakes int) {
	y.mu.Lock()
	defer y.mu.Unlock()
	return y.halted[id], y.wakes[id]
}

func (y *yard) end(id string) {
	y.mu.Lock()
	y.machines[id] = fleet.MachineStopped
	tells := y.tells
	y.mu.Unlock()
	for _, tell := range tells {
		tell(machine.Fact{ID: id, State: fleet.MachineStopped, Why: "killed by signal 9"})
	}
}

func (y *yard) stopped(id string) int {
	y.mu.Lock()
	defer y.mu.Unlock()
	return y.stops[id]
}

func (y *yard) count() int {
	y.mu.Lock()
	defer y.mu.Unlock()
	return len(y.machines)
}

// noTraffic is a balancer that nobody asks anything of.
type noTraffic struct{}

func (noTraffic) Sync(context.Context, balancer.Pool) error                { return nil }
func (noTraffic) Listen([]balancer.Listener)                               {}
func (noTraffic) Listening() []balancer.ListenerStats                      { return nil }
func (noTraffic) AccessLog(string, int) ([]json.RawMessage, string, error) { return nil, "", nil }
func (noTraffic) Try(string, balancer.Trial) (balancer.Trace, bool)        { return balancer.Trace{}, false }
func (noTraffic) Shut(string, string, int64)                               {}
func (noTraffic) Remove(string)                                            {}
func (noTraffic) InFlight(string) (int, bool)                              { return 0, true }
func (noTraffic) Answered(string) (int64, int64)                           { return 0, 0 }
func (noTraffic) Untaken(string) int64                                     { return 0 }
func (noTraffic) Passed(string) (balancer.Passed, bool)                    { return balancer.Passed{}, false }

func (noTraffic) Slower(string, time.Duration) (int64, int64) { return 0, 0 }
func (noTraffic) Stats(string) (balancer.Stats, bool)         { return balancer.Stats{}, false }
func (noTraffic) Watch(func(string))                          {}
func (noTraffic) WatchAside(func(string, int, string))        {}
func (noTraffic) Close()                                      {}

// bench is a store with a template, and a control that can be started again.
type bench struct {
	t        *testing.T
	url      string
	metrics  *prometheus.Registry
	store    *store.Store
	yard     *yard
	machines machine.Driver // the yard when nil
	balancer balancer.Driver
	ctl      *control.Control
	clock    *clock.Clock  // that the control measures by; the host's when nil
	grace    time.Duration // of strays; none when 0
	sweeps   time.Duration // how often the control sweeps; often when 0
	stop     func()        // the newest; twice is like once
	stops    []func()
}

func newBench(t *testing.T) *bench {
	t.Helper()
	url := pgtest.Database(t)
	s, err := store.Open(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	now := time.Now()
	if _, err := s.AddImage(ctx, now, "ada", store.Image{Name: "berths", State: "ready", Digest: "sha256:b0a7", Start: []string{"./berths"}}); err != nil {
		t.Fatal(err)
	}
	for n := range 2 {
		if _, err := s.AddTemplate(ctx, now, "ada", store.Template{Name: "berths-api", Spec: template.Spec{Image: "berths", ImageVersion: 1, Port: 8080}}, n > 0); err != nil {
			t.Fatal(err)
		}
	}
	b := &bench{t: t, url: url, store: s, yard: newYard(), balancer: noTraffic{}}
	b.yard.recorded = func(id string) bool { _, err := s.Instance(ctx, id); return err == nil }
	t.Cleanup(func() {
		for _, stop := range b.stops {
			stop()
		}
		if len(b.yard.early) > 0 {
			t.Errorf("machines were asked for before they had a record: %v", b.yard.early)
		}
		for id, n := range b.yard.launches {
			if n > 1 {
				t.Errorf("%s was launched %d times", id, n)
			}
		}
	})
	return b
}

func (b *bench) start(replica string) {
	b.t.Helper()
	b.metrics = prometheus.NewRegistry()
	var err error
	if b.store, err = store.Open(ctx, b.url); err != nil {
		b.t.Fatal(err)
	}
	b.store.Write(replica)
	log := slog.New(slog.DiscardHandler)
	changes, err := feed.Open(ctx, b.store, log)
	if err != nil {
		b.t.Fatal(err)
	}
	b.ctl = control.New(control.Config{Store: b.store, Feed: changes, Machines: cmp.Or[machine.Driver](b.machines, b.yard), Balancer: b.balancer, Self: store.Replica{ID: replica},
		Log: log, Metrics: b.metrics, Clock: b.clock,
		SweepEvery: cmp.Or(b.sweeps, 300*time.Millisecond), StrayGrace: cmp.Or(b.grace, -1)})
	running, cancel := context.WithCancel(ctx)
	go changes.Run(running)
	b.t.Cleanup(b.store.Close)
	done := make(chan error, 1)
	ctl := b.ctl
	go func() { done <- ctl.Run(running) }()
	var once sync.Once
	b.stop = func() {
		once.Do(func() {
			cancel()
			if err := <-done; err != nil {
				b.t.Error(err)
			}
		})
	}
	b.stops = append(b.stops, b.stop)
}

// metric is the value of a metric, of the one with the label's value when one is given.
func (b *bench) metric(name string, label ...string) float64 {
	families, err := b.metrics.Gather()
	if err != nil {
		b.t.Error(err)
	}
	for _, f := range families {
		if f.GetName() == name {
			for _, m := range f.GetMetric() {
				if len(label) == 0 || m.GetLabel()[0].GetValue() == label[0] {
					return m.GetGauge().GetValue() + m.GetCounter().GetValue()
				}
			}
		}
	}
	b.t.Errorf("there is no metric %s", name)
	return 0
}

func (b *bench) group(size int) {
	b.t.Helper()
	if _, err := b.store.AddGroup(ctx, time.Now(), "ada", store.Group{Group: fleet.Group{
		Name: "berths", Settings: fleet.Settings{
			Size: size, Max: 20, Template: fleet.Version{Name: "berths-api", N: 1}, Zones: []string{"east-pier", "mid-pier"}, Heal: fleet.HealMachine, Settle: time.Minute, Drain: time.Second,
		},
	}}, nothing); err != nil {
		b.t.Fatal(err)
	}
}

func anything(store.Reader) error { return nil }

func nothing(*store.Tx) error { return nil }

func (b *bench) eventually(what string, so func() bool) {
	b.t.Helper()
	limit := time.After(45 * time.Second)
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for !so() {
		select {
		case <-limit:
			b.t.Fatalf("it never came to be that %s: %s", what, b.sentence())
		case <-tick.C:
		}
	}
}

func (b *bench) sentence() string {
	p, err := b.ctl.Picture(ctx, "berths")
	if err != nil {
		return err.Error()
	}
	return say.Summarise(time.Now(), p.View()).Sentence
}

func (b *bench) serving() []store.Instance {
	all, err := b.store.Instances(ctx, "berths", false, store.Page{Limit: 100})
	if err != nil {
		b.t.Error(err)
	}
	return slices.DeleteFunc(all, func(in store.Instance) bool { return in.State != fleet.Serving })
}

func (b *bench) whole(n int) {
	b.t.Helper()
	b.eventually(fmt.Sprintf("%d serve", n), func() bool { return len(b.serving()) == n && b.yard.count() == n })
}

// gone waits until the instance is.
func (b *bench) gone(what, id string) {
	b.t.Helper()
	b.eventually(what, func() bool { in, _ := b.store.Instance(ctx, id); return in.State == fleet.Gone })
}

// lostOnly expects the instance to be the only one that was lost.
func (b *bench) lostOnly(id string) {
	b.t.Helper()
	if lost := b.journal("instance.lost"); len(lost) != 1 || lost[0].Instance != id {
		b.t.Errorf("lost are %+v", lost)
	}
}

func (b *bench) journal(kind string) []store.Entry {
	b.t.Helper()
	return b.journalOf("berths", kind)
}

// journalOf is of a group, of everything with "".
func (b *bench) journalOf(group, kind string) []store.Entry {
	b.t.Helper()
	entries, err := b.store.Journal(ctx, store.JournalQuery{Group: group, Page: store.Page{Limit: 1000}})
	if err != nil {
		b.t.Fatal(err)
	}
	return slices.DeleteFunc(entries, func(e store.Entry) bool { return e.Kind != kind })
}
