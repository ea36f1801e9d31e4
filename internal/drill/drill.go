// Package drill makes faults on purpose: journalled as such, and ended by
// themselves and when the service stops.
package drill

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"unitas/internal/caught"
	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
	"unitas/internal/machine"
	"unitas/internal/store"
)

// Kind is what a drill does.
type Kind string

// The kinds. All but Zone and Region are about one instance.
const (
	Hang   Kind = "hang"   // its processes are stopped where they are
	Crash  Kind = "crash"  // they are killed
	Burn   Kind = "burn"   // a processor is kept busy beside them
	Slow   Kind = "slow"   // its workload is told to answer later
	Errors Kind = "errors" // its workload is told to answer a share with 500
	Zone   Kind = "zone"   // the machines of a zone die, and none can be launched there
	Region Kind = "region" // so do those of all its zones
)

// Drill is one fault on purpose.
type Drill struct {
	Number   int64
	Kind     Kind
	Instance string // for all but Zone and Region
	Group    string // of the instance
	Zone     string // for Zone
	Region   string
	Zones    []string // of the Region
	For      time.Duration
	Slow     time.Duration // how much later Slow answers
	Percent  int           // of the requests that Errors answers with 500
	Reason   string
	By       string
	Began    time.Time
}

// What says in words what happens.
func (d *Drill) What() string {
	span := words.Span(d.For)
	switch d.Kind {
	case Hang:
		return fmt.Sprintf("%s hangs for %s", d.Instance, span)
	case Crash:
		return fmt.Sprintf("%s crashes", d.Instance)
	case Burn:
		return fmt.Sprintf("a processor is kept busy on %s for %s", d.Instance, span)
	case Slow:
		return fmt.Sprintf("%s answers %s later for %s", d.Instance, words.Span(d.Slow), span)
	case Errors:
		return fmt.Sprintf("%s answers %d %% of requests with 500 for %s", d.Instance, d.Percent, span)
	}
	if d.Kind == Region {
		return fmt.Sprintf("the region %s is lost for %s, with %s", d.Region, span, strings.Join(d.Zones, ", "))
	}
	return fmt.Sprintf("the zone %s is lost for %s", d.Zone, span)
}

// Note is what the workload of an instance finds in the file that UNITAS_DRILL
// names, as JSON. It is over by itself at Until.
type Note struct {
	Until        time.Time `json:"until"`
	SlowSeconds  float64   `json:"slow_seconds,omitempty"`
	ErrorPercent int       `json:"error_percent,omitempty"`
}

// Drills are those under way. Machines and database are asked under no lock but that of
// the one instance or zone that a drill is about.
type Drills struct {
	store    *store.Store
	machines machine.Driller // nil when the driver makes none
	log      *slog.Logger
	lanes    lanes

	mu     sync.Mutex
	live   map[int64]*live
	closed bool
}

type live struct {
	Drill
	timer *time.Timer
	end   func() error
}

// New makes an empty set.
func New(s *store.Store, m machine.Driver, log *slog.Logger) *Drills {
	driller, _ := m.(machine.Driller)
	return &Drills{store: s, machines: driller, log: log, live: map[int64]*live{}, lanes: lanes{held: map[string]*lane{}}}
}

// List returns the drills under way, oldest first.
func (d *Drills) List() []Drill {
	d.mu.Lock()
	defer d.mu.Unlock()
	var all []Drill
	for _, l := range d.live {
		all = append(all, l.Drill)
	}
	slices.SortFunc(all, func(a, b Drill) int { return int(a.Number - b.Number) })
	return all
}

