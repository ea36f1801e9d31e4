package process

import (
	"context"
	"testing"
	"time"

	"unitas/internal/machine"
)

// TestWhatIsUsed: a machine that works uses the processor's time, also through what it started,
// and one that rests hardly any; both take memory. One that is stopped is not told of.
func TestWhatIsUsed(t *testing.T) {
	y := newYard(t)
	ctx := context.Background()
	for id, script := range map[string]string{"timetable-001": "sh -c 'while :; do :; done' &\nwait", "timetable-002": "exec sleep 600"} {
		y.ids = append(y.ids, id)
		if err := y.Launch(ctx, y.spec(id, script)); err != nil {
			t.Fatal(err)
		}
	}
	var busy, idle machine.Usage
	for begun := time.Now(); busy.CPUSeconds < 0.3; {
		used, err := y.Usage(ctx)
		if err != nil {
			t.Fatal(err)
		}
		busy, idle = used["timetable-001"], used["timetable-002"]
		if time.Since(begun) > 30*time.Second {
			t.Fatalf("a busy machine used %+v", busy)
		}
	}
	if idle.CPUSeconds > 0.2 || idle.MemoryBytes < 100<<10 || busy.MemoryBytes <= idle.MemoryBytes {
		t.Errorf("the busy one uses %+v, the idle one %+v", busy, idle)
	}
	if err := y.Stop(ctx, "timetable-001", 0); err != nil {
		t.Fatal(err)
	}
	if used, _ := y.Usage(ctx); len(used) != 1 {
		t.Errorf("once one is stopped they use %+v", used)
	}
}

func TestStatIsRead(t *testing.T) {
	b, ok := readStat([]byte("42 (a b) c) S 7 42 42 0 -1 4194560 100 0 0 0 11 12 13 14 20 0 1 0 100 1000 25 18446744073709551615 0 0\n"))
	if !ok || b.parent != 7 || b.ticks != 50 || b.pages != 25 {
		t.Errorf("it is read as %+v, %v", b, ok)
	}
	for _, odd := range []string{"", "42 (x", "42 (x) S 1 2"} {
		if _, ok := readStat([]byte(odd)); ok {
			t.Errorf("%q is read", odd)
		}
	}
}
