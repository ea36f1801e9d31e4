package wary_test

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"unitas/internal/wary"
)

// TestOnlyFiles: what is a link, a pipe, a device or a directory is not read, and nobody waits.
func TestOnlyFiles(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	secret := filepath.Join(t.TempDir(), "secret")
	for _, err := range []error{
		os.WriteFile(secret, []byte("secret"), 0o600), os.WriteFile(at("file"), []byte("06:40"), 0o600), os.Symlink(secret, at("out")), os.Symlink("file", at("in")),
		os.Symlink("/dev/zero", at("zero")), syscall.Mkfifo(at("pipe"), 0o600), os.Mkdir(at("dir"), 0o700), os.WriteFile(at("dir/long"), nil, 0o600), os.Truncate(at("dir/long"), 9<<30), os.Symlink(filepath.Dir(secret), at("away")),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	for name, read := range map[string]func(name string) ([]byte, error){
		"by name": func(name string) ([]byte, error) { return wary.Read(at(name), 5) },
		"in root": func(name string) ([]byte, error) { return wary.ReadIn(root, name, 5) },
	} {
		if raw, err := read("file"); string(raw) != "06:40" || err != nil {
			t.Errorf("%s: a file is %q, %v", name, raw, err)
		}
		for _, other := range []string{"out", "in", "zero", "pipe", "dir"} {
			if raw, err := read(other); !errors.Is(err, wary.ErrOther) || len(raw) > 0 {
				t.Errorf("%s: %s is read as %q, %v", name, other, raw, err)
			}
		}
		if _, err := read("dir/long"); err == nil || !strings.Contains(err.Error(), "longer than 5 bytes") {
			t.Errorf("%s: a long one: %v", name, err)
		}
		if _, err := read("nothing"); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s: nothing: %v", name, err)
		}
	}
	if raw, err := wary.ReadIn(root, "away/secret", 100); err == nil {
		t.Errorf("through a link that leads out: %q", raw)
	}
}
