package process

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"unitas/internal/datadir"
	"unitas/internal/machine"
)

// What boot logs may take of the disk. One that grew past logMost is cut to its last
// logKept bytes; of a machine that is gone the last logAfter stay, and of all those
// logsAfter together.
const (
	logMost   = 8 << 20
	logKept   = 4 << 20
	logAfter  = 1 << 20
	logsAfter = 128 << 20

	logEvery  = time.Second
	diskEvery = 10 * time.Second
)

// KeepBounds keeps the machines' boot logs and files within their bounds until the
// context ends.
func (d *Driver) KeepBounds(ctx context.Context) {
	defer d.groups.close()
	logs := time.NewTicker(logEvery)
	defer logs.Stop()
	disk := time.NewTimer(diskEvery)
	defer disk.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-logs.C:
			d.alone(func() {
				d.boundLogs()
				if d.Room != nil && d.Room() != nil { // somebody takes all that there is
					d.boundDisks(ctx)
				}
			})
		case <-disk.C:
			begun := time.Now()
			d.alone(func() {
				d.boundDisks(ctx)
				d.forgetFences()
			})
			disk.Reset(max(diskEvery, 20*time.Since(begun))) // a twentieth of the time at most
		}
	}
}

// alone does something unless another service on the directory does it now.
func (d *Driver) alone(do func()) {
	held, err := datadir.TryLock(d.own("upkeep"), syscall.LOCK_EX)
	if err != nil {
		return
	}
	defer held.Close()
	do()
}

func (d *Driver) present() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	ids := make([]string, 0, len(d.machines))
	for id := range d.machines {
		ids = append(ids, id)
	}
	return ids
}

func (d *Driver) boundLogs() {
	for _, id := range d.present() {
		if err := cutLog(d.bootLog(id), logMost, logKept); err != nil && !os.IsNotExist(err) {
			d.Log.Warn("a boot log was not cut", "machine", id, "error", err)
		}
	}
}

// cutLog leaves the last keep bytes of a log that is longer than most, under a line
// that says so. The machine goes on writing at its end; what it writes in this very
// moment may be lost.
func cutLog(name string, most, keep int64) error {
	f, err := os.OpenFile(name, os.O_RDWR|os.O_APPEND|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() || info.Size() <= most {
		return err
	}
	tail := make([]byte, keep)
	n, err := f.ReadAt(tail, info.Size()-keep)
	if err != nil && err != io.EOF {
		return err
	}
	if err := f.Truncate(0); err != nil {
		return err
	}
	_, err = f.Write(append(fmt.Appendf(nil, "── %d MiB of this log were left out here\n", (info.Size()-keep)>>20), tail[:n]...))
	return err
}

// boundDisks ends machines whose files take more than their templates give them.
func (d *Driver) boundDisks(ctx context.Context) {
	for _, id := range d.present() {
		rec, err := d.read(id)
		if err != nil || rec.DiskBytes <= 0 || ctx.Err() != nil {
			continue
		}
		used := filesTake(filepath.Join(d.dir(id), "root"), rec.DiskBytes)
		if used += filesTake(filepath.Join(d.dir(id), "run"), rec.DiskBytes); used <= rec.DiskBytes {
			continue
		}
		why := fmt.Sprintf("its files take more than the %d MiB of disk that its template gives it, so it was ended", rec.DiskBytes>>20)
		if err := d.Kill(id, why); err == nil {
			d.Log.Warn("a machine was ended for the disk that it takes", "machine", id, "bytes", used, "disk", rec.DiskBytes)
		}
	}
}

// filesTake is how many bytes of disk the files below dir take, counted until it is
// more than enough. A file with several names counts once.
func filesTake(dir string, enough int64) (total int64) {
	type inode struct{ dev, ino uint64 }
	seen := map[inode]bool{}
	_ = filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil // it went away meanwhile
		}
		info, err := e.Info()
		if err != nil {
			return nil
		}
		stat, ok := info.Sys().(*syscall.Stat_t)
		if !ok {
			return nil
		}
		if stat.Nlink > 1 && !e.IsDir() {
			k := inode{uint64(stat.Dev), stat.Ino}
			if seen[k] {
				return nil
			}
			seen[k] = true
		}
		if total += stat.Blocks * 512; total > enough {
			return fs.SkipAll
		}
		return nil
	})
	return total
}

// look is what is known of one machine at one moment: its live process, or what its
// record says of it.
//
// It returns [os.ErrNotExist] for what never was a machine.
func (d *Driver) look(id string) (f machine.Fact, err error) {
	f = machine.Fact{ID: id}
	d.mu.Lock()
	r, begun := d.machines[id], d.starting[id] > 0
	d.mu.Unlock()
	if r != nil {
		f.State, f.Launch, f.Template, f.Digest = stateRunning, r.launch, r.template, r.digest
		return f, nil
	}
	if begun {
		return f, nil // whoever starts it will say
	}
	rec, err := d.read(id)
	if os.IsNotExist(err) {
		return f, fmt.Errorf("it has no record of a machine: %w", err)
	}
	f.Launch, f.Template, f.Digest = rec.Spec.Launch, rec.Spec.Template, rec.Spec.Digest
	process := rec.Process
	if err != nil || process == nil {
		process = oldestMarked(d.dir(id))
	}
	switch {
	case process != nil && d.runs(id, *process):
		if _, adoptErr := d.adopt(id, rec.Spec, *process); adoptErr != nil {
			return f, adoptErr
		}
		f.State = stateRunning
	case err != nil:
		f.State, f.Why = stateStopped, "its record cannot be read, and no process of it was found"
	case rec.Process != nil && !rec.Halted:
		f.State, f.Why = stateStopped, "its process was not found"
	}
	return f, err
}
