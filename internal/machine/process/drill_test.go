package process

import (
	"context"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/machine"
)

func TestRun(t *testing.T) {
	y := newYard(t)
	y.launch("timetable-001", "echo up; exec sleep 600")
	y.log("timetable-001", "up\n")
	run := func(command ...string) machine.Ran {
		t.Helper()
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		ran, err := y.Run(ctx, "timetable-001", command)
		if err != nil {
			t.Fatal(err)
		}
		return ran
	}
	if ran := run("sh", "-c", "echo $UNITAS_INSTANCE $SEASON; ls; echo bad >&2; exit 3"); ran.Status != 3 || string(ran.Output) != "timetable-001 summer\nrun\nunitas.yaml\nbad\n" {
		t.Errorf("it ended with %d and wrote %q", ran.Status, ran.Output)
	}
	if os.Geteuid() == 0 {
		if ran := run("id", "-u"); strings.TrimSpace(string(ran.Output)) != strconv.Itoa(y.Block.User(8)) {
			t.Errorf("it ran as %s", ran.Output)
		}
	}
	if ran := run("sh", "-c", "head -c 300000 /dev/zero"); !ran.Truncated || len(ran.Output) != machine.MaxOutput {
		t.Errorf("%d bytes are kept, truncated %v", len(ran.Output), ran.Truncated)
	}
	if ran := run("sh", "-c", "kill -9 $$"); ran.Status != -1 || !strings.Contains(ran.Why, "killed by signal 9") {
		t.Errorf("%+v", ran)
	}
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(100*time.Millisecond, cancel)
	if ran, err := y.Run(ctx, "timetable-001", []string{"sh", "-c", "sleep 600 & sleep 600"}); err != nil || ran.Status != -1 || !strings.Contains(ran.Why, "canceled") {
		t.Errorf("%+v %v", ran, err)
	}
	if n := len(marked(y.dir("timetable-001"))); n != 1 {
		t.Errorf("commands left %d processes on the machine beside its own", n-1)
	}
	if _, err := y.Run(context.Background(), "timetable-001", []string{"no-such-program"}); err == nil {
		t.Error("a program that is not there was run")
	}
	if _, err := y.Run(context.Background(), "timetable-002", []string{"true"}); err == nil || !strings.Contains(err.Error(), "does not run here") {
		t.Errorf("a machine that is not there: %v", err)
	}
}

// TestStall: a stalled machine does nothing, goes on when it is let, and is let go
// on by a service that was started again.
func TestStall(t *testing.T) {
	y := newYard(t)
	y.launch("timetable-001", "echo up; exec sleep 600")
	y.log("timetable-001", "up\n")
	state := func() byte {
		t.Helper()
		s, _, err := stat(y.pid("timetable-001"))
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	becomes := func(want byte) {
		t.Helper()
		limit := time.Now().Add(20 * time.Second)
		for state() != want {
			if time.Now().After(limit) {
				t.Fatalf("the process is in state %c, want %c", state(), want)
			}
			<-time.After(time.Millisecond)
		}
	}
	for range 2 {
		if err := y.Stall("timetable-001", true); err != nil {
			t.Fatal(err)
		}
		becomes('T')
		if err := y.Stall("timetable-001", false); err != nil {
			t.Fatal(err)
		}
		becomes('S')
	}
	if err := y.Stall("timetable-001", true); err != nil {
		t.Fatal(err)
	}
	becomes('T')
	y.reopen(strings.TrimSuffix(y.Dir, "/machines"))
	if _, err := y.List(context.Background()); err != nil {
		t.Fatal(err)
	}
	becomes('S')
}

func TestKillSaysWhy(t *testing.T) {
	y := newYard(t)
	y.launch("timetable-001", "exec sleep 600")
	if err := y.Kill("timetable-001", "it crashed by drill 3"); err != nil {
		t.Fatal(err)
	}
	if f := y.fact(); f.State != fleet.MachineStopped || f.Why != "it crashed by drill 3" {
		t.Errorf("the watcher was told %+v", f)
	}
}

// TestBurn: a processor is kept busy, and is free again when the drill ends.
func TestBurn(t *testing.T) {
	y := newYard(t)
	y.launch("timetable-001", "echo up; exec sleep 600")
	y.log("timetable-001", "up\n")
	ctx, cancel := context.WithCancel(context.Background())
	over := make(chan error)
	go func() { over <- y.Burn(ctx, "timetable-001", time.Minute) }()
	limit := time.Now().Add(20 * time.Second)
	for len(marked(y.dir("timetable-001"))) < 3 { // its own, the one that ends it in time, and the busy one
		if time.Now().After(limit) {
			t.Fatal("nothing is kept busy")
		}
		<-time.After(time.Millisecond)
	}
	cancel()
	if err := <-over; err != nil {
		t.Error(err)
	}
	killedOff := func() bool { return len(marked(y.dir("timetable-001"))) == 1 }
	for !killedOff() {
		if time.Now().After(limit) {
			t.Fatal("the busy process is still there")
		}
		<-time.After(time.Millisecond)
	}
	if err := y.Burn(context.Background(), "timetable-001", 50*time.Millisecond); err != nil {
		t.Errorf("one that ends by itself: %v", err)
	}
}

func TestNote(t *testing.T) {
	y := newYard(t)
	y.launch("timetable-001", `while ! [ -e "$UNITAS_DRILL" ]; do sleep 0.01; done; cat "$UNITAS_DRILL"; exec sleep 600`)
	if err := y.Note("timetable-001", []byte("slow\n")); err != nil {
		t.Fatal(err)
	}
	y.log("timetable-001", "slow\n")
	for range 2 { // taking away what is not there is no error
		if err := y.Note("timetable-001", nil); err != nil {
			t.Error(err)
		}
	}
}

func TestLoseZone(t *testing.T) {
	y := newYard(t)
	y.launch("timetable-001", "exec sleep 600")
	if err := y.LoseZone("east-pier", true); err != nil {
		t.Fatal(err)
	}
	select {
	case f := <-y.facts:
		t.Errorf("a machine of another zone: %+v", f)
	default:
	}
	if err := y.LoseZone("mid-pier", true); err != nil {
		t.Fatal(err)
	}
	if f := y.fact(); f.Why != "its zone mid-pier is lost" {
		t.Errorf("the watcher was told %+v", f)
	}
	spec := y.spec("timetable-002", "exec sleep 600")
	if err := y.Launch(context.Background(), spec); err == nil || !strings.Contains(err.Error(), "the zone mid-pier is lost") {
		t.Errorf("a machine was launched in a lost zone: %v", err)
	}
	if err := y.LoseZone("mid-pier", false); err != nil {
		t.Fatal(err)
	}
	y.launch("timetable-002", "exec sleep 600")
}

// TestAZoneIsLostDuringALaunch: what is launched while its zone is being lost does not run on
// there.
func TestAZoneIsLostDuringALaunch(t *testing.T) {
	y := newYard(t)
	spec := y.spec("timetable-001", "exec sleep 600")
	y.ids = append(y.ids, spec.ID)
	y.Room = func() error { return y.LoseZone(spec.Zone, true) } // which is asked for in the middle of it
	_ = y.Launch(context.Background(), spec)
	if f := y.fact(); f.State == fleet.MachineRunning {
		f = y.fact()
		if f.State != fleet.MachineStopped || f.Why != "its zone "+spec.Zone+" is lost" {
			t.Errorf("the watcher was told %+v", f)
		}
	}
	if found := marked(y.dir(spec.ID)); len(found) != 0 {
		t.Errorf("%d processes run in a zone that is lost", len(found))
	}
}
