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
