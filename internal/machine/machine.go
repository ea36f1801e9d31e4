// Package machine is what the service asks of whatever runs its machines.
package machine

import (
	"context"
	"time"

	"unitas/internal/fleet"
)

// Spec is everything that one launch needs.
type Spec struct {
	ID          string            `json:"id"`
	Launch      int               `json:"launch"` // of the instance: a fresh machine is another
	Group       string            `json:"group"`
	Zone        string            `json:"zone"`
	Template    string            `json:"template"` // timetable-web@4
	Image       string            `json:"image"`    // timetable@7
	Digest      string            `json:"digest"`   // of the image's manifest
	Start       []string          `json:"start"`
	Address     string            `json:"address"`   // the machine's own IP address
	Number      int64             `json:"number"`    // of the address; unique
	Addresses   int               `json:"addresses"` // how many it has; at least 1
	Port        int               `json:"port"`
	CPUs        float64           `json:"cpus"`
	MemoryBytes int64             `json:"memory_bytes"`
	DiskBytes   int64             `json:"disk_bytes"` // for its files; 0 for as much as there is
	Labels      map[string]string `json:"labels"`
	UserData    string            `json:"user_data"`
	Environment map[string]string `json:"environment"`
}

// Fact is what a driver says of one machine.
type Fact struct {
	ID    string
	State fleet.MachineState
	Why   string
	// Launch is that of the machine's spec; 0 when it is not known.
	Launch int
}

// MaxOutput is how much of what a command writes is kept, in bytes.
const MaxOutput = 256 << 10

// Ran is how a command ended.
type Ran struct {
	Status    int    // -1 when a signal or the end of the context ended it
	Why       string // why there is no status
	Output    []byte // at most the first MaxOutput bytes
	Truncated bool
	Took      time.Duration
}

// Driver runs machines. Every call is idempotent by the instance's id, and may
// be made again after the service was killed in the middle of it.
type Driver interface {
	// Address is the address of a machine in a zone, for a number that is
	// given to no other machine alive.
	Address(zone string, number int64) (string, error)
	// Launch starts the machine unless it is there already. It returns when the
	// machine runs or cannot be started.
	Launch(ctx context.Context, spec Spec) error
	// Stop asks the machine to end, waits for the grace, ends it, and clears
	// what it left. It returns when nothing is left.
	Stop(ctx context.Context, id string, grace time.Duration) error
	// List returns a fact for every machine that has not been cleared.
	List(ctx context.Context) ([]Fact, error)
	// Watch has tell called for every machine that ends from now on.
	Watch(tell func(Fact))
	// Halt ends the machine after the grace and keeps its files; Wake starts it
	// again from them. Neither is told to the watcher.
	Halt(ctx context.Context, id string, grace time.Duration) error
	Wake(ctx context.Context, id string) error
	// Files has do look at the directory of the machine's files, running or not.
	Files(id string, do func(dir string) error) error
	// Memory is the most bytes that the machine has used at once, and whether
	// that is known.
	Memory(id string) (peak int64, known bool)
	// BootLog returns up to the last max bytes that the machine wrote.
	BootLog(id string, max int64) ([]byte, error)
}

// Runner is a driver that can run commands on its machines.
type Runner interface {
	// Run runs a command on the machine, as its workload would, until it ends or
	// the context does.
	Run(ctx context.Context, id string, command []string) (Ran, error)
}

// Driller is a driver that can make faults on purpose.
type Driller interface {
	// Kill ends the machine at once; why is what the watcher is told.
	Kill(id, why string) error
	// Stall stops all that runs on the machine where it is, or lets it go on.
	Stall(id string, on bool) error
	// Burn keeps one processor busy beside what runs on the machine, for a time
	// or until the context ends.
	Burn(ctx context.Context, id string, span time.Duration) error
	// Note leaves a note for the workload, which it may know how to read; nil
	// takes it away.
	Note(id string, note []byte) error
	// LoseZone lets all machines of a zone die and refuses to launch others there,
	// for as long as it is lost.
	LoseZone(zone string, lost bool) error
}
