package process

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestProcessesAreBounded: a machine that forks without end has as many processes as it may, is told to
// be refused others, and ends as a whole; one beside it starts what it wants.
func TestProcessesAreBounded(t *testing.T) {
	y := newYard(t)
	if y.groups == nil || y.groups.bounds == "" {
		t.Log("no control groups bound processes here")
		return
	}
	spec := y.spec("forks", "sh -c 'while :; do setsid sleep 600 & done' 2>/dev/null & exec sleep 600")
	spec.Processes, spec.UserData = 20, ""
	y.ids = append(y.ids, "forks")
	if err := y.Launch(context.Background(), spec); err != nil {
		t.Fatal(err)
	}
	limit := time.After(20 * time.Second)
	for y.groups.refused("forks") == 0 {
		select {
		case <-limit:
			t.Fatal("it was refused nothing")
		case <-time.After(5 * time.Millisecond):
		}
	}
	raw, err := os.ReadFile(filepath.Join(y.groups.bounds, "forks", "pids.current"))
	if n, _ := strconv.Atoi(strings.TrimSpace(string(raw))); err != nil || n > spec.Processes || n < 2 {
		t.Errorf("it has %d processes (%v), and may have %d", n, err, spec.Processes)
	}
	if used, err := y.Usage(context.Background()); err != nil || used["forks"].Refused == 0 {
		t.Errorf("what it uses is %+v: %v", used, err)
	}
	if ran, err := y.Run(context.Background(), "forks", []string{"/bin/true"}); err == nil && ran.Status == 0 {
		t.Error("a command on it is beyond its bound")
	}
	beside := y.spec("beside", "(true); (true); (true); echo did; exec sleep 600")
	beside.Processes = 20
	y.ids = append(y.ids, "beside")
	if err := y.Launch(context.Background(), beside); err != nil {
		t.Fatal(err)
	}
	y.log("beside", "did")
	if y.groups.refused("beside") != 0 {
		t.Error("one beside it was refused a process")
	}
	pids := marked(y.dir("forks"))
	if err := y.Stop(context.Background(), "forks", 0); err != nil {
		t.Fatal(err)
	}
	for _, p := range pids {
		if p.alive() {
			t.Errorf("the process %d is left", p.PID)
		}
	}
	if _, err := os.Stat(filepath.Join(y.groups.bounds, "forks")); !os.IsNotExist(err) {
		t.Errorf("its group is left: %v", err)
	}
}

// TestGroupsOfEitherKindEndAMachine: a host may have only one kind of them.
func TestGroupsOfEitherKindEndAMachine(t *testing.T) {
	y := newYard(t)
	whole := y.groups
	if whole == nil || whole.own == "" {
		t.Log("no control groups of the first kind here")
		return
	}
	y.unprivileged = false // so that not its user ends it
	y.groups = &groups{bounds: whole.bounds, own: whole.own}
	defer func() { y.groups = whole }()
	spec := y.spec("old", escape+"exec sleep 600")
	spec.Processes, spec.UserData = 512, ""
	if err := y.Launch(context.Background(), spec); err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(y.log("old", "escaped "), "escaped ")
	pid, _ := strconv.Atoi(strings.Fields(rest)[0])
	if !alive(pid) {
		t.Fatalf("nothing escaped: %q", rest)
	}
	if err := y.Stop(context.Background(), "old", time.Second); err != nil {
		t.Fatal(err)
	}
	gone(t, pid)
}

// TestTheEndOfAMachineLooksAtItsGroupAlone, and not at all processes of the host: one outside that
// carries its mark goes on.
func TestTheEndOfAMachineLooksAtItsGroupAlone(t *testing.T) {
	y := newYard(t)
	if y.groups == nil || y.groups.dir == "" {
		t.Log("no control groups end a machine here")
		return
	}
	y.launch("one", "exec sleep 600")
	other := exec.Command("/bin/sleep", "600")
	other.Env = []string{mark + y.dir("one")}
	if err := other.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = other.Process.Kill()
		_ = other.Wait()
	}()
	if err := y.Stop(context.Background(), "one", time.Second); err != nil {
		t.Fatal(err)
	}
	if !alive(other.Process.Pid) {
		t.Error("what is outside its group was looked for and ended")
	}
}

// TestMachinesTakeNoThreads: however many there are, the service waits for their ends in one place.
func TestMachinesTakeNoThreads(t *testing.T) {
	y := newYard(t)
	threads := func() int {
		entries, err := os.ReadDir("/proc/self/task")
		if err != nil {
			t.Fatal(err)
		}
		return len(entries)
	}
	before := threads()
	const many = 40
	for k := range many {
		y.launch(fmt.Sprintf("many-%d", k), "exec sleep 600")
	}
	if now := threads(); now > before+many/2 {
		t.Errorf("%d threads became %d with %d machines", before, now, many)
	}
	_ = syscall.Kill(y.pid("many-7"), syscall.SIGKILL)
	if f := y.fact(); f.ID != "many-7" || !strings.Contains(f.Why, "signal 9") {
		t.Errorf("the driver says %+v", f)
	}
}

// TestAFullDiskIsLookedAtAtOnce: while there is no room, machines that take more than they may are ended
// without waiting for the usual look.
func TestAFullDiskIsLookedAtAtOnce(t *testing.T) {
	y := newYard(t)
	spec := y.spec("greedy", "dd if=/dev/zero of=much bs=1M count=8 2>/dev/null; echo full; exec sleep 600")
	spec.DiskBytes, spec.UserData = 4<<20, ""
	y.ids = append(y.ids, "greedy")
	if err := y.Launch(context.Background(), spec); err != nil {
		t.Fatal(err)
	}
	y.log("greedy", "full")
	y.Room = func() error { return syscall.ENOSPC }
	ctx, stop := context.WithCancel(context.Background())
	over := make(chan struct{})
	go func() {
		defer close(over)
		y.KeepBounds(ctx)
	}()
	defer func() { stop(); <-over }()
	select {
	case f := <-y.facts:
		if f.ID != "greedy" || !strings.Contains(f.Why, "more than the 4 MiB of disk") {
			t.Errorf("the driver says %+v", f)
		}
	case <-time.After(diskEvery - 2*time.Second):
		t.Error("it was not looked at")
	}
}
