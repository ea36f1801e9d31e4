package process

import (
	"bytes"
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"unitas/internal/datadir"
	"unitas/internal/image"
	"unitas/internal/machine"
)

// yard is a driver in a directory that unprivileged machines may enter.
type yard struct {
	*Driver
	t     *testing.T
	facts chan machine.Fact
	ids   []string
}

func newYard(t *testing.T) *yard {
	t.Helper()
	dir, err := os.MkdirTemp("", "unitas-machines-")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	y := &yard{t: t}
	y.reopen(dir)
	t.Cleanup(func() {
		for _, id := range y.ids {
			if err := y.Stop(context.Background(), id, 0); err != nil {
				t.Error(err)
			}
		}
		EndAll(filepath.Join(dir, "machines"))
		os.RemoveAll(dir)
	})
	return y
}

// The acts of a yard are asked under no lease.

func (y *yard) Launch(ctx context.Context, spec machine.Spec) error {
	return y.Driver.Launch(ctx, machine.Order{ID: spec.ID}, spec)
}

func (y *yard) Stop(ctx context.Context, id string, grace time.Duration) error {
	return y.Driver.Stop(ctx, machine.Order{ID: id}, grace)
}

func (y *yard) Halt(ctx context.Context, id string, grace time.Duration) error {
	return y.Driver.Halt(ctx, machine.Order{ID: id}, grace)
}

func (y *yard) Wake(ctx context.Context, id string) error {
	return y.Driver.Wake(ctx, machine.Order{ID: id})
}

// reopen is a service that was started again.
func (y *yard) reopen(dir string) {
	y.t.Helper()
	images, err := image.Open(filepath.Join(dir, "images"))
	if err != nil {
		y.t.Fatal(err)
	}
	block, err := datadir.OwnBlock(dir)
	if err != nil {
		y.t.Fatal(err)
	}
	y.Driver, err = New(Config{Dir: filepath.Join(dir, "machines"), Block: block, Zones: []string{"east-pier", "mid-pier"}, Images: func(string) (*image.Store, error) { return images, nil }, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		y.t.Fatal(err)
	}
	facts := make(chan machine.Fact, 100)
	y.facts = facts
	y.Watch(func(f machine.Fact) { facts <- f })
}

// launch starts a machine that runs the shell script.
func (y *yard) launch(id, script string) machine.Spec {
	y.t.Helper()
	spec := y.spec(id, script)
	if err := y.Launch(context.Background(), spec); err != nil {
		y.t.Fatal(err)
	}
	y.ids = append(y.ids, id)
	return spec
}

// spec imports an image that runs the shell script.
func (y *yard) spec(id, script string) machine.Spec {
	y.t.Helper()
	var b bytes.Buffer
	if err := image.Pack(&b, image.File{Name: image.ManifestName, Content: []byte("start: [./run]\n")}, image.File{Name: "run", Content: []byte("#!/bin/sh\n" + script)}); err != nil {
		y.t.Fatal(err)
	}
	images, _ := y.Images("mid-pier")
	in := images.Begin()
	defer in.Close()
	a, err := in.Import(context.Background(), &b)
	if err != nil {
		y.t.Fatal(err)
	}
	in.Keep(a)
	return machine.Spec{ID: id, Group: "timetable", Zone: "mid-pier", Template: "timetable-web@2", Digest: a.Digest, Start: a.Start,
		Address: y.Block.Address(firstNet+1, 8), Number: 8 + int64(len(y.ids)), Port: 8080, UserData: "#!/bin/sh\necho hello\n", Environment: map[string]string{"SEASON": "summer"}}
}

// log waits until the boot log has the text.
func (y *yard) log(id, text string) string {
	y.t.Helper()
	limit := time.After(20 * time.Second)
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for {
		raw, err := y.BootLog(id, 1<<20)
		if err == nil && strings.Contains(string(raw), text) {
			return string(raw)
		}
		select {
		case <-limit:
			y.t.Fatalf("the boot log of %s never says %q; it says %q (%v)", id, text, raw, err)
		case <-tick.C:
		}
	}
}

func (y *yard) fact() machine.Fact {
	y.t.Helper()
	select {
	case f := <-y.facts:
		return f
	case <-time.After(20 * time.Second):
		y.t.Fatal("the driver says nothing")
		return machine.Fact{}
	}
}

func (y *yard) pid(id string) int {
	y.t.Helper()
	rec, err := y.read(id)
	if err != nil || rec.Process == nil {
		y.t.Fatalf("%s has no process: %v", id, err)
	}
	return rec.Process.PID
}

func (y *yard) eventuallyLog(id, text string, times int) {
	y.t.Helper()
	limit := time.After(20 * time.Second)
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for {
		if raw, _ := y.BootLog(id, 1<<20); strings.Count(string(raw), text) >= times {
			return
		}
		select {
		case <-limit:
			y.t.Fatalf("the boot log of %s does not say %q %d times", id, text, times)
		case <-tick.C:
		}
	}
}
