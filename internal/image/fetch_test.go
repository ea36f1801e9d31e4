package image

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// shelf is a small server of the OCI distribution protocol: manifests by
// tag and digest, blobs by digest, and a user who may read.
type shelf struct {
	blobs map[string][]byte // by digest
	tags  map[string]string // to a manifest's digest
	types map[string]string // of manifests, by digest
	user  string
}

func (r *shelf) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	if user, password, _ := q.BasicAuth(); r.user != "" && (user != r.user || password != "secret") {
		w.Header().Set("WWW-Authenticate", `Basic realm="saltmere"`)
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	name := path.Base(q.URL.Path)
	if tagged, ok := r.tags[name]; ok {
		name = tagged
	}
	raw, ok := r.blobs[name]
	if !ok || !strings.HasPrefix(q.URL.Path, "/v2/ferries/timetable/") {
		http.NotFound(w, q)
		return
	}
	if mediaType := r.types[name]; mediaType != "" {
		w.Header().Set("Content-Type", mediaType)
	}
	w.Header().Set("Docker-Content-Digest", name)
	w.Header().Set("Content-Length", strconv.Itoa(len(raw)))
	if q.Method == http.MethodGet {
		_, _ = w.Write(raw)
	}
}

func (r *shelf) put(mediaType string, v any) ocispec.Descriptor {
	raw, ok := v.([]byte)
	if !ok {
		raw, _ = json.Marshal(v)
	}
	d := digest.FromBytes(raw)
	r.blobs[d.String()] = raw
	r.types[d.String()] = mediaType
	return ocispec.Descriptor{MediaType: mediaType, Digest: d, Size: int64(len(raw))}
}

// foreign is an image as others make them: an absolute link, a removed file,
// an entry point from the root, and variables.
func (r *shelf) foreign(t *testing.T) ocispec.Descriptor {
	t.Helper()
	layer := func(entries ...tar.Header) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, h := range entries {
			content := h.Linkname
			if h.Typeflag == tar.TypeReg {
				h.Linkname, h.Size = "", int64(len(content))
			}
			if err := w.WriteHeader(&h); err != nil {
				t.Fatal(err)
			}
			if h.Typeflag == tar.TypeReg {
				_, _ = io.WriteString(w, content)
			}
		}
		_ = w.Close()
		return b.Bytes()
	}
	one := layer(tar.Header{Name: "usr/bin/timetable", Mode: 0o755, Typeflag: tar.TypeReg, Linkname: "#!/bin/sh\n"},
		tar.Header{Name: "etc/old", Mode: 0o644, Typeflag: tar.TypeReg, Linkname: "old"}, tar.Header{Name: "srv/a/b", Mode: 0o644, Typeflag: tar.TypeReg, Linkname: "b"},
		tar.Header{Name: "bin/timetable", Linkname: "/usr/bin/timetable", Typeflag: tar.TypeSymlink})
	two := layer(tar.Header{Name: "etc/.wh.old", Typeflag: tar.TypeReg}, tar.Header{Name: "srv/a/.wh..wh..opq", Typeflag: tar.TypeReg},
		tar.Header{Name: "srv/a/c", Mode: 0o644, Typeflag: tar.TypeReg, Linkname: "c"})
	config := ocispec.Image{Config: ocispec.ImageConfig{Entrypoint: []string{"/usr/bin/timetable"}, Cmd: []string{"--verbose"}, Env: []string{"SEASON=summer", "PATH=/x"}},
		RootFS: ocispec.RootFS{Type: "layers", DiffIDs: []digest.Digest{digest.FromBytes(one), digest.FromBytes(two)}}}
	config.Architecture, config.OS = runtime.GOARCH, "linux"
	m := ocispec.Manifest{MediaType: ocispec.MediaTypeImageManifest, Config: r.put(ocispec.MediaTypeImageConfig, config),
		Layers: []ocispec.Descriptor{r.put(ocispec.MediaTypeImageLayer, one), r.put(ocispec.MediaTypeImageLayer, two)}}
	m.SchemaVersion = 2
	return r.put(ocispec.MediaTypeImageManifest, m)
}

func newShelf(t *testing.T) (*shelf, string) {
	t.Helper()
	r := &shelf{blobs: map[string][]byte{}, tags: map[string]string{}, types: map[string]string{}}
	server := httptest.NewServer(r)
	t.Cleanup(server.Close)
	return r, strings.TrimPrefix(server.URL, "http://") + "/ferries/timetable"
}