// Start begins a drill. It refuses one of a kind that its instance or zone is
// under already.
func (d *Drills) Start(ctx context.Context, now time.Time, drill Drill) (Drill, error) {
	defer d.lanes.take(drill.lane())()
	if err := d.May(drill); err != nil {
		return drill, err
	}
	var err error
	if drill.Number, err = d.store.NextDrill(ctx); err != nil {
		return drill, err
	}
	drill.Began = now
	// The journal first: whatever comes of it has its cause above it.
	if err := d.store.Record(ctx, now, drill.By, drill.Group, fleet.Entry{Kind: "drill.started", Instance: drill.Instance, Cause: fleet.Asked(drill.Reason),
		Text: fmt.Sprintf("Drill %d: %s.", drill.Number, drill.What()), Numbers: fleet.Numbers{fleet.Measured("drill", drill.Number), fleet.Measured("seconds", drill.For.Seconds())}}); err != nil {
		return drill, err
	}
	end, err := d.begin(drill)
	if err != nil {
		d.record(drill, store.Service, fmt.Sprintf("it could not begin: %v", err))
		return drill, &fleet.Refusal{Text: fmt.Sprintf("the drill cannot begin: %v", err)}
	}
	if end == nil { // a crash is over at once
		return drill, nil
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	l := &live{Drill: drill, end: end}
	span := drill.For
	if d.closed { // while it began
		span = 0
	}
	l.timer = time.AfterFunc(span, caught.Func("the end of a drill", func() { d.finish(drill.Number, store.Service, "its time is over") }))
	d.live[drill.Number] = l
	return drill, nil
}

// May tells why a drill may not begin now, or nil.
func (d *Drills) May(drill Drill) error {
	if d.machines == nil {
		return &fleet.Refusal{Text: "the machines of this service know no drills"}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.closed {
		return &fleet.Refusal{Text: "the service stops"}
	}
	for _, l := range d.live {
		if l.Kind == drill.Kind && l.Instance == drill.Instance && l.Zone == drill.Zone && l.Region == drill.Region {
			return &fleet.Refusal{Text: fmt.Sprintf("drill %d is under way: %s; stop it first with: unitas drill stop %d", l.Number, l.What(), l.Number)}
		}
	}
	return nil
}

// begin makes the fault and returns what ends it.
func (d *Drills) begin(drill Drill) (end func() error, err error) {
	id := drill.Instance
	switch drill.Kind {
	case Hang:
		return func() error { return d.machines.Stall(id, false) }, d.machines.Stall(id, true)
	case Crash:
		return nil, d.machines.Kill(id, fmt.Sprintf("it crashed by drill %d", drill.Number))
	case Burn:
		ctx, stop := context.WithCancel(context.Background())
		go func() {
			defer caught.Told("a drill", nil)
			defer stop()
			if err := d.machines.Burn(ctx, id, drill.For); err != nil {
				d.log.Warn("a drill could not keep a processor busy", "instance", id, "error", err)
			}
		}()
		return func() error { stop(); return nil }, nil
	case Slow, Errors:
		return func() error { return d.note(id, drill.Number) }, d.note(id, 0, drill)
	}
	zones := []string{drill.Zone}
	if drill.Kind == Region {
		zones = drill.Zones
	}
	return d.lose(zones)
}

// lose loses zones, all or none, and returns what has them back.
func (d *Drills) lose(zones []string) (back func() error, err error) {
	var lost []string
	back = func() (err error) {
		for _, z := range lost {
			err = errors.Join(err, d.machines.LoseZone(z, false))
		}
		return err
	}
	for _, z := range zones {
		if err := d.machines.LoseZone(z, true); err != nil {
			return nil, errors.Join(err, back())
		}
		lost = append(lost, z)
	}
	return back, nil
}

// note tells the workload of an instance all that the drills under way ask of
// it, with those that begin and without the one that ended. The instance's lane is held.
func (d *Drills) note(id string, without int64, with ...Drill) error {
	d.mu.Lock()
	for _, l := range d.live {
		if l.Instance == id && l.Number != without && (l.Kind == Slow || l.Kind == Errors) {
			with = append(with, l.Drill)
		}
	}
	d.mu.Unlock()
	if len(with) == 0 {
		return d.machines.Note(id, nil)
	}
	var n Note
	for _, drill := range with {
		if until := drill.Began.Add(drill.For); until.After(n.Until) {
			n.Until = until
		}
		if drill.Kind == Slow {
			n.SlowSeconds = drill.Slow.Seconds()
		} else {
			n.ErrorPercent = drill.Percent
		}
	}
	raw, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return d.machines.Note(id, raw)
}

// Stop ends a drill now. It returns store.ErrNotFound when there is none.
func (d *Drills) Stop(number int64, by string) error {
	if !d.finish(number, by, "a person stopped it") {
		return store.ErrNotFound
	}
	return nil
}

func (d *Drills) finish(number int64, by, because string) bool {
	d.mu.Lock()
	l := d.live[number]
	d.mu.Unlock()
	if l == nil {
		return false
	}
	defer d.lanes.take(l.lane())()
	d.mu.Lock()
	still := d.live[number] == l
	delete(d.live, number)
	d.mu.Unlock()
	if !still { // somebody else was faster
		return false
	}
	l.timer.Stop()
	if err := l.end(); err != nil { // its machine is gone, most likely: healing did its work
		because += fmt.Sprintf(" (%v)", err)
	}
	d.record(l.Drill, by, because)
	return true
}

func (d *Drills) record(drill Drill, by, because string) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	if err := d.store.Record(ctx, time.Now().UTC(), by, drill.Group, fleet.Entry{Kind: "drill.ended", Instance: drill.Instance, Cause: fleet.Because(because),
		Text: fmt.Sprintf("Drill %d is over (%s).", drill.Number, drill.What()), Numbers: fleet.Numbers{fleet.Measured("drill", drill.Number)}}); err != nil {
		d.log.Warn("the end of a drill was not journalled", "drill", drill.Number, "error", err)
	}
}

// Close ends all drills, since the service stops.
func (d *Drills) Close() {
	d.mu.Lock()
	d.closed = true
	d.mu.Unlock()
	for _, drill := range d.List() {
		d.finish(drill.Number, store.Service, "the service stops")
	}
}
