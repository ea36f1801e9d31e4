package process

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"unitas/internal/caught"
	"unitas/internal/fleet"
	"unitas/internal/machine"
)

// Launch starts the machine of the spec unless it was started before.
func (d *Driver) Launch(ctx context.Context, o machine.Order, spec machine.Spec) error {
	release, err := d.hold(ctx, o)
	if err != nil {
		return err
	}
	defer release()
	r, err := d.find(spec.ID)
	switch {
	case err != nil:
		return err
	case r != nil && r.launch != spec.Launch:
		return fmt.Errorf("a machine of an earlier launch (%d) is there still; it is stopped first", r.launch)
	case r != nil && (r.template != spec.Template || r.digest != spec.Digest): // the records are of another time
		return fmt.Errorf("a machine of %s with the image %.19s is there under its name; it is stopped first", r.template, r.digest)
	case r != nil:
		return nil
	}
	defer d.begin(spec.ID)()
	if rec, err := d.read(spec.ID); err == nil && rec.Process != nil && !rec.Halted {
		d.say(machine.Fact{ID: spec.ID, State: fleet.MachineStopped, Why: "its process was not found", Launch: rec.Spec.Launch})
		return nil // it was launched before, and has ended since
	}
	if d.isLost(spec.Zone) {
		return fmt.Errorf("the zone %s is lost", spec.Zone)
	}
	if d.Room != nil {
		if err := d.Room(); err != nil {
			return err
		}
	}
	if err := d.prepare(spec); err != nil {
		return errors.Join(err, os.RemoveAll(d.dir(spec.ID)))
	}
	return d.start(record{Spec: spec, User: max(0, d.newUser(spec))})
}

// prepare makes the directory of the machine afresh.
func (d *Driver) prepare(spec machine.Spec) error {
	user := d.newUser(spec)
	dir := d.dir(spec.ID)
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	if err := os.Mkdir(dir, 0o755); err != nil {
		return err
	}
	if err := d.write(record{Spec: spec, User: max(0, user)}); err != nil { // first: what has no record is no machine's
		return err
	}
	for _, p := range []string{filepath.Join(dir, "root"), filepath.Join(dir, "run")} {
		if err := os.Mkdir(p, 0o755); err != nil {
			return err
		}
	}
	if user >= 0 { // nobody else's machine may look in
		if err := errors.Join(os.Chown(dir, 0, user), os.Chmod(dir, 0o750), os.Chown(filepath.Join(dir, "root"), user, user)); err != nil {
			return err
		}
	}
	told, err := json.MarshalIndent(map[string]any{
		"instance": spec.ID, "group": spec.Group, "zone": spec.Zone, "template": spec.Template, "image": spec.Image,
		"addresses": d.addresses(spec), "port": spec.Port, "cpus": spec.CPUs, "memory_bytes": spec.MemoryBytes, "labels": spec.Labels,
	}, "", "  ")
	if err != nil {
		return err
	}
	if err := errors.Join(
		os.WriteFile(filepath.Join(dir, "run", "instance.json"), told, 0o644),
		os.WriteFile(filepath.Join(dir, "run", "user-data"), []byte(spec.UserData), 0o755)); err != nil {
		return err
	}
	images, err := d.Images(spec.Zone)
	if err != nil {
		return err
	}
	if err := images.Unpack(spec.Digest, filepath.Join(dir, "root"), user, spec.DiskBytes); err != nil {
		return err
	}
	return d.firstBoot(spec, user)
}

func (d *Driver) start(rec record) error {
	spec := rec.Spec
	log, err := d.openLog(rec)
	if err != nil {
		return err
	}
	defer log.Close()
	if len(spec.Start) == 0 {
		return errors.New("the image does not say what to start")
	}
	cmd, err := d.exec(rec, log)
	if err != nil {
		fmt.Fprintf(log, "could not start: %v\n", err)
		return fmt.Errorf("start %s: %w", spec.Start[0], err)
	}
	id, err := identify(cmd.Process.Pid)
	if err == nil {
		err = d.write(record{Spec: spec, User: rec.User, Process: &id})
	}
	if err != nil {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		_ = cmd.Wait()
		return fmt.Errorf("record the process: %w", err)
	}
	d.limit(id.PID, spec.Processes)
	dead, err := id.watch()
	if err != nil { // no descriptor is left, and a thread will do
		dead = func() { awaitExit(id.PID) }
	}
	r := d.admit(spec, id)
	if d.isLost(spec.Zone) { // meanwhile, and whoever lost it did not see this one yet
		d.kill(r, lostWith(spec.Zone))
	}
	caught.Go("the end of a machine", func() {
		defer func() { d.end(spec.ID, r, exitWords(cmd.ProcessState)) }() // whatever fails before
		dead()                                                            // the pid cannot be used again before it is waited for
		_ = syscall.Kill(-id.PID, syscall.SIGKILL)
		_ = cmd.Wait()
		d.endRest(spec.ID, id)
	})
	return nil
}

