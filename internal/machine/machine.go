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
	Digest      string            `json:"digest"`   // of the image's artifact
	Start       []string          `json:"start"`
	Address     string            `json:"address"` // the machine's own IP address
	Number      int64             `json:"number"`  // of the address; unique
	Port        int               `json:"port"`
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
	// BootLog returns up to the last max bytes that the machine wrote.
	BootLog(id string, max int64) ([]byte, error)
}
