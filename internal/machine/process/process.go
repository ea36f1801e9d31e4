// Package process runs each machine as a real process of the operating system,
// started from an unpacked archive in a directory of its own, on a loopback
// address of its own.
//
// The directory of a machine is its record on disk:
//
//	machine.json   the spec, and the process with its start time
//	root/          the unpacked archive; the process starts here
//	run/           what the machine is told: instance.json, user-data, and how
//	               its user data ended
//	boot.log       all that it writes; it outlives the machine for a while
//
// A process is known by its pid together with its start time, so a reused pid
// fools nobody, and by a mark in its environment, so that one whose record was
// never written (the service was killed between start and record) is found.
package process

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"unitas/internal/caught"
	"unitas/internal/datadir"
	"unitas/internal/fleet"
	"unitas/internal/image"
	"unitas/internal/machine"
)

// Config is what the driver needs.
type Config struct {
	Dir string // for the machines' directories
	// Directory is the identity of the data directory, which machines carry: those of one that it
	// was copied from are not ours.
	Directory string
	Zones     []string // in their fixed order; each gets a network of addresses
	Block     datadir.Block
	Images    func(zone string) (*image.Store, error)
	// Room says whether there is room on the disk for another machine; nil when there
	// always is.
	Room func() error
	Log  *slog.Logger
}

// Driver is the process driver.
type Driver struct {
	Config
	unprivileged bool // machines run as users of their own
	groups       *groups

	mu         sync.Mutex
	machines   map[string]*running
	starting   map[string]int           // how many calls are starting a machine
	lost       map[string]*datadir.Held // zones that this service has lost, and holds so
	complaints map[string]*complaint    // of what is no machine
	tell       func(machine.Fact)
}

// record is machine.json.
type record struct {
	machine.Spec
	Process *identity `json:"process,omitempty"`
	User    int       `json:"user,omitempty"`   // that it runs as; 0 for who this service is
	Halted  bool      `json:"halted,omitempty"` // on purpose, to be woken
}

// running is a machine whose process was seen alive.
type running struct {
	id       identity
	launch   int
	template string
	digest   string        // of its image
	quiet    bool          // its end is asked for and nobody need hear of it
	why      string        // it was ended for, when that is known
	ended    chan struct{} // closed when the process is dead and its group swept
}

// New opens the driver on its directory.
func New(c Config) (*Driver, error) {
	if err := os.MkdirAll(c.Dir, 0o755); err != nil {
		return nil, fmt.Errorf("make the machines' directory: %w", err)
	}
	dir, err := filepath.Abs(c.Dir)
	if err != nil {
		return nil, err
	}
	c.Dir = dir
	for _, own := range []string{"locks", "epochs"} {
		if err := os.MkdirAll(filepath.Join(dir, ".services", own), 0o700); err != nil {
			return nil, fmt.Errorf("make the directory that services share: %w", err)
		}
	}
	d := &Driver{Config: c, unprivileged: os.Geteuid() == 0, groups: findGroups(dir), machines: map[string]*running{}, starting: map[string]int{}, lost: map[string]*datadir.Held{}, complaints: map[string]*complaint{}}
	if d.unprivileged {
		if err := datadir.Enterable(dir, "machines run as unprivileged users"); err != nil {
			return nil, err
		}
	}
	return d, nil
}

// The states that a listing tells.
const (
	stateRunning = fleet.MachineRunning
	stateStopped = fleet.MachineStopped
)

const (
	firstNet   = 64  // zones have 127.64.0.0/16, 127.65.0.0/16, …
	furtherNet = 192 // second and further addresses have 127.192.0.0/16, …
)

// Numbers is how many machines a data directory has addresses and users for.
func (d *Driver) Numbers() int64 { return datadir.BlockSize }

// Address gives each zone a /16 of the loopback network, of which the data directory
// owns a block.
func (d *Driver) Address(zone string, number int64) (string, error) {
	z := slices.Index(d.Zones, zone)
	if z < 0 {
		return "", fmt.Errorf("there is no zone %q", zone)
	}
	return d.Block.Address(firstNet+z, number), nil
}

// addresses are all of a machine: its own first, then others that no machine
// of any zone has.
func (d *Driver) addresses(spec machine.Spec) []string {
	all := []string{spec.Address}
	for k := 1; k < spec.Addresses; k++ {
		all = append(all, d.Block.Address(furtherNet+k-1, spec.Number))
	}
	return all
}

// newUser is the user of a machine that is made now; -1 for who this service is.
func (d *Driver) newUser(spec machine.Spec) int {
	if !d.unprivileged {
		return -1
	}
	return d.Block.User(spec.Number)
}

// user is who a machine runs as.
func (d *Driver) user(rec record) int {
	switch {
	case !d.unprivileged:
		return -1
	case rec.User > 0:
		return rec.User
	}
	return datadir.FirstUser + int(rec.Number%1_000_000) // it was made before directories owned blocks
}

func (d *Driver) dir(id string) string     { return filepath.Join(d.Dir, id) }
func (d *Driver) file(id string) string    { return filepath.Join(d.dir(id), "machine.json") }
func (d *Driver) bootLog(id string) string { return filepath.Join(d.dir(id), "boot.log") }

// Watch has tell called for every machine that ends from now on.
func (d *Driver) Watch(tell func(machine.Fact)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.tell = tell
}

