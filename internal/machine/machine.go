// Package machine is what the service asks of whatever runs its machines.
//
// Its words: an order is an act on a machine that is asked for under a lease; the fence is the newest
// epoch under which orders about a group are taken; halt and wake are what becomes of a machine whose
// files are looked at.
package machine

import (
	"context"
	"errors"
	"io"
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
	Number      int64             `json:"number"`    // of the address
	Addresses   int               `json:"addresses"` // how many it has; at least 1
	Port        int               `json:"port"`
	CPUs        float64           `json:"cpus"`
	MemoryBytes int64             `json:"memory_bytes"`
	DiskBytes   int64             `json:"disk_bytes"` // for its files; 0 for as much as there is
	Processes   int               `json:"processes"`  // and threads that it may have at once; 0 for as many as there can be
	Labels      map[string]string `json:"labels"`
	UserData    string            `json:"user_data"`
	Environment map[string]string `json:"environment"`
}

// Fact is what a driver says of one machine.
type Fact struct {
	ID    string
	State fleet.MachineState
	Why   string
	// Launch, Template and Digest are those of the machine's spec; 0 and "" when they are not known.
	Launch           int
	Template, Digest string
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

// Order is an act on a machine that somebody asks for, under the lease that he has of
// its group.
type Order struct {
	ID    string
	Group string
	Epoch int64 // of the lease; 0 when it is asked under none
}

// ErrDeposed is what an order is answered under a lease that is not the newest.
var ErrDeposed = errors.New("another service has the lease of the group by now")

// Driver runs machines. Every call is idempotent by the instance's id, and may
// be made again after the service was killed in the middle of it. What else a driver can
// do stands in the small interfaces below.
type Driver interface {
	// Numbers is how many numbers there are for addresses: that many machines can live
	// at once.
	Numbers() int64
	// Address is the address of a machine in a zone, for a number that is, modulo
	// Numbers, given to no other machine alive.
	Address(zone string, number int64) (string, error)
	// Fence has no order about the group accepted from now on under a lease older than
	// of the epoch, whichever service asks. It returns [ErrDeposed] for an old one.
	Fence(ctx context.Context, group string, epoch int64) error
	// Launch starts the machine unless it is there already. It returns when the
	// machine runs or cannot be started.
	Launch(ctx context.Context, o Order, spec Spec) error
	// Stop asks the machine to end, waits for the grace, ends it, and clears
	// what it left. It returns when nothing is left.
	Stop(ctx context.Context, o Order, grace time.Duration) error
	// List returns a fact for every machine that has not been cleared.
	List(ctx context.Context) ([]Fact, error)
	// Watch has tell called for every machine that ends from now on.
	Watch(tell func(Fact))
}

// Halter is a driver that can end a machine after the grace and keep its files, and
// start it again from them. Neither is told to the watcher.
type Halter interface {
	Halt(ctx context.Context, o Order, grace time.Duration) error
	Wake(ctx context.Context, o Order) error
}

// Filer is a driver whose machines' files can be looked at in a directory, running or
// not.
type Filer interface {
	Files(id string, do func(dir string) error) error
}

// Gauger is a driver that knows the most bytes of memory that a machine has used at once.
type Gauger interface {
	Memory(id string) (peak int64, known bool)
}

// Usage is what a machine has used since it started, and uses now.
type Usage struct {
	Launch      int // of the instance: a fresh machine counts anew
	CPUSeconds  float64
	MemoryBytes int64
	Refused     int64 // processes that it was refused, for it had as many as it may
}

// Meter is a driver that knows what its machines use, by instance.
type Meter interface {
	Usage(ctx context.Context) (map[string]Usage, error)
}

// Logger is a driver that keeps what a machine writes: up to the last max bytes of it.
type Logger interface {
	BootLog(id string, max int64) ([]byte, error)
}

// Runner is a driver that can run commands on its machines.
type Runner interface {
	// Run runs a command on the machine, as its workload would, until it ends or
	// the context does.
	Run(ctx context.Context, id string, command []string) (Ran, error)
}

// Terminal is a command on a machine that somebody sits before.
type Terminal interface {
	// ReadWriter is the screen and the keyboard. Read returns [io.EOF] once the command has
	// ended and all that it wrote was read.
	io.ReadWriter
	// Resize tells the command how many characters the screen has.
	Resize(columns, rows int) error
	// End ends the command and what it started in its session. It may be called again.
	End()
	// Wait waits until the command has ended, and tells how; nothing of its output is kept.
	Wait() Ran
}

// Opening is what a terminal is opened with.
type Opening struct {
	Command       []string
	Variables     map[string]string // beside those of the machine
	Columns, Rows int               // of the screen, in characters
}

// Sheller is a driver that can open terminals on its machines.
type Sheller interface {
	// Shell runs a command on the machine, as its workload would, before a terminal.
	Shell(id string, o Opening) (Terminal, error)
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
