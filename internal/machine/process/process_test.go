package process

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/machine"
)

func TestMachineIsToldWhatItIs(t *testing.T) {
	t.Setenv("SECRET_OF_THE_SERVICE", "do not tell")
	y := newYard(t)
	y.launch("timetable-001", `env; cat "$UNITAS_USER_DATA"; echo; cat ../run/instance.json; echo; id -u; pwd; echo end; exec sleep 600`)
	log := y.log("timetable-001", "end\n")
	for _, want := range []string{"UNITAS_INSTANCE=timetable-001", "UNITAS_ZONE=mid-pier", "UNITAS_TEMPLATE=timetable-web@2",
		"UNITAS_ADDRESS=" + y.Block.Address(firstNet+1, 8), "UNITAS_PORT=8080", "SEASON=summer", "\nhello\n", `"template": "timetable-web@2"`, "/machines/timetable-001/root"} {
		if !strings.Contains(log, want) {
			t.Errorf("the machine was not told %q: %s", want, log)
		}
	}
	if strings.Contains(log, "do not tell") {
		t.Error("the machine has the service's environment")
	}
	if os.Geteuid() == 0 && !strings.Contains(log, "\n"+strconv.Itoa(y.Block.User(8))+"\n") {
		t.Errorf("the machine does not run as a user of its own: %s", log)
	}
}

func TestLaunchTwiceIsOneMachine(t *testing.T) {
	y := newYard(t)
	spec := y.launch("timetable-001", "echo up; exec sleep 600")
	pid := y.pid("timetable-001")
	y.log("timetable-001", "up")
	if err := y.Launch(context.Background(), spec); err != nil {
		t.Fatal(err)
	}
	if y.pid("timetable-001") != pid || len(marked(y.dir("timetable-001"))) != 1 {
		t.Error("there is a second machine")
	}
	for _, other := range []func(*machine.Spec){func(s *machine.Spec) { s.Template = "timetable-web@3" }, func(s *machine.Spec) { s.Digest = "sha256:another" }} {
		spec := spec
		other(&spec)
		if err := y.Launch(context.Background(), spec); err == nil || !strings.Contains(err.Error(), "it is stopped first") {
			t.Errorf("one that is another is taken for it: %v", err)
		}
	}
	if len(y.facts) > 0 {
		t.Errorf("of the one that runs the driver says %+v", <-y.facts)
	}
}

