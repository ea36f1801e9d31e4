package process

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"unitas/internal/datadir"
	"unitas/internal/fleet"
)

// alive reports whether a process is there and is no zombie.
func alive(pid int) bool {
	state, _, err := stat(pid)
	return err == nil && state != 'Z' && state != 'X'
}

// gone waits until a process is.
func gone(t *testing.T, pid int) {
	t.Helper()
	limit := time.After(20 * time.Second)
	for alive(pid) {
		select {
		case <-limit:
			_ = syscall.Kill(pid, syscall.SIGKILL)
			t.Fatalf("the process %d runs on", pid)
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// escape starts what loses the mark, the session and the parent, and tells its pid.
const escape = `env -i /usr/bin/setsid /bin/sh -c 'echo escaped $$ >&2; exec /bin/sleep 600' & `

// TestNothingOutlivesItsMachine: what a workload starts beside itself ends with it,
// however it hides: by its user or, where that is not its own, by its control group.
func TestNothingOutlivesItsMachine(t *testing.T) {
	y := newYard(t)
	if !y.unprivileged && y.groups == nil {
		t.Log("neither users nor control groups of their own here: what hides stays")
		return
	}
	escaped := func(id string) int {
		t.Helper()
		log := y.log(id, "escaped ")
		_, rest, _ := strings.Cut(log, "escaped ")
		pid, err := strconv.Atoi(strings.Fields(rest)[0])
		if err != nil || !alive(pid) {
			t.Fatalf("nothing escaped: %v in %q", err, log)
		}
		return pid
	}
	y.launch("stopped", escape+"exec sleep 600")
	pid := escaped("stopped")
	if err := y.Stop(context.Background(), "stopped", 5*time.Second); err != nil {
		t.Fatal(err)
	}
	gone(t, pid)
	y.launch("ended", escape+"sleep 0.3")
	pid = escaped("ended")
	if f := y.fact(); f.ID != "stopped" {
		t.Errorf("the driver says %+v", f)
	}
	if f := y.fact(); f.ID != "ended" || f.State != fleet.MachineStopped {
		t.Errorf("the driver says %+v", f)
	}
	gone(t, pid)
	// By the control group alone, and by the user alone.
	groups, users := y.groups, y.unprivileged
	if groups != nil {
		y.unprivileged = false
		y.launch("grouped", escape+"exec sleep 600")
		pid = escaped("grouped")
		if err := y.Stop(context.Background(), "grouped", 5*time.Second); err != nil {
			t.Fatal(err)
		}
		gone(t, pid)
		if _, err := os.Stat(groups.of("grouped")); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("its group is left: %v", err)
		}
	}
	if y.unprivileged, y.groups = users, nil; users {
		y.launch("owned", escape+"exec sleep 600")
		pid = escaped("owned")
		if err := y.Stop(context.Background(), "owned", 5*time.Second); err != nil {
			t.Fatal(err)
		}
		gone(t, pid)
	}
	y.groups = groups
}

// TestForeignFilesStopNobody: what is no machine, or cannot be read, is said and
// passed over; the machines beside it are listed.
func TestForeignFilesStopNobody(t *testing.T) {
	defer func(was time.Duration) { complainAfter = was }(complainAfter)
	complainAfter = 0
	y := newYard(t)
	y.launch("timetable-001", "echo up; exec sleep 600")
	y.launch("timetable-002", "echo up; exec sleep 600")
	y.log("timetable-002", "up")
	var said bytes.Buffer
	y.Log = slog.New(slog.NewTextHandler(&said, nil))
	if err := errors.Join(os.WriteFile(filepath.Join(y.Dir, "notes.txt"), []byte("do not forget"), 0o600), os.Mkdir(filepath.Join(y.Dir, "lost+found"), 0o700),
		os.MkdirAll(filepath.Join(y.Dir, "half"), 0o700), os.WriteFile(filepath.Join(y.Dir, "half", "machine.json"), []byte(`{"id":"ha`), 0o600),
		os.WriteFile(y.file("timetable-002"), nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	y.reopen(filepath.Dir(y.Dir)) // as a service that starts, which knows the machines by their files alone
	y.Log = slog.New(slog.NewTextHandler(&said, nil))
	states := map[string]fleet.MachineState{}
	for range 2 {
		facts, err := y.List(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range facts {
			states[f.ID] = f.State
		}
	}
	if states["timetable-001"] != fleet.MachineRunning || states["timetable-002"] != fleet.MachineRunning || states["half"] != fleet.MachineStopped {
		t.Errorf("the list says %v", states)
	}
	for _, foreign := range []string{"notes.txt", "lost+found"} {
		if state, listed := states[foreign]; listed {
			t.Errorf("%s is listed as a machine that is %q, and would be cleared", foreign, state)
		}
	}
	for _, gone := range []func() error{func() error { return os.Mkdir(filepath.Join(y.Dir, "brief"), 0o700) }, func() error { return os.Remove(filepath.Join(y.Dir, "brief")) }} {
		if err := gone(); err != nil {
			t.Fatal(err)
		}
		if _, err := y.List(context.Background()); err != nil {
			t.Fatal(err)
		}
	}
	if n := strings.Count(said.String(), "passed over"); n != 4 || !strings.Contains(said.String(), "notes.txt") {
		t.Errorf("it is said %d times: %s", n, said.String())
	}
	for _, id := range []string{"half", "timetable-002"} {
		if err := y.Stop(context.Background(), id, time.Second); err != nil {
			t.Errorf("%s cannot be stopped: %v", id, err)
		}
	}
	if left := marked(y.dir("timetable-002")); len(left) > 0 {
		t.Errorf("of the one without a record %v is left", left)
	}
}

// TestListedWhileStarting: a list that is made while machines start finds each running,
// or says nothing yet of it.
func TestListedWhileStarting(t *testing.T) {
	y := newYard(t)
	spec := y.spec("many", "exec sleep 600")
	done := make(chan struct{})
	var listing sync.WaitGroup
	for range 2 {
		listing.Go(func() {
			for {
				select {
				case <-done:
					return
				default:
				}
				facts, err := y.List(context.Background())
				if err != nil {
					t.Error(err)
					return
				}
				for _, f := range facts {
					if f.State == fleet.MachineStopped {
						t.Errorf("%s is listed as stopped while it starts: %s", f.ID, f.Why)
					}
				}
			}
		})
	}
	for n := range 60 {
		one := spec
		one.ID, one.Number = "many-"+strconv.Itoa(n), int64(n)
		y.ids = append(y.ids, one.ID)
		if err := y.Launch(context.Background(), one); err != nil {
			t.Error(err)
		}
	}
	close(done)
	listing.Wait()
	if len(y.machines) != 60 {
		t.Errorf("%d machines are on the books", len(y.machines))
	}
}

// TestLogsAreBounded: a log that grew too long keeps its end, and the machine goes on
// writing to it; of machines that are gone little stays.
func TestLogsAreBounded(t *testing.T) {
	y := newYard(t)
	y.launch("chatty", `head -c 9000000 /dev/zero | tr '\\0' x; echo; echo end of it; while [ ! -e more ]; do sleep 0.02; done; echo and more; exec sleep 600`)
	y.log("chatty", "end of it")
	y.boundLogs()
	info, err := os.Stat(y.bootLog("chatty"))
	if err != nil || info.Size() > logKept+100 {
		t.Errorf("the log has %d bytes: %v", info.Size(), err)
	}
	if err := os.WriteFile(filepath.Join(y.dir("chatty"), "root", "more"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	log := y.log("chatty", "and more")
	if !strings.HasSuffix(log, "end of it\nand more\n") {
		t.Errorf("it ends with %q", log[max(0, len(log)-100):])
	}
	raw, _ := os.ReadFile(y.bootLog("chatty"))
	if !bytes.HasPrefix(raw, []byte("── 4 MiB of this log were left out here\n")) {
		t.Errorf("it begins with %q", raw[:min(len(raw), 100)])
	}
	if err := y.Stop(context.Background(), "chatty", time.Second); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(y.keptLog("chatty")); err != nil || info.Size() > logAfter+100 {
		t.Errorf("of one that is gone %d bytes are kept: %v", info.Size(), err)
	}
	dir := t.TempDir()
	for n := range 5 {
		name := filepath.Join(dir, strconv.Itoa(n))
		at := time.Unix(1_700_000_000+int64(n), 0)
		if err := errors.Join(os.WriteFile(name, make([]byte, 100), 0o600), os.Chtimes(name, at, at)); err != nil {
			t.Fatal(err)
		}
	}
	forgetOldest(dir, 4, 250)
	if left, _ := filepath.Glob(filepath.Join(dir, "*")); len(left) != 2 || filepath.Base(left[0]) != "3" {
		t.Errorf("of five the newest two fit, and there are %v", left)
	}
}

// TestDiskIsKeptTo: a machine whose files grow past its disk is ended, and it is said
// why; one that keeps to it is not.
func TestDiskIsKeptTo(t *testing.T) {
	y := newYard(t)
	for id, script := range map[string]string{"greedy": "head -c 3000000 /dev/zero > hoard; echo full; exec sleep 600", "modest": "head -c 30000 /dev/zero > store; echo full; exec sleep 600"} {
		spec := y.spec(id, script)
		spec.DiskBytes = 1 << 20
		y.ids = append(y.ids, id)
		if err := y.Launch(context.Background(), spec); err != nil {
			t.Fatal(err)
		}
		y.log(id, "full")
	}
	y.boundDisks(context.Background())
	if f := y.fact(); f.ID != "greedy" || f.State != fleet.MachineStopped || !strings.Contains(f.Why, "more than the 1 MiB of disk") {
		t.Errorf("the driver says %+v", f)
	}
	if r, err := y.find("modest"); err != nil || r == nil {
		t.Errorf("one that keeps to its disk is gone: %v", err)
	}
}

// TestNoRoomNoLaunch: on a full disk nothing is launched, and what runs stays.
func TestNoRoomNoLaunch(t *testing.T) {
	y := newYard(t)
	spec := y.launch("timetable-001", "exec sleep 600")
	full := true
	y.Room = func() error {
		if full {
			return &datadir.Full{Free: 1 << 20, Least: 512 << 20}
		}
		return nil
	}
	next := spec
	next.ID, next.Number = "timetable-002", 77
	err := y.Launch(context.Background(), next)
	if err == nil || !strings.Contains(err.Error(), "has 1 MiB left, and 512 MiB are kept free") {
		t.Errorf("it says %v", err)
	}
	if err := y.Launch(context.Background(), spec); err != nil {
		t.Errorf("one that runs: %v", err)
	}
	full = false
	y.ids = append(y.ids, next.ID)
	if err := y.Launch(context.Background(), next); err != nil {
		t.Errorf("with room again: %v", err)
	}
}

// TestProgramsAreTheMachines: names are looked up where the machine's processes would,
// and nowhere in the service's own PATH.
func TestProgramsAreTheMachines(t *testing.T) {
	own := t.TempDir()
	if err := os.WriteFile(filepath.Join(own, "secret-tool"), []byte("#!/bin/sh\necho the service's\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Setenv("PATH", own+":"+os.Getenv("PATH"))
	y := newYard(t)
	spec := y.spec("timetable-001", "exec sleep 600")
	spec.Environment["PATH"] = "tools:/usr/bin:/bin"
	y.ids = append(y.ids, spec.ID)
	if err := y.Launch(context.Background(), spec); err != nil {
		t.Fatal(err)
	}
	if _, err := y.Driver.Run(context.Background(), spec.ID, []string{"secret-tool"}); !errors.Is(err, exec.ErrNotFound) {
		t.Errorf("a program of the service's own PATH: %v", err)
	}
	tools := filepath.Join(y.dir(spec.ID), "root", "tools")
	if err := errors.Join(os.Mkdir(tools, 0o755), os.WriteFile(filepath.Join(tools, "lamp"), []byte("#!/bin/sh\necho lit\n"), 0o755)); err != nil {
		t.Fatal(err)
	}
	for _, command := range []string{"lamp", "tools/lamp"} {
		ran, err := y.Driver.Run(context.Background(), spec.ID, []string{command})
		if err != nil || string(ran.Output) != "lit\n" {
			t.Errorf("%s gave %q: %v", command, ran.Output, err)
		}
	}
}

// TestOthersReadNothing: a machine reads neither images nor another machine's log.
func TestOthersReadNothing(t *testing.T) {
	y := newYard(t)
	if !y.unprivileged {
		return
	}
	y.launch("timetable-001", "echo private; exec sleep 600")
	y.log("timetable-001", "private")
	y.launch("timetable-002", "exec sleep 600")
	blobs, err := filepath.Glob(filepath.Join(filepath.Dir(y.Dir), "images", "blobs", "sha256", "*"))
	if err != nil || len(blobs) == 0 {
		t.Fatalf("there are no images: %v", err)
	}
	for _, file := range []string{blobs[0], y.bootLog("timetable-001"), filepath.Join(y.dir("timetable-001"), "run", "user-data")} {
		ran, err := y.Driver.Run(context.Background(), "timetable-002", []string{"cat", file})
		if err != nil || ran.Status == 0 {
			t.Errorf("another machine reads %s: %q %v", file, ran.Output, err)
		}
	}
	if ran, err := y.Driver.Run(context.Background(), "timetable-001", []string{"cat", y.bootLog("timetable-001")}); err != nil || ran.Status != 0 {
		t.Errorf("a machine does not read its own log: %s %v", ran.Output, err)
	}
}

// TestAMachineCannotBeAnother: what an image or a template says of the variables that tell a machine
// what it is does not count, so that the end of another ends nothing of it, nor its own leaves it.
func TestAMachineCannotBeAnother(t *testing.T) {
	y := newYard(t)
	y.launch("timetable-001", "exec sleep 600")
	spec := y.spec("timetable-002", `echo "I am $UNITAS_INSTANCE"; exec sleep 600`)
	spec.Environment = map[string]string{"UNITAS_MACHINE": y.dir("timetable-001"), "UNITAS_INSTANCE": "timetable-001"}
	y.ids = append(y.ids, spec.ID)
	if err := y.Launch(context.Background(), spec); err != nil {
		t.Fatal(err)
	}
	y.log(spec.ID, "I am timetable-002")
	if all := marked(y.dir("timetable-001")); len(all) != 1 {
		t.Errorf("%d processes carry the mark of timetable-001", len(all))
	}
	if all := marked(y.dir(spec.ID)); len(all) != 1 {
		t.Errorf("%d processes carry the mark of %s", len(all), spec.ID)
	}
}

// TestWhatAMachineLeavesInPlace of its status and its log, which its user may write to: a file of
// 9 GiB, a link to the host's files, a pipe. Nothing is read whole, followed or waited for.
func TestWhatAMachineLeavesInPlace(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte("7"), 0o600); err != nil {
		t.Fatal(err)
	}
	y := newYard(t)
	for _, make := range []func(name string) error{
		func(name string) error {
			return errors.Join(os.WriteFile(name, []byte("7"), 0o600), os.Truncate(name, 9<<30))
		},
		func(name string) error { return os.Symlink(secret, name) },
		func(name string) error { return os.Symlink("/dev/zero", name) },
		func(name string) error { return syscall.Mkfifo(name, 0o600) },
	} {
		run := filepath.Join(y.dir("timetable-001"), "run")
		if err := errors.Join(os.MkdirAll(run, 0o755), make(filepath.Join(run, "first-boot")), make(y.bootLog("timetable-001"))); err != nil {
			t.Fatal(err)
		}
		if status, failed := y.failedFirstBoot("timetable-001"); failed {
			t.Errorf("its user data is said to have failed with %d", status)
		}
		if log, err := y.BootLog("timetable-001", 1<<10); bytes.Contains(log, []byte("7")) || len(log) > 1<<10 {
			t.Errorf("its boot log is read as %q, %v", log, err)
		}
		_ = cutLog(y.bootLog("timetable-001"), logAfter, logAfter)
		if raw, err := os.ReadFile(secret); string(raw) != "7" {
			t.Fatalf("a file of the host's is %q now (%v)", raw, err)
		}
		if err := os.RemoveAll(y.dir("timetable-001")); err != nil {
			t.Fatal(err)
		}
	}
}
