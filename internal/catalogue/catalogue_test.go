package catalogue_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"unitas/internal/catalogue"
	"unitas/internal/fleet"
	"unitas/internal/image"
	"unitas/internal/image/bake"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/places"
	"unitas/internal/store"
	"unitas/internal/waittest"
)

var ctx = context.Background()

func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == "confined" {
		bake.Confined()
	}
	pgtest.Main(m, nil)
}

// archive is a catalogue of two regions on a database of its own.
type archive struct {
	t       *testing.T
	dir     string
	store   *store.Store
	places  places.Places
	cat     *catalogue.Catalogue
	stopped chan struct{}
	stop    context.CancelFunc
	pace    time.Duration
}

func newArchive(t *testing.T) *archive {
	t.Helper()
	dir, err := os.MkdirTemp("", "unitas-catalogue-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	a := &archive{t: t, dir: dir}
	if a.store, err = store.Open(ctx, pgtest.Database(t)); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(a.store.Close)
	if a.places, err = places.New(places.Places{{Name: "harbour", Zones: []string{"east-pier"}}, {Name: "headland", Zones: []string{"north-slip"}}}, dir); err != nil {
		t.Fatal(err)
	}
	return a
}

// open starts the catalogue, again when it was stopped.
func (a *archive) open() {
	a.t.Helper()
	self, err := os.Executable()
	if err != nil {
		a.t.Fatal(err)
	}
	user := -1
	if os.Geteuid() == 0 {
		user = 60_124
	}
	a.cat, err = catalogue.Open(ctx, catalogue.Config{Store: a.store, Places: a.places, Dir: filepath.Join(a.dir, "bakes"), Logs: filepath.Join(a.dir, "bakes", "logs"), BakeUser: user,
		Helper: []string{self, "confined"}, Replica: "one", Log: slog.New(slog.DiscardHandler), CopyPace: a.pace})
	if err != nil {
		a.t.Fatal(err)
	}
	running, stop := context.WithCancel(ctx)
	stopped := make(chan struct{})
	a.stop, a.stopped = stop, stopped
	go func() {
		defer close(stopped)
		a.cat.Run(running)
	}()
	a.t.Cleanup(a.close)
}

func (a *archive) close() {
	a.stop()
	waittest.For(a.t, "the end", a.stopped)
}

func (a *archive) image(name string, n int) store.Image {
	a.t.Helper()
	i, err := a.store.Image(ctx, fleet.Version{Name: name, N: n})
	if err != nil {
		a.t.Fatal(err)
	}
	return i
}

func (a *archive) eventually(what string, so func() bool) {
	a.t.Helper()
	limit := time.After(30 * time.Second)
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for !so() {
		select {
		case <-limit:
			a.t.Fatalf("it never came to be that %s", what)
		case <-tick.C:
		}
	}
}

func (a *archive) copy(name string) store.Copy {
	a.t.Helper()
	all, err := a.store.Copies(ctx, fleet.Version{Name: name, N: 1}, "")
	if err != nil || len(all) != 1 {
		a.t.Fatalf("the copies are %+v: %v", all, err)
	}
	return all[0]
}

// bundle packs what is sent to be baked.
func bundle(t *testing.T, files map[string]string, links ...tar.Header) *bytes.Buffer {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for name, content := range files {
		if err := w.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(content)), Typeflag: tar.TypeReg}); err != nil {
			t.Fatal(err)
		}
		fmt.Fprint(w, content)
	}
	for _, h := range links {
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(w.Close(), z.Close()); err != nil {
		t.Fatal(err)
	}
	return &b
}

func (a *archive) bake(files map[string]string) (store.Image, error) {
	a.t.Helper()
	return a.cat.Bake(ctx, catalogue.Upload{Name: "timetable", Actor: "ada"}, bundle(a.t, files), func(ref string) (store.Image, error) {
		name, n, _ := strings.Cut(ref, "@")
		v := fleet.Version{Name: name}
		_, _ = fmt.Sscan(n, &v.N)
		return a.store.Image(ctx, v)
	})
}

