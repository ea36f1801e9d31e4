package process

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"unitas/internal/caught"
	"unitas/internal/datadir"
	"unitas/internal/machine"
)

// live returns the running machine and its record.
func (d *Driver) live(id string) (*running, record, error) {
	if filepath.Base(id) != id {
		return nil, record{}, os.ErrNotExist
	}
	r, err := d.find(id)
	if err == nil && r == nil {
		err = fmt.Errorf("the machine of %s does not run here", id)
	}
	if err != nil {
		return nil, record{}, err
	}
	rec, err := d.read(id)
	return r, rec, err
}

// Run runs a command on the machine.
func (d *Driver) Run(ctx context.Context, id string, command []string) (machine.Ran, error) {
	_, rec, err := d.live(id)
	if err != nil {
		return machine.Ran{}, err
	}
	cmd, err := d.prepared(rec, filepath.Join(d.dir(id), "root"), command)
	if err != nil {
		return machine.Ran{}, fmt.Errorf("start %s: %w", command[0], err)
	}
	output := &firstBytes{}
	cmd.Stdout, cmd.Stderr = output, output
	cmd.WaitDelay = time.Second // for what it left behind holding its output
	begun := time.Now()
	if err := d.groups.start(cmd, id, rec.Processes); err != nil {
		return machine.Ran{}, fmt.Errorf("start %s: %w", command[0], err)
	}
	over := context.AfterFunc(ctx, caught.Func("the end of a command", func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }))
	awaitExit(cmd.Process.Pid) // the pid cannot be used again before it is waited for
	over()
	_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
	_ = cmd.Wait()
	ran := machine.Ran{Status: cmd.ProcessState.ExitCode(), Output: output.kept, Truncated: output.cut, Took: time.Since(begun)}
	switch {
	case ctx.Err() != nil:
		ran.Why = "it was ended: " + ctx.Err().Error()
	case ran.Status < 0:
		ran.Why = strings.Replace(exitWords(cmd.ProcessState), "its process", "it", 1)
	}
	return ran, nil
}

// firstBytes keeps the beginning of what is written to it.
type firstBytes struct {
	kept []byte
	cut  bool
}

func (f *firstBytes) Write(p []byte) (int, error) {
	room := machine.MaxOutput - len(f.kept)
	f.cut = f.cut || len(p) > room
	f.kept = append(f.kept, p[:min(len(p), room)]...)
	return len(p), nil
}

// Kill ends the machine at once.
func (d *Driver) Kill(id, why string) error {
	r, _, err := d.live(id)
	if err != nil {
		return err
	}
	d.kill(r, why)
	return nil
}

func (d *Driver) kill(r *running, why string) {
	d.mu.Lock()
	r.why = why
	d.mu.Unlock()
	_ = syscall.Kill(-r.id.PID, syscall.SIGKILL)
}

// Stall stops the processes of the machine, or lets them go on.
func (d *Driver) Stall(id string, on bool) error {
	r, _, err := d.live(id)
	if err != nil {
		return err
	}
	signal := syscall.SIGCONT
	if on {
		signal = syscall.SIGSTOP
	}
	return syscall.Kill(-r.id.PID, signal)
}

// Burn keeps one processor busy. It ends by itself even when nobody is left to
// end it.
func (d *Driver) Burn(ctx context.Context, id string, span time.Duration) error {
	seconds := strconv.FormatFloat(span.Seconds(), 'f', 3, 64)
	_, err := d.Run(ctx, id, []string{"timeout", "-s", "KILL", seconds, "sh", "-c", "while :; do :; done"})
	return err
}

// note is where the workload finds what a drill asks of it.
func (d *Driver) note(id string) string { return filepath.Join(d.dir(id), "run", "drill.json") }

// Note leaves a note for the workload, at once whole.
func (d *Driver) Note(id string, note []byte) error {
	if filepath.Base(id) != id {
		return os.ErrNotExist
	}
	if note == nil {
		if err := os.Remove(d.note(id)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	half := d.note(id) + ".half"
	if err := os.WriteFile(half, note, 0o644); err != nil {
		return err
	}
	return os.Rename(half, d.note(id))
}

// LoseZone loses a zone, or has it back. It is lost for every service on the directory,
// and no longer than the one that lost it is there.
func (d *Driver) LoseZone(zone string, lost bool) error {
	if !lost {
		d.mu.Lock()
		held := d.lost[zone]
		delete(d.lost, zone)
		d.mu.Unlock()
		if held == nil {
			return nil
		}
		return held.Close()
	}
	held, err := datadir.TryLock(d.lostFile(zone), syscall.LOCK_EX)
	if err != nil {
		return fmt.Errorf("the zone %s is lost already: %w", zone, err)
	}
	d.mu.Lock()
	d.lost[zone] = held
	d.mu.Unlock()
	facts, err := d.List(context.Background()) // those that another service started as well
	for _, f := range facts {
		if rec, readErr := d.read(f.ID); readErr == nil && rec.Zone == zone && f.State == stateRunning {
			err = errors.Join(err, d.Kill(f.ID, lostWith(zone)))
		}
	}
	return err
}

// lostWith is why a machine ended.
func lostWith(zone string) string { return "its zone " + zone + " is lost" }

func (d *Driver) lostFile(zone string) string { return d.own("lost-" + zone) }

// isLost reports whether some service has lost a zone.
func (d *Driver) isLost(zone string) bool {
	free, err := datadir.TryLock(d.lostFile(zone), syscall.LOCK_SH)
	if err == nil {
		free.Close()
	}
	return errors.Is(err, datadir.ErrHeld)
}
