package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/image"
)

// image reads a version.
func (s *service) image(name, version string) contract.Image {
	s.t.Helper()
	return must[contract.Image](s.t)(client.Read[contract.Image](s.api.GetImage(ctx, name, version)))
}

func (s *service) importImage(name string, raw []byte) contract.Image {
	s.t.Helper()
	return must[contract.Image](s.t)(client.Read[contract.Image](s.api.ImportImageWithBody(ctx, &contract.ImportImageParams{Name: name}, "application/octet-stream", bytes.NewReader(raw))))
}

// noise packs an image with n bytes that do not compress.
func noise(t *testing.T, n int) []byte {
	t.Helper()
	content := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{byte(n)}).Read(content)
	return packed(t, image.File{Name: image.ManifestName, Content: []byte("start: [sh]\n")}, image.File{Name: "noise", Content: content})
}

// halves are files of unfinished work below the data directory.
func (s *service) halves() []string {
	var found []string
	for _, pattern := range []string{"images/*/incoming-*", "bakes/scratch/*"} {
		names, _ := filepath.Glob(filepath.Join(s.dir, pattern))
		found = append(found, names...)
	}
	return found
}

// nothingHalf waits until no unfinished work is there; the service's own small
// files are halves for a moment as well.
func (s *service) nothingHalf() {
	s.t.Helper()
	s.eventually("nothing half is left", func() error {
		if left := s.halves(); len(left) > 0 {
			return fmt.Errorf("there are %v", left)
		}
		return nil
	})
}

// TestKilledDuringUpload kills the service in the middle of an upload: nothing
// of it is there afterwards.
func TestKilledDuringUpload(t *testing.T) {
	t.Parallel()
	s := start(t)
	raw := noise(t, 8<<20)
	pr, pw := io.Pipe()
	sent := make(chan error, 1)
	go func() {
		_, _, err := client.Read[contract.Image](s.api.ImportImageWithBody(ctx, &contract.ImportImageParams{Name: "timetable"}, "application/octet-stream", pr))
		pr.Close()
		sent <- err
	}()
	if _, err := pw.Write(raw[:len(raw)/2]); err != nil {
		t.Fatal(err)
	}
	s.eventually("half of it has arrived", func() error {
		for _, half := range s.halves() {
			if info, err := os.Stat(half); err == nil && info.Size() > 1<<20 {
				return nil
			}
		}
		return errors.New("nothing has")
	})
	s.stop(syscall.SIGKILL)
	pw.CloseWithError(io.ErrUnexpectedEOF)
	if err := <-sent; err == nil {
		t.Error("the upload was answered")
	}
	s.up()
	s.nothingHalf()
	name := "timetable"
	if l := must[contract.ImageList](t)(client.Read[contract.ImageList](s.api.ListImages(ctx, &contract.ListImagesParams{Name: &name}))); len(l.Items) > 0 {
		t.Errorf("there are %+v", l.Items)
	}
	if i := s.importImage("timetable", raw); i.State != contract.ImageStateReady || i.Version != 1 {
		t.Errorf("after it, %+v", i)
	}
}