func (a *archive) bring(name string, size int) store.Image {
	a.t.Helper()
	content := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{byte(size)}).Read(content)
	var b bytes.Buffer
	if err := image.Pack(&b, image.File{Name: image.ManifestName, Content: []byte("start: [sh]\n")}, image.File{Name: "content", Content: content}); err != nil {
		a.t.Fatal(err)
	}
	i, err := a.cat.Import(ctx, catalogue.Upload{Name: name, Actor: "ada"}, &b)
	if err != nil {
		a.t.Fatal(err)
	}
	return i
}

// TestTheBaseImageIsThere in every region, once, however often the service starts.
func TestTheBaseImageIsThere(t *testing.T) {
	a := newArchive(t)
	for range 3 {
		a.open()
		a.close()
	}
	all, err := a.store.Images(ctx, store.ImageQuery{Page: store.Page{Limit: 10}})
	if err != nil || len(all) != 1 || all[0].Ref().String() != "plain@1" || len(all[0].Places) != 2 || all[0].Origin != store.Provided {
		t.Fatalf("there are %+v: %v", all, err)
	}
	if _, err := a.store.ChangeImage(ctx, time.Now(), "unitas", all[0].Ref(), store.AnyRevision, func(i *store.Image) error {
		delete(i.Places, "headland") // as if the region were new
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	a.open()
	if i := a.image("plain", 1); len(i.Places) != 2 {
		t.Errorf("it is in %v", i.Places)
	}
}

// TestBakes that are refused leave no version; those that fail leave a broken
// one; and what was baking when the service stopped is broken as well.
func TestBakes(t *testing.T) {
	a := newArchive(t)
	a.open()
	for _, c := range []struct {
		files map[string]string
		says  string
	}{
		{map[string]string{"x": ""}, "no recipe.yaml"},
		{map[string]string{"recipe.yaml": "parent: nothing@1\n"}, "there is no image nothing@1"},
		{map[string]string{"recipe.yaml": "parent: plain@1\nfiles: [{from: gone, to: x}]\n"}, `adds "gone" (its file 1), which is not beside it`},
	} {
		if _, err := a.bake(c.files); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%v: %v, want %q", c.files, err, c.says)
		}
	}
	for target, says := range map[string]string{"d/up/../secret": "cannot be read: recipe.yaml: it is no file", "recipe.txt": "cannot be read: recipe.yaml: it is no file"} {
		linked := bundle(t, map[string]string{"recipe.txt": "parent: plain@1\n"}, tar.Header{Name: "d/", Mode: 0o755, Typeflag: tar.TypeDir},
			tar.Header{Name: "d/up", Linkname: "..", Typeflag: tar.TypeSymlink}, tar.Header{Name: "recipe.yaml", Linkname: target, Typeflag: tar.TypeSymlink})
		if _, err := a.cat.Bake(ctx, catalogue.Upload{Name: "timetable", Actor: "ada"}, linked, nil); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("a recipe that is a link to %s: %v", target, err)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(a.dir, "bakes", "scratch", "*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	good, err := a.bake(map[string]string{"recipe.yaml": "parent: plain@1\nfiles: [{from: page, to: page}]\ncommands: [cat page]\n", "page": "06:40 Saltmere"})
	if err != nil || good.Version != 1 || good.State != store.Baking {
		t.Fatalf("%+v, %v", good, err)
	}
	a.eventually("it is ready", func() bool { return a.image("timetable", 1).State == store.Ready })
	if i := a.image("timetable", 1); i.Digest == "" || i.ParentRef().String() != "plain@1" || i.Step != "" {
		t.Errorf("it is %+v", i)
	}
	slow, err := a.bake(map[string]string{"recipe.yaml": "parent: plain@1\ncommands: [sleep 1000]\n"})
	if err != nil {
		t.Fatal(err)
	}
	a.eventually("its command runs", func() bool { return strings.HasPrefix(a.image("timetable", slow.Version).Step, "command") })
	a.close()
	if i := a.image("timetable", slow.Version); i.State != store.Broken || i.Why != "the service stops" || !strings.HasPrefix(i.Step, "command 1 of 1") {
		t.Errorf("it is %+v", i)
	}
	log, err := os.ReadFile(filepath.Join(a.dir, "bakes", "logs", "timetable@2.log"))
	if err != nil || !strings.Contains(string(log), "── failed at command 1 of 1: sleep 1000: the service stops") {
		t.Errorf("its log says %s: %v", log, err)
	}
}

// TestCopies are broken off by a person and by a stop of the service, and go on.
func TestCopies(t *testing.T) {
	a := newArchive(t)
	a.pace = 20 * time.Millisecond
	a.open()
	i := a.bring("timetable", 20<<20)
	var refusal *fleet.Refusal
	if err := a.cat.StartCopy(ctx, "ada", i, "harbour"); !errors.As(err, &refusal) || !strings.Contains(err.Error(), "in harbour already") {
		t.Errorf("a copy to where it is: %v", err)
	}
	begin := func() {
		t.Helper()
		if err := a.cat.StartCopy(ctx, "ada", a.image("timetable", 1), "headland"); err != nil {
			t.Fatal(err)
		}
	}
	begin()
	if err := a.cat.StartCopy(ctx, "ada", i, "headland"); !errors.As(err, &refusal) || !strings.Contains(err.Error(), "already") {
		t.Errorf("the same copy twice: %v", err)
	}
	if err := a.cat.StopCopy(i.Ref(), "headland"); err != nil {
		t.Fatal(err)
	}
	a.eventually("it is broken off", func() bool { return a.copy("timetable").State == store.CopyStopped })
	if c := a.copy("timetable"); !strings.Contains(c.Why, "a person broke it off; start it again") {
		t.Errorf("it was broken off: %s", c.Why)
	}
	begin()
	a.close()
	if c := a.copy("timetable"); c.State != store.CopyStopped || !strings.Contains(c.Why, "the service stops") || len(a.image("timetable", 1).Places) != 1 {
		t.Errorf("after the stop it is %+v", c)
	}
	a.pace = 0
	a.open()
	begin()
	a.eventually("it is done", func() bool { return len(a.image("timetable", 1).Places) == 2 })
	if c := a.copy("timetable"); c.State != store.CopyDone || c.DoneBytes != c.TotalBytes {
		t.Errorf("it is %+v", c)
	}
	if missing := a.cat.MissingIn(a.image("plain", 1).Places, []string{"east-pier", "north-slip"}); len(missing) != 0 {
		t.Errorf("plain is missing in %v", missing)
	}
	if missing := a.cat.MissingIn(map[string]store.Place{"harbour": {}}, []string{"east-pier", "north-slip"}); len(missing) != 1 || missing[0] != "headland" {
		t.Errorf("it is missing in %v", missing)
	}
}

// TestDeletedLayersAreSwept: old ones that no version needs any more.
func TestDeletedLayersAreSwept(t *testing.T) {
	a := newArchive(t)
	a.open()
	i := a.bring("timetable", 1<<20)
	blobs := func() []string {
		all, _ := filepath.Glob(filepath.Join(a.places[0].Images, "blobs", "sha256", "*"))
		return all
	}
	if len(blobs()) != 6 {
		t.Fatalf("there are %v", blobs())
	}
	old := time.Now().Add(-time.Hour) // a fresh one may be another service's
	for _, b := range blobs() {
		if err := os.Chtimes(b, old, old); err != nil {
			t.Fatal(err)
		}
	}
	if err := a.cat.Delete(ctx, "ada", i.Ref(), i.Revision); err != nil {
		t.Fatal(err)
	}
	a.eventually("only those of plain are there", func() bool { return len(blobs()) == 3 })
	if _, err := a.cat.Import(ctx, catalogue.Upload{Name: "timetable", Region: "nowhere"}, strings.NewReader("")); err == nil || !strings.Contains(err.Error(), "there are harbour, headland") {
		t.Errorf("a region that is not there: %v", err)
	}
}