// TestManyAtOnce launches from many sides, so that one is unpacked while
// another is forked.
func TestManyAtOnce(t *testing.T) {
	y := newYard(t)
	// Large enough that writing it takes a while.
	spec := y.spec("many", "exec sleep 600\n#"+strings.Repeat("x", 4<<20))
	var all sync.WaitGroup
	for n := range 40 {
		one := spec
		one.ID, one.Number = fmt.Sprintf("many-%d", n), int64(n)
		y.ids = append(y.ids, one.ID)
		all.Go(func() {
			if err := y.Launch(context.Background(), one); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
}

func TestStopIsASignalThenForce(t *testing.T) {
	y := newYard(t)
	said := filepath.Join(filepath.Dir(y.Dir), "said") // outside of what goes with the machine
	if err := os.WriteFile(said, nil, 0o666); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(said, 0o666); err != nil {
		t.Fatal(err)
	}
	y.launch("gentle", `trap 'echo asked > `+said+`; exit 0' TERM; echo up; while :; do sleep 0.05; done`)
	y.launch("stubborn", `trap '' TERM; (trap '' TERM; while :; do sleep 0.05; done) & echo up; while :; do sleep 0.05; done`)
	for _, id := range []string{"gentle", "stubborn"} {
		y.log(id, "up")
		pid := y.pid(id)
		begun := time.Now()
		grace := 20 * time.Second
		if id == "stubborn" {
			grace = 100 * time.Millisecond
		}
		if err := y.Stop(context.Background(), id, grace); err != nil {
			t.Fatal(err)
		}
		switch took := time.Since(begun); {
		case id == "gentle" && took > 10*time.Second:
			t.Error("a machine that ends when asked was waited for")
		case id == "stubborn" && took < grace:
			t.Errorf("a machine that does not end when asked had %s of its %s", took, grace)
		}
		if err := syscall.Kill(pid, 0); !errors.Is(err, syscall.ESRCH) {
			t.Errorf("the process of %s is there: %v", id, err)
		}
		if _, err := os.Stat(y.dir(id)); !os.IsNotExist(err) {
			t.Errorf("something of %s is left", id)
		}
		if left := marked(y.dir(id)); len(left) > 0 {
			t.Errorf("processes of %s are left: %v", id, left)
		}
		if f := y.fact(); f.ID != id || f.State != fleet.MachineStopped {
			t.Errorf("the driver says %+v", f)
		}
		if err := y.Stop(context.Background(), id, 0); err != nil {
			t.Errorf("stopping %s again: %v", id, err)
		}
	}
	if text, err := os.ReadFile(said); err != nil || string(text) != "asked\n" {
		t.Errorf("the one that ends when asked said %q (%v)", text, err)
	}
}

func TestEndIsReportedWithItsCause(t *testing.T) {
	y := newYard(t)
	y.launch("killed", "echo up; exec sleep 600")
	if err := syscall.Kill(y.pid("killed"), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	if f := y.fact(); f.ID != "killed" || f.State != fleet.MachineStopped || !strings.Contains(f.Why, "signal 9") {
		t.Errorf("the driver says %+v", f)
	}
	y.launch("failed", "exit 7")
	if f := y.fact(); f.ID != "failed" || !strings.Contains(f.Why, "status 7") {
		t.Errorf("the driver says %+v", f)
	}
}

// TestRestart opens the driver again, as after kill -9 of the service.
func TestRestart(t *testing.T) {
	y := newYard(t)
	spec := y.launch("timetable-001", "echo up; exec sleep 600")
	dir := filepath.Dir(y.Dir)
	pid := y.pid("timetable-001")
	y.reopen(dir)
	facts, err := y.List(context.Background())
	if err != nil || len(facts) != 1 || facts[0].State != fleet.MachineRunning {
		t.Fatalf("after the restart the driver finds %+v: %v", facts, err)
	}
	if err := y.Launch(context.Background(), spec); err != nil || y.pid("timetable-001") != pid {
		t.Errorf("the machine was launched again: %v", err)
	}
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	if f := y.fact(); f.ID != "timetable-001" || f.State != fleet.MachineStopped {
		t.Errorf("of a machine that it did not start itself the driver says %+v", f)
	}
}

// TestKilledBetweenStartAndRecord takes the process out of the record, as if
// the service had been killed before it wrote it.
func TestKilledBetweenStartAndRecord(t *testing.T) {
	y := newYard(t)
	spec := y.launch("timetable-001", "echo up; exec sleep 600")
	pid := y.pid("timetable-001")
	if err := y.write(record{Spec: spec}); err != nil {
		t.Fatal(err)
	}
	y.reopen(filepath.Dir(y.Dir))
	if err := y.Launch(context.Background(), spec); err != nil {
		t.Fatal(err)
	}
	if got := y.pid("timetable-001"); got != pid {
		t.Errorf("a second machine was started: %d and %d", pid, got)
	}
}

// TestReusedPid writes a record that names a process of another start time:
// this very test.
func TestReusedPid(t *testing.T) {
	y := newYard(t)
	dir := y.dir("timetable-001")
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	self, err := identify(os.Getpid())
	if err != nil {
		t.Fatal(err)
	}
	self.Started--
	raw, _ := json.Marshal(record{Spec: machine.Spec{ID: "timetable-001"}, Process: &self})
	if err := os.WriteFile(y.file("timetable-001"), raw, 0o600); err != nil {
		t.Fatal(err)
	}
	facts, err := y.List(context.Background())
	if err != nil || len(facts) != 1 || facts[0].State != fleet.MachineStopped {
		t.Fatalf("the driver takes another process for its machine: %+v %v", facts, err)
	}
	if err := y.Stop(context.Background(), "timetable-001", 0); err != nil {
		t.Fatal(err) // and this test is still alive to say so
	}
}

func TestRefusedLaunchLeavesNothing(t *testing.T) {
	y := newYard(t)
	err := y.Launch(context.Background(), machine.Spec{ID: "timetable-001", Digest: "sha256:nope", Start: []string{"./x"}})
	if err == nil {
		t.Fatal("an image that is not there was launched")
	}
	if facts, _ := y.List(context.Background()); len(facts) > 0 {
		t.Errorf("there is %+v", facts)
	}
	if err := y.Launch(context.Background(), machine.Spec{ID: "../x"}); err == nil {
		t.Error("an id that leads out of the directory was taken")
	}
}

func TestAddressesByZone(t *testing.T) {
	y := newYard(t)
	y.Block = 3
	for _, c := range []struct {
		zone   string
		number int64
		want   string
	}{{"east-pier", 0, "127.64.24.1"}, {"mid-pier", 253, "127.65.24.254"}, {"mid-pier", 254, "127.65.25.1"}, {"east-pier", y.Numbers(), "127.64.24.1"}} {
		if got, err := y.Address(c.zone, c.number); err != nil || got != c.want {
			t.Errorf("%s %d is %s, want %s (%v)", c.zone, c.number, got, c.want, err)
		}
	}
	if _, err := y.Address("moon", 1); err == nil {
		t.Error("there is an address on the moon")
	}
}

// TestUserDataRunsOnce: before the workload, as the instance's user, under a
// heading of its own; a machine that is halted and woken does not run it again.
func TestUserDataRunsOnce(t *testing.T) {
	y := newYard(t)
	spec := y.spec("timetable-001", "trap 'exit 0' TERM\ncat etc/sailings made\necho the workload runs\nwhile :; do sleep 0.05; done\n")
	spec.UserData = "#cloud-config\nwrite_files:\n- {path: /etc/sailings, content: '06:40 Saltmere', permissions: '0640'}\nruncmd:\n- [sh, -c, 'id -u > made; echo made by user data']\n"
	y.ids = append(y.ids, spec.ID)
	if err := y.Launch(context.Background(), spec); err != nil {
		t.Fatal(err)
	}
	log := y.log(spec.ID, "the workload runs")
	for _, want := range []string{"── user data: files\n/etc/sailings, 14 bytes, mode 0640\n── user data\nmade by user data\n── user data ended with status 0 after ", "── workload: ./run\n06:40 Saltmere"} {
		if !strings.Contains(log, want) {
			t.Errorf("the boot log does not say %q:\n%s", want, log)
		}
	}
	if os.Geteuid() == 0 && !strings.Contains(log, fmt.Sprint(y.newUser(spec))+"\n") {
		t.Errorf("the user data ran as somebody else:\n%s", log)
	}
	if err := y.Halt(context.Background(), spec.ID, 5*time.Second); err != nil {
		t.Fatal(err)
	}
	if facts, _ := y.List(context.Background()); len(facts) != 1 || facts[0].State != fleet.MachineUnknown {
		t.Errorf("a halted machine is listed as %+v", facts)
	}
	if err := y.Files(spec.ID, func(dir string) error { _, err := os.Stat(filepath.Join(dir, "made")); return err }); err != nil {
		t.Error(err)
	}
	if err := y.Wake(context.Background(), spec.ID); err != nil {
		t.Fatal(err)
	}
	y.eventuallyLog(spec.ID, "the workload runs", 2)
	log = y.log(spec.ID, "the workload runs")
	if n := strings.Count(log, "made by user data"); n != 1 {
		t.Errorf("the user data ran %d times:\n%s", n, log)
	}
	if peak, known := y.Memory(spec.ID); !known || peak < 100<<10 {
		t.Errorf("its memory is %d, %v", peak, known)
	}
	select {
	case f := <-y.facts:
		t.Errorf("the driver says %+v", f)
	default:
	}
}

// TestUserDataThatFails is told apart from a workload that fails, and its boot
// log outlives the machine.
func TestUserDataThatFails(t *testing.T) {
	y := newYard(t)
	spec := y.spec("timetable-001", "echo the workload runs\n")
	spec.UserData = "#!/bin/sh\necho no sailings\nexit 7\n"
	y.ids = append(y.ids, spec.ID)
	if err := y.Launch(context.Background(), spec); err != nil {
		t.Fatal(err)
	}
	if f := y.fact(); f.State != fleet.MachineStopped || f.Why != "its user data failed with status 7, so its workload was not started" {
		t.Errorf("the driver says %+v", f)
	}
	if err := y.Stop(context.Background(), spec.ID, 0); err != nil {
		t.Fatal(err)
	}
	log := y.log(spec.ID, "status 7")
	if !strings.Contains(log, "── user data\nno sailings\n── user data ended with status 7 after ") || strings.Contains(log, "the workload runs") {
		t.Errorf("the boot log says\n%s", log)
	}
	spec.ID, spec.UserData = "timetable-002", "#include\n"
	y.ids = append(y.ids, spec.ID)
	if err := y.Launch(context.Background(), spec); err == nil || !strings.Contains(err.Error(), "line 1") {
		t.Errorf("user data that nobody understands was taken: %v", err)
	}
}

// TestDiskAndAddresses: files that do not fit refuse the launch, and further
// addresses are told.
func TestDiskAndAddresses(t *testing.T) {
	y := newYard(t)
	spec := y.spec("timetable-001", "echo $UNITAS_ADDRESSES; exec sleep 100\n")
	spec.DiskBytes, spec.Addresses = 10, 3
	y.ids = append(y.ids, spec.ID)
	if err := y.Launch(context.Background(), spec); err == nil || !strings.Contains(err.Error(), "more than 10 B") {
		t.Errorf("it was launched on too small a disk: %v", err)
	}
	spec.DiskBytes = 1 << 20
	if err := y.Launch(context.Background(), spec); err != nil {
		t.Fatal(err)
	}
	y.log(spec.ID, spec.Address+","+y.Block.Address(furtherNet, 8)+","+y.Block.Address(furtherNet+1, 8))
}