// TestKilledDuringBake kills the service while a command of a recipe runs: the
// command ends with it, and the version is broken.
func TestKilledDuringBake(t *testing.T) {
	t.Parallel()
	s := start(t)
	mark := fmt.Sprintf("3%d.5", rand.IntN(1e9)) // a time to sleep that nobody else does
	recipe := filepath.Join(s.dir, "slow.yaml")
	if err := os.WriteFile(recipe, []byte("parent: plain@1\ncommands: ['(sleep "+mark+" &) ; sleep "+mark+"']\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	bake := exec.Command(filepath.Join(bin, "unitas"), "image", "bake", "timetable", "--recipe", recipe)
	bake.Env = append(os.Environ(), "UNITAS_SERVER=http://"+s.listen, "UNITAS_TOKEN="+s.token)
	if err := bake.Start(); err != nil {
		t.Fatal(err)
	}
	sleepers := func() (n int) {
		lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
		for _, file := range lines {
			if raw, _ := os.ReadFile(file); string(raw) == "sleep\x00"+mark+"\x00" {
				n++
			}
		}
		return n
	}
	s.eventually("the command runs", func() error {
		if n := sleepers(); n != 2 {
			return fmt.Errorf("%d processes", n)
		}
		return nil
	})
	if i := s.image("timetable", "1"); i.State != contract.ImageStateBaking || !strings.HasPrefix(i.Step, "command 1 of 1") {
		t.Errorf("meanwhile it is %s at %q", i.State, i.Step)
	}
	s.stop(syscall.SIGKILL)
	_ = bake.Wait()
	s.eventually("the command ends with the service", func() error {
		if n := sleepers(); n != 0 {
			return fmt.Errorf("%d processes", n)
		}
		return nil
	})
	s.up()
	i := s.image("timetable", "1")
	if i.State != contract.ImageStateBroken || !strings.Contains(i.Why, "the service stopped") || i.Digest != "" {
		t.Errorf("after it, it is %+v", i)
	}
	s.nothingHalf()
}

// TestKilledDuringCopy kills the service at random moments of a copy: a version
// is in the region only when it is whole there, and the copy can be gone on with.
func TestKilledDuringCopy(t *testing.T) {
	t.Parallel()
	s := start(t)
	for round := range 4 {
		name := fmt.Sprintf("timetable-%c", 'a'+round)
		i := s.importImage(name, noise(t, 24<<20+round))
		if _, _, err := client.Read[contract.Image](s.api.CopyImage(ctx, name, "1", contract.NewCopy{To: "headland"})); err != nil {
			t.Fatal(err)
		}
		moment := time.NewTimer(time.Duration(rand.IntN(60)) * time.Millisecond)
		<-moment.C
		s.stop(syscall.SIGKILL)
		s.up()
		there := func() bool {
			now := s.image(name, "1")
			blobs, _ := os.ReadDir(filepath.Join(s.dir, "images", "headland", "blobs", "sha256"))
			var size int64
			for _, b := range blobs {
				if info, err := b.Info(); err == nil {
					size += info.Size()
				}
			}
			in := len(now.Places) == 2
			if in && size < i.SizeBytes*int64(round+1)-1<<20 {
				t.Errorf("%s is said to be in headland, which holds %d bytes", name, size)
			}
			if state := (*now.Copies)[0].State; in != (state == contract.CopyStateDone) || (!in && state != contract.CopyStateStopped) {
				t.Errorf("%s is in %v, and its copy is %s", name, now.Places, state)
			}
			return in
		}
		if there() {
			continue
		}
		if _, _, err := client.Read[contract.Image](s.api.CopyImage(ctx, name, "1", contract.NewCopy{To: "headland"})); err != nil {
			t.Fatal(err)
		}
		s.eventually(name+" is copied", func() error {
			if len(s.image(name, "1").Places) != 2 {
				return errors.New("not yet")
			}
			return nil
		})
	}
}

// TestCatalogueOverHTTP asks as programs do: with revisions, dry runs, digests.
func TestCatalogueOverHTTP(t *testing.T) {
	t.Parallel()
	s := start(t)
	raw := noise(t, 1<<20)
	sum := sha256.Sum256(raw)
	good := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	sum[0] ^= 1
	bad := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	upload := func(digest string) (int, string) {
		status, _, body := s.call("POST", "/v1/images?name=timetable", string(raw), "Content-Type", "application/octet-stream", "Content-Digest", digest)
		return status, body
	}
	if status, body := upload(bad); status != 422 || !strings.Contains(body, "what arrived is not what was sent") {
		t.Errorf("a wrong digest: %d %s", status, body)
	}
	if blobs, _ := filepath.Glob(filepath.Join(s.dir, "images", "harbour", "blobs", "sha256", "*")); len(blobs) != 3 { // those of plain
		t.Errorf("left behind: %v", blobs)
	}
	if status, body := upload(good); status != 201 {
		t.Errorf("a right digest: %d %s", status, body)
	}
	path := "/v1/images/timetable/1"
	_, h, _ := s.call("GET", path, "")
	tag := h.Get("ETag")
	if status, _, body := s.call("POST", path+"/withdrawal", `{"reason":"x"}`); status != 428 {
		t.Errorf("without a revision: %d %s", status, body)
	}
	if status, _, body := s.call("POST", path+"/withdrawal", `{"reason":"x"}`, "If-Match", `"77"`); status != 412 {
		t.Errorf("with a stale revision: %d %s", status, body)
	}
	if status, _, body := s.call("POST", "/v1/templates?dry_run=true", `{"name":"web","image":"timetable@1"}`); status != 200 || !strings.Contains(body, `"advice":[]`) {
		t.Errorf("a dry run: %d %s", status, body)
	}
	if status, _, body := s.call("POST", "/v1/templates", `{"name":"web","image":"timetable@1"}`); status != 201 {
		t.Errorf("a template: %d %s", status, body)
	}
	if status, _, body := s.call("DELETE", path, "", "If-Match", tag); status != 409 || !strings.Contains(body, "urn:unitas:problem:in-use") || !strings.Contains(body, "template web@1") {
		t.Errorf("a deletion of what is used: %d %s", status, body)
	}
	if status, _, body := s.call("DELETE", "/v1/templates/web/1", "", "If-Match", "*"); status != 204 || body != "" {
		t.Errorf("a deletion of a template: %d %s", status, body)
	}
	if status, _, body := s.call("DELETE", path, "", "If-Match", tag); status != 204 {
		t.Errorf("a deletion: %d %s", status, body)
	}
	if status, _, _ := s.call("GET", path, ""); status != 404 {
		t.Errorf("after it: %d", status)
	}
	for _, c := range []struct{ path, says string }{
		{"/v1/images/timetable/0", "version"}, {"/v1/images/timetable/shaky", "has no mark"}, {"/v1/images?label=x", "label"},
		{"/v1/images?state=rotten", "not one of"}, {"/v1/images/plain/1/bake-log", "not made by this service"},
	} {
		if status, _, body := s.call("GET", c.path, ""); status < 400 || status >= 500 || !strings.Contains(body, c.says) {
			t.Errorf("%s: %d %s", c.path, status, body)
		}
	}
}

// TestImageFromServingInstance makes images from an instance of a group under
// traffic: while it serves, and at rest. No request fails, the group is never
// short of more than the one that rests, and what runs from the image is the like.
func TestImageFromServingInstance(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	tr := s.traffic()
	id := s.instances()[0].Id
	picture := func(atRest bool) contract.Image {
		t.Helper()
		i := must[contract.Image](t)(client.Read[contract.Image](s.api.ImageFromInstance(ctx, nil, contract.ImageFromInstance{Instance: id, StopFirst: &atRest})))
		s.eventually("the image is ready", func() error {
			if i = s.image(i.Name, fmt.Sprint(i.Version)); i.State != contract.ImageStateReady {
				return fmt.Errorf("it is %s: %s", i.State, i.Why)
			}
			return nil
		})
		return i
	}
	live := picture(false)
	if in := s.instances()[0]; in.State != contract.InstanceStateServing || len(s.journal("instance.resting")) != 0 {
		t.Errorf("%s is %s", in.Id, in.State)
	}
	rest := picture(true)
	s.whole(4)
	tr.mustBeWhole(t)
	if n := tr.lowest.Load(); n < 3 {
		t.Errorf("only %d of 4 served at one time", n)
	}
	if live.Digest != rest.Digest || *rest.Parent != "timetable@1" || rest.Source != id {
		t.Errorf("the workload writes nothing, and the images are %+v and %+v", live, rest)
	}
	if got := len(s.journal("instance.ordered")); got != 4 {
		t.Errorf("%d instances were ordered; nothing should take the place of one that rests", got)
	}
	if settled := s.journal("instance.settling"); !strings.Contains(settled[0].Because, "its machine runs again") {
		t.Errorf("it came back because %s", settled[0].Because)
	}
}