// admit takes a live process into the books.
func (d *Driver) admit(spec machine.Spec, process identity) *running {
	r := &running{id: process, launch: spec.Launch, template: spec.Template, digest: spec.Digest, ended: make(chan struct{})}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.machines[spec.ID] = r
	return r
}

// begin notes that a machine is being started, until over is called.
func (d *Driver) begin(id string) (over func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.starting[id]++
	return func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.starting[id]--; d.starting[id] == 0 {
			delete(d.starting, id)
		}
	}
}

// end takes a dead process off the books and tells the watcher.
func (d *Driver) end(id string, r *running, why string) {
	d.mu.Lock()
	if d.machines[id] == r {
		delete(d.machines, id)
	}
	quiet := r.quiet
	if r.why != "" {
		why = r.why
	}
	close(r.ended)
	d.mu.Unlock()
	if quiet {
		return
	}
	if status, failed := d.failedFirstBoot(id); failed {
		why = fmt.Sprintf("its user data failed with status %d, so its workload was not started", status)
	}
	d.say(machine.Fact{ID: id, State: fleet.MachineStopped, Why: why, Launch: r.launch})
}

func (d *Driver) say(f machine.Fact) {
	d.mu.Lock()
	tell := d.tell
	d.mu.Unlock()
	if tell != nil {
		tell(f)
	}
}

// find returns the live process of a machine: from the books, by its record,
// or by its mark. It returns nil when there is none.
func (d *Driver) find(id string) (*running, error) {
	d.mu.Lock()
	r := d.machines[id]
	d.mu.Unlock()
	if r != nil {
		return r, nil
	}
	rec, err := d.read(id)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	process := rec.Process
	if process == nil {
		if process = oldestMarked(d.dir(id)); process == nil {
			return nil, nil
		}
		if err == nil { // one that cannot be read stays as it is
			rec.Process = process
			if err := d.write(rec); err != nil {
				return nil, err
			}
		}
	}
	if !d.runs(id, *process) {
		return nil, nil
	}
	return d.adopt(id, rec.Spec, *process)
}

// adopt watches a process that an earlier service started.
func (d *Driver) adopt(id string, spec machine.Spec, process identity) (*running, error) {
	wait, err := process.watch()
	if err != nil {
		return nil, fmt.Errorf("watch the process of %s: %w", id, err)
	}
	d.mu.Lock()
	if had := d.machines[id]; had != nil { // somebody else was faster
		d.mu.Unlock()
		return had, nil
	}
	r := &running{id: process, launch: spec.Launch, template: spec.Template, digest: spec.Digest, ended: make(chan struct{})}
	d.machines[id] = r
	d.mu.Unlock()
	_ = syscall.Kill(-process.PID, syscall.SIGCONT) // a drill may have stopped it
	caught.Go("the end of a machine", func() {
		defer d.end(id, r, "its process ended") // whatever fails before
		wait()
		d.endRest(id, process)
	})
	return r, nil
}

// List returns a fact for every machine that has a directory. What is no machine's,
// or cannot be read, is said once and costs no other machine anything.
func (d *Driver) List(context.Context) ([]machine.Fact, error) {
	entries, err := os.ReadDir(d.Dir)
	if err != nil {
		return nil, err
	}
	var facts []machine.Fact
	wrong := map[string]bool{}
	defer func() { d.settled(wrong) }()
	complain := func(name string, err error) {
		wrong[name] = true
		d.complain(name, err)
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), ".") { // the driver's own
			continue
		}
		if !e.IsDir() {
			complain(e.Name(), errors.New("it is no directory"))
			continue
		}
		f, err := d.look(e.Name())
		if err != nil {
			complain(e.Name(), err)
		}
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		facts = append(facts, f)
	}
	return facts, nil
}

// mostComplaints is how many things below the machines' directory are complained of, and
// complainAfter for how long they have to be so: what is launched or cleared now is for a moment.
const mostComplaints = 1000

var complainAfter = 10 * time.Second

// complaint is what was seen to be wrong, since when.
type complaint struct {
	since time.Time
	said  bool
}

// complain says once what is wrong with something below the machines' directory. What has no record is
// waited for: it is over at the next look when the machine is being made or cleared.
func (d *Driver) complain(name string, err error) {
	d.mu.Lock()
	c, seen := d.complaints[name]
	if !seen && len(d.complaints) < mostComplaints {
		c = &complaint{since: time.Now()}
		d.complaints[name] = c
	}
	brief := errors.Is(err, os.ErrNotExist) && (!seen || time.Since(c.since) < complainAfter)
	say := c != nil && !c.said && !brief
	if say {
		c.said = true
	}
	d.mu.Unlock()
	if say {
		d.Log.Warn("something among the machines is not as it should be and is passed over", "file", filepath.Join(d.Dir, name), "error", err)
	}
}

// settled forgets complaints of what is as it should be now.
func (d *Driver) settled(wrong map[string]bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for name := range d.complaints {
		if !wrong[name] {
			delete(d.complaints, name)
		}
	}
}

func (d *Driver) read(id string) (record, error) {
	var rec record
	raw, err := os.ReadFile(d.file(id))
	if err != nil {
		return rec, err
	}
	if err := json.Unmarshal(raw, &rec); err != nil {
		return rec, fmt.Errorf("read %s: %w", d.file(id), err)
	}
	return rec, nil
}

// write replaces the record at once, and for good.
func (d *Driver) write(rec record) error {
	raw, err := json.Marshal(rec)
	if err != nil {
		return err
	}
	return datadir.WriteFile(d.file(rec.ID), raw, 0o600)
}
