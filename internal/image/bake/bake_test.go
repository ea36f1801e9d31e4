package bake

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"unitas/internal/image"
)

var ctx = context.Background()

func TestMain(m *testing.M) {
	if os.Getenv("TMPDIR") != "" && len(os.Args) == 2 && os.Args[1] == "confined" {
		Confined()
	}
	os.Exit(m.Run())
}

// kitchen is a store with a parent image, in a directory that everybody may enter.
type kitchen struct {
	t      *testing.T
	dir    string
	store  *image.Store
	parent string
}

func newKitchen(t *testing.T) *kitchen {
	t.Helper()
	dir, err := os.MkdirTemp("", "unitas-bake-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	k := &kitchen{t: t, dir: dir}
	if k.store, err = image.Open(filepath.Join(dir, "store")); err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := image.Pack(&b, image.File{Name: image.ManifestName, Content: []byte("start: [./start]\n")},
		image.File{Name: "start", Content: []byte("#!/bin/sh\nexec sleep 1000\n")}, image.File{Name: "old", Content: []byte("old")}); err != nil {
		t.Fatal(err)
	}
	in := k.store.Begin()
	defer in.Close()
	a, err := in.Import(ctx, &b)
	if err != nil {
		t.Fatal(err)
	}
	in.Keep(a)
	k.parent = a.Digest
	if err := os.MkdirAll(filepath.Join(dir, "beside", "pages"), 0o755); err != nil {
		t.Fatal(err)
	}
	for name, content := range map[string]string{"timetable": "#!/bin/sh\n", "pages/index": "06:40 Saltmere", "pages/more": "08:15"} {
		if err := os.WriteFile(filepath.Join(dir, "beside", name), []byte(content), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return k
}

// bake runs a recipe in a directory and returns what it made and its log.
func (k *kitchen) bake(ctx context.Context, dir, recipe string) (image.Artifact, string, error) {
	k.t.Helper()
	r, err := Parse([]byte(recipe))
	if err != nil {
		k.t.Fatal(err)
	}
	user := -1
	if os.Geteuid() == 0 {
		user = 60_123
	}
	self, err := os.Executable()
	if err != nil {
		k.t.Fatal(err)
	}
	var log bytes.Buffer
	in := k.store.Begin()
	defer in.Close()
	a, err := Job{Store: k.store, Parent: k.parent, Recipe: r, Beside: filepath.Join(k.dir, "beside"), Dir: filepath.Join(k.dir, dir),
		User: user, Helper: []string{self, "confined"}, Log: &log, Step: func(string) {}}.Run(ctx, in)
	if err == nil {
		in.Keep(a)
	}
	if _, statErr := os.Stat(filepath.Join(k.dir, dir)); !errors.Is(statErr, os.ErrNotExist) {
		k.t.Errorf("the scratch tree is left behind: %v", statErr)
	}
	return a, log.String(), err
}

const sample = `
parent: plain@1
files:
  - {from: timetable, to: timetable, mode: "0755"}
  - {from: pages, to: srv/pages}
  - {text: "Saltmere Line\n", to: etc/company}
commands:
  - echo sailings > etc/list; rm old; date > "$TMPDIR/now"
  - [sh, -c, "cp etc/list etc/copy; echo said"]
start: [./timetable]
labels: {service: timetable}
`

// TestTheSameInputsMakeTheSameDigest bakes twice, in two directories.
func TestTheSameInputsMakeTheSameDigest(t *testing.T) {
	k := newKitchen(t)
	a, log, err := k.bake(ctx, "one", sample)
	if err != nil {
		t.Fatalf("%v\n%s", err, log)
	}
	later := time.Now().Add(time.Hour)
	if err := os.Chtimes(filepath.Join(k.dir, "beside", "timetable"), later, later); err != nil {
		t.Fatal(err)
	}
	b, _, err := k.bake(ctx, "two/../other", sample)
	if err != nil || a.Digest != b.Digest {
		t.Errorf("two bakes are %s and %s: %v", a.Digest, b.Digest, err)
	}
	for _, want := range []string{"── laying out plain@1", "── file 2 of 3: srv/pages", "── command 2 of 2: sh -c cp", "said", "── ready: " + a.Digest} {
		if !strings.Contains(log, want) {
			t.Errorf("the log does not say %q:\n%s", want, log)
		}
	}
	root := t.TempDir()
	if err := k.store.Unpack(a.Digest, root, -1, 0); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"etc/copy": "sailings\n", "etc/company": "Saltmere Line\n", "srv/pages/index": "06:40 Saltmere", "start": "#!/bin/sh\nexec sleep 1000\n"} {
		if got, _ := os.ReadFile(filepath.Join(root, name)); string(got) != want {
			t.Errorf("%s holds %q", name, got)
		}
	}
	if _, err := os.Stat(filepath.Join(root, "old")); !errors.Is(err, os.ErrNotExist) {
		t.Error("what a command removed is there")
	}
}

// TestCommandsAreConfined tries to write elsewhere, to read what is not the
// machine's own programs, to reach the network, and to stay.
func TestCommandsAreConfined(t *testing.T) {
	k := newKitchen(t)
	secret := filepath.Join(k.dir, "secret")
	outside := filepath.Join(k.dir, "outside")
	if err := errors.Join(os.WriteFile(secret, []byte("secret"), 0o644), os.Mkdir(outside, 0o777), os.Chmod(outside, 0o777)); err != nil {
		t.Fatal(err)
	}
	heard, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer heard.Close()
	called, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer called.Close()
	port := func(a net.Addr) string { return a.String()[strings.LastIndex(a.String(), ":")+1:] }
	shared := filepath.Join(os.TempDir(), filepath.Base(k.dir)+"-was-here")
	defer os.Remove(shared)
	_, log, err := k.bake(ctx, "cell", `
parent: plain@1
commands:
  - if touch `+outside+`/x 2>/dev/null; then echo WROTE; fi
  - if touch `+shared+` 2>/dev/null; then echo WROTE; fi
  - [bash, -c, "if (echo x > /dev/udp/127.0.0.1/`+port(heard.LocalAddr())+`) 2>/dev/null; then echo SENT; fi"]
  - [bash, -c, "if (echo x > /dev/tcp/127.0.0.1/`+port(called.Addr())+`) 2>/dev/null; then echo SENT; fi"]
  - if cat `+secret+` 2>/dev/null; then echo READ; fi
  - ln -s `+outside+` way; if touch way/x 2>/dev/null; then echo WROTE; fi; rm way
  - setsid sh -c 'sleep 0.3; touch stayed; sleep 1000' > /dev/null 2>&1 &
  - test "$(id -u)" != 0
  - test "$(id -u)" = `+fmt.Sprint(os.Getuid())+` || test "$(ulimit -p 2>/dev/null || ulimit -u)" = 512
`)
	if err != nil {
		t.Fatalf("%v\n%s", err, log)
	}
	if strings.Contains(log, "WROTE\n") || strings.Contains(log, "READ\n") || strings.Contains(log, "SENT\n") || strings.Contains(log, "\nsecret") {
		t.Errorf("a command got out:\n%s", log)
	}
	if err := heard.SetReadDeadline(time.Now().Add(10 * time.Millisecond)); err != nil {
		t.Fatal(err)
	}
	if n, _, err := heard.ReadFrom(make([]byte, 10)); err == nil {
		t.Errorf("%d bytes came out of it", n)
	}
	if left, _ := os.ReadDir(outside); len(left) > 0 {
		t.Error("a command wrote outside")
	}
}

// TestStragglersAreKilled: where there are no namespaces, what a command leaves
// behind is found by its mark.
func TestStragglersAreKilled(t *testing.T) {
	dir := t.TempDir()
	cmd := exec.Command("sleep", "1000")
	cmd.Env = []string{"TMPDIR=" + filepath.Join(dir, "timetable@1", "tmp")}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	KillStragglers(filepath.Join(dir, "timetable@11"))
	KillStragglers(dir)
	var exit *exec.ExitError
	if err := cmd.Wait(); !errors.As(err, &exit) || exit.Sys().(syscall.WaitStatus).Signal() != syscall.SIGKILL {
		t.Errorf("it ended with %v", err)
	}
}

func TestFailedBakesNameTheStep(t *testing.T) {
	k := newKitchen(t)
	for _, c := range []struct{ recipe, step, why string }{
		{"parent: plain@1\ncommands: [\"true\", \"exit 3\"]", "command 2 of 2: exit 3", "it ended with status 3"},
		{"parent: plain@1\ncommands: [[./nothing]]", "command 1 of 1: ./nothing", "could not be confined"},
		{"parent: plain@1\nfiles: [{from: none, to: x}]", "file 1 of 1: x", "no such file"},
		{"parent: plain@1\ntime_limit: 300ms\ncommands: [sleep 100]", "command 1 of 1: sleep 100", "the time limit of 300 ms is over"},
		{"parent: plain@1\nstart: [./nothing]", "packing", "not in the archive"},
		{"parent: plain@1\ncommands: [ln -s /etc way]", "packing", "links to \"/etc\" outside"},
	} {
		_, log, err := k.bake(ctx, "failing", c.recipe)
		var f *Failed
		if !errors.As(err, &f) || f.Step != c.step || !strings.Contains(f.Why, c.why) {
			t.Errorf("%s: %v", c.recipe, err)
		}
		if !strings.Contains(log, "── failed at "+c.step) {
			t.Errorf("%s: the log says\n%s", c.recipe, log)
		}
	}
	stopped, cancel := context.WithCancelCause(ctx)
	cancel(errors.New("the service stops"))
	if _, _, err := k.bake(stopped, "stopped", sample); err == nil || !strings.Contains(err.Error(), "the service stops") {
		t.Errorf("a bake that was broken off: %v", err)
	}
}

func TestRecipesThatAreRefused(t *testing.T) {
	for recipe, says := range map[string]string{
		"":                                  "recipe: got null, want object",
		"{}":                                "missing property 'parent'",
		"parent: plain":                     "parent: 'plain' does not match pattern",
		"parent: plain@1\nfile: []":         "additional properties 'file' not allowed",
		"parent: plain@1\nparent: plain@2":  "already set in map",
		"parent: plain@1\nfiles: [{to: x}]": "files/0: missing property",
		"parent: plain@1\nfiles: [{from: ../x, to: /a/../../b}]":         "files/0/to: \"/a/../../b\" leads out",
		"parent: plain@1\nfiles: [{from: /etc/passwd, to: x}]":           "files/0/from: \"/etc/passwd\" is not beside",
		"parent: plain@1\nfiles: [{text: a, to: x, mode: \"999\"}]":      "files/0/mode: '999' does not match",
		"parent: plain@1\ntime_limit: 3d":                                "time_limit: \"3d\" is not a time",
		"parent: plain@1\ncommands: [[]]":                                "commands/0",
		"parent: plain@1\nlabels: {a: 1}\nstart: []\nfiles: [{text: 1}]": "labels/a: got number, want string",
	} {
		_, err := Parse([]byte(recipe))
		var invalid *Invalid
		if !errors.As(err, &invalid) || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, want %q", recipe, err, says)
		}
	}
}

func FuzzRecipe(f *testing.F) {
	f.Add([]byte(sample))
	f.Add([]byte("parent: plain@1\nfiles: [{from: a, to: ../b}]"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		r, err := Parse(raw)
		if err != nil {
			return
		}
		for _, file := range r.Files {
			if to, ok := inside(file.To); !ok || filepath.IsAbs(to) {
				t.Errorf("%q leads to %q", raw, to)
			}
		}
		for _, c := range r.Commands {
			if len(c) == 0 || c[0] == "" {
				t.Errorf("%q runs nothing", raw)
			}
		}
	})
}