// limit bounds the processes of a machine's user, where no control group bounds those of the machine.
// It is refused to who may not limit others'; then nothing does.
func (d *Driver) limit(pid, most int) {
	if d.unprivileged && (d.groups == nil || d.groups.bounds == "") && most > 0 {
		n := uint64(most)
		_ = unix.Prlimit(pid, unix.RLIMIT_NPROC, &unix.Rlimit{Cur: n, Max: n}, nil)
	}
}

// openLog opens the boot log of a machine, which the service and the machine itself
// may read.
func (d *Driver) openLog(rec record) (*os.File, error) {
	log, err := os.OpenFile(d.bootLog(rec.ID), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o640)
	if user := d.user(rec); err == nil && user >= 0 {
		err = log.Chown(0, user)
	}
	return log, err
}

// exec starts the program. While another machine is being unpacked, a process
// forked at the wrong moment holds the program open for writing until its own
// exec, and the kernel refuses to start it (ETXTBSY); a moment later it does not.
func (d *Driver) exec(rec record, log *os.File) (*exec.Cmd, error) {
	root := filepath.Join(d.dir(rec.ID), "root")
	for attempt := 0; ; attempt++ {
		cmd, err := d.prepared(rec, root, d.command(rec.Spec))
		if err != nil {
			return nil, err
		}
		cmd.Stdout, cmd.Stderr = log, log
		err = d.groups.start(cmd, rec.ID, rec.Processes)
		if err == nil || !errors.Is(err, syscall.ETXTBSY) || attempt == 200 {
			return cmd, err
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// prepared is a command that runs on the machine: among its files, as its user, told
// what the workload is told, found where the workload would find it.
func (d *Driver) prepared(rec record, root string, command []string) (*exec.Cmd, error) {
	environment := d.environment(rec.Spec)
	file, err := program(root, command[0], environment)
	if err != nil {
		return nil, err
	}
	cmd := &exec.Cmd{Path: file, Args: command, Dir: root, Env: environment}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if user := d.user(rec); user >= 0 {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(user), Gid: uint32(user)}
	}
	return cmd, nil
}

// environment is all that the process is told by variables; nothing of the
// service's own.
func (d *Driver) environment(spec machine.Spec) []string {
	dir := d.dir(spec.ID)
	env := []string{"PATH=/usr/local/bin:/usr/bin:/bin", "LANG=C.UTF-8", "HOME=" + filepath.Join(dir, "root")}
	own := []string{
		mark + dir, owner + d.Directory,
		"UNITAS_INSTANCE=" + spec.ID, "UNITAS_GROUP=" + spec.Group, "UNITAS_ZONE=" + spec.Zone,
		"UNITAS_TEMPLATE=" + spec.Template, "UNITAS_ADDRESS=" + spec.Address, fmt.Sprintf("UNITAS_PORT=%d", spec.Port),
		"UNITAS_ADDRESSES=" + strings.Join(d.addresses(spec), ","), "UNITAS_IMAGE=" + spec.Image,
		fmt.Sprintf("UNITAS_CPUS=%g", spec.CPUs), fmt.Sprintf("UNITAS_MEMORY_BYTES=%d", spec.MemoryBytes),
		"UNITAS_DRILL=" + d.note(spec.ID),
		"UNITAS_USER_DATA=" + filepath.Join(dir, "run", "user-data"),
	}
	names := make([]string, 0, len(spec.Environment))
	for name := range spec.Environment {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		env = append(env, name+"="+spec.Environment[name])
	}
	return append(env, own...) // last, so that no image or template says which machine this is
}