// named are registries that the configuration allows, without TLS.
func named(t *testing.T, wheres ...string) Registries {
	t.Helper()
	var hosts []string
	for _, where := range wheres {
		host, _, _ := strings.Cut(where, "/")
		hosts = append(hosts, "http://"+host)
	}
	r, err := NewRegistries(hosts)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// TestOnlyWhereItIsAllowed: what is on this host or a private network is not asked unless
// it is named, by whichever way one is sent there, and nothing of what it says comes back.
func TestOnlyWhereItIsAllowed(t *testing.T) {
	asked := make(chan string, 10)
	inside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		asked <- q.URL.Path
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusTeapot)
		_, _ = io.WriteString(w, `{"errors":[{"code":"UNKNOWN","message":"the keys of the harbour"}]}`)
	}))
	defer inside.Close()
	at := strings.TrimPrefix(inside.URL, "http://")
	_, port, _ := strings.Cut(at, ":")
	sends := httptest.NewServer(http.RedirectHandler(inside.URL+"/v2/secret", http.StatusFound))
	defer sends.Close()
	sendsAt := strings.TrimPrefix(sends.URL, "http://")
	for _, c := range []struct {
		reference string
		from      Registries
	}{
		{at + "/ferries/timetable:7", Registries{}},
		{"localhost:" + port + "/ferries/timetable:7", Registries{}},
		{"[::ffff:127.0.0.1]:" + port + "/ferries/timetable:7", Registries{}},
		{"10.0.0.1:1/ferries/timetable:7", Registries{}},
		{"169.254.169.254:80/latest/data:7", Registries{}},
		{"[fe80::1]:80/latest/data:7", Registries{}},
		{"[64:ff9b::7f00:1]:80/latest/data:7", Registries{}},
		{sendsAt + "/ferries/timetable:7", named(t, sendsAt)},
	} {
		s, _ := open(t)
		in := s.Begin()
		_, err := in.Fetch(ctx, c.reference, Credentials{}, c.from)
		in.Close()
		if err == nil || !strings.Contains(err.Error(), "the configuration does not name it") && !strings.Contains(err.Error(), "is not a reference") {
			t.Errorf("%s: %v", c.reference, err)
		}
	}
	s, _ := open(t)
	in := s.Begin()
	defer in.Close()
	select {
	case path := <-asked:
		t.Errorf("it was asked for %s", path)
	default:
	}
	_, err := in.Fetch(ctx, at+"/ferries/timetable:7", Credentials{}, named(t, at))
	if err == nil || !strings.Contains(err.Error(), "the registry answered 418") || strings.Contains(err.Error(), "keys") {
		t.Errorf("one that is named: %v", err)
	}
}

func TestFetch(t *testing.T) {
	r, where := newShelf(t)
	m := r.foreign(t)
	other := m
	other.Platform = &ocispec.Platform{OS: "linux", Architecture: "sparc"}
	other.Digest = digest.FromString("not for us")
	ours := m
	ours.Platform = &ocispec.Platform{OS: "linux", Architecture: runtime.GOARCH}
	index := ocispec.Index{MediaType: ocispec.MediaTypeImageIndex, Manifests: []ocispec.Descriptor{other, ours}}
	index.SchemaVersion = 2
	r.tags["7"] = m.Digest.String()
	r.tags["all"] = r.put(ocispec.MediaTypeImageIndex, index).Digest.String()
	r.user = "ada"
	for _, reference := range []string{where + ":7", where + ":all", where + "@" + m.Digest.String()} {
		s, _ := open(t)
		in := s.Begin()
		a, err := in.Fetch(ctx, reference, Credentials{"ada", "secret"}, named(t, where))
		if err != nil {
			t.Errorf("%s: %v", reference, err)
			continue
		}
		in.Keep(a)
		in.Close()
		if a.Digest != m.Digest.String() || strings.Join(a.Start, " ") != "./usr/bin/timetable --verbose" || len(a.Environment) != 2 {
			t.Errorf("%s is %+v", reference, a)
		}
		root := t.TempDir()
		if err := s.Unpack(a.Digest, root, -1, 0); err != nil {
			t.Fatal(err)
		}
		for name, want := range map[string]string{"bin/timetable": "#!/bin/sh\n", "srv/a/c": "c", "etc/old": "", "srv/a/b": ""} {
			if got := read(root, name); got != want {
				t.Errorf("%s: %s holds %q", reference, name, got)
			}
		}
	}
}

func TestWhatIsNotFetched(t *testing.T) {
	r, where := newShelf(t)
	m := r.foreign(t)
	r.tags["7"] = m.Digest.String()
	elsewhere := ocispec.Descriptor{MediaType: m.MediaType, Digest: m.Digest, Size: m.Size, Platform: &ocispec.Platform{OS: "linux", Architecture: "sparc"}}
	index := ocispec.Index{MediaType: ocispec.MediaTypeImageIndex, Manifests: []ocispec.Descriptor{elsewhere}}
	index.SchemaVersion = 2
	r.tags["sparc"] = r.put(ocispec.MediaTypeImageIndex, index).Digest.String()
	bad, badAt := newShelf(t)
	d := bad.foreign(t)
	bad.tags["7"] = d.Digest.String()
	for name, raw := range bad.blobs {
		if bad.types[name] == ocispec.MediaTypeImageLayer {
			bad.blobs[name] = append(bytes.Clone(raw[:len(raw)-1]), raw[len(raw)-1]^1)
		}
	}
	for reference, says := range map[string]string{
		"timetable":                       "is not a reference in a registry",
		where + ":8":                      "was not fetched: it is not there",
		where + ":sparc":                  "none of the 1 images of the index is for linux",
		badAt + ":7":                      "is damaged",
		"127.0.0.1:1/ferries/timetable:7": "was not fetched: the registry cannot be reached",
	} {
		s, dir := open(t)
		in := s.Begin()
		_, err := in.Fetch(ctx, reference, Credentials{}, named(t, where, badAt, "127.0.0.1:1/x"))
		in.Close()
		var refused *Refused
		if !errors.As(err, &refused) || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want %q", reference, err, says)
		}
		if left := blobs(t, dir); len(left) > 0 {
			t.Errorf("%s: left behind: %v", reference, left)
		}
	}
	r.user = "ada"
	s, _ := open(t)
	in := s.Begin()
	defer in.Close()
	if _, err := in.Fetch(ctx, where+":7", Credentials{"ada", "wrong"}, named(t, where)); err == nil || !strings.Contains(err.Error(), "another sign-in") {
		t.Errorf("with a wrong password it answered %v", err)
	}
}

func read(root, name string) string {
	raw, _ := os.ReadFile(filepath.Join(root, name))
	return string(raw)
}
