package service

import (
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"unitas/internal/datadir"
	"unitas/internal/sockets"
)

// owned is what a service has of the data directory for itself: all of it when it is the
// only one, or a directory below it when it is one of several.
type owned struct {
	dir   string
	locks []*datadir.Held
}

// ownData keeps services that may not share a data directory from sharing it: those that
// have names may, if they are not the same.
func ownData(data, replica string) (*owned, error) {
	o := &owned{dir: data}
	how, others := syscall.LOCK_EX, "another service uses the data directory %s; stop it first, or give --data another directory"
	if replica != "" {
		how, others = syscall.LOCK_SH, "a service without --replica uses the data directory %s for itself; stop it first"
		o.dir = filepath.Join(data, "replicas", replica)
	}
	if err := o.lock(filepath.Join(data, "lock"), how); err != nil {
		return nil, busy(err, fmt.Sprintf(others, data))
	}
	if replica == "" {
		return o, nil
	}
	// Machines' users pass through to nothing of it; commands of recipes enter their scratch.
	if err := errors.Join(os.MkdirAll(o.dir, 0o711), os.Chmod(filepath.Dir(o.dir), 0o711)); err != nil {
		o.close()
		return nil, fmt.Errorf("make the directory of this service: %w", err)
	}
	if err := o.lock(filepath.Join(o.dir, "lock"), syscall.LOCK_EX); err != nil {
		o.close()
		return nil, busy(err, fmt.Sprintf("another service is named %s in %s; give --replica another name", replica, data))
	}
	return o, nil
}

func busy(err error, text string) error {
	if errors.Is(err, datadir.ErrHeld) {
		return errors.New(text)
	}
	return fmt.Errorf("lock the data directory: %w", err)
}

func (o *owned) lock(name string, how int) error {
	f, err := datadir.TryLock(name, how)
	if err != nil {
		return err
	}
	o.locks = append(o.locks, f)
	return nil
}

func (o *owned) close() {
	for _, f := range o.locks {
		f.Close()
	}
}

// id names this service; it outlives a restart.
func (o *owned) id() (string, error) {
	file := filepath.Join(o.dir, "replica")
	raw, err := os.ReadFile(file)
	if err == nil {
		return strings.TrimSpace(string(raw)), nil
	}
	id := rand.Text()
	return id, os.WriteFile(file, []byte(id+"\n"), 0o600)
}

// openDoors opens addresses, together with the other services of the data directory when
// there may be any.
func openDoors(c Config) (*sockets.Sockets, error) {
	if c.Replica == "" {
		return sockets.Alone(c.Log)
	}
	return sockets.Share(filepath.Join(c.Data, "replicas", ".doors"), c.Replica, c.Log)
}

// reachable is where other services of this host find an interface.
func reachable(a net.Addr) string {
	tcp, ok := a.(*net.TCPAddr)
	if ok && tcp.IP.IsUnspecified() {
		return fmt.Sprintf("http://127.0.0.1:%d", tcp.Port)
	}
	return "http://" + a.String()
}
