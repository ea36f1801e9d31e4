package certificates_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"unitas/internal/certificates"
	"unitas/internal/certtest"
)

func TestFault(t *testing.T) {
	dir := t.TempDir()
	d := certificates.Dir(dir)
	if why := d.Fault("saltmere"); !strings.Contains(why, "there are none in "+dir) {
		t.Errorf("of an empty directory: %s", why)
	}
	certtest.Write(t, filepath.Join(dir, "saltmere.pem"), filepath.Join(dir, "saltmere.key"), 1)
	certtest.Write(t, filepath.Join(dir, "half.pem"), filepath.Join(dir, "half.secret"), 1)
	certtest.Write(t, filepath.Join(dir, "mixed.pem"), filepath.Join(dir, "other.key"), 1)
	certtest.Write(t, filepath.Join(dir, "other.pem"), filepath.Join(dir, "mixed.key"), 2)
	for name, want := range map[string]string{
		"saltmere": "", "gannet": "there is no certificate gannet", "half": "needs half.pem and half.key", "mixed": "cannot be used",
		"": "is not the name", "../saltmere": "is not the name", "/etc/passwd": "is not the name", ".pem": "is not the name", "a/b": "is not the name",
	} {
		if got := d.Fault(name); (want == "") != (got == "") || !strings.Contains(got, want) {
			t.Errorf("of %q it says %q, want %q", name, got, want)
		}
	}
	if why := d.Fault("gannet"); !strings.Contains(why, "there are half, mixed, other, saltmere") {
		t.Errorf("it does not say what there is: %s", why)
	}
	if _, err := os.Stat(dir); err != nil {
		t.Fatal(err)
	}
}

func TestFiles(t *testing.T) {
	d := certificates.Dir("/srv/certificates")
	for _, c := range [][4]string{
		{"saltmere", "", "/srv/certificates/saltmere.pem", "/srv/certificates/saltmere.key"},
		{"", "", "", ""},
		{"/etc/old.pem", "/etc/old.key", "/etc/old.pem", "/etc/old.key"}, // of an earlier release
	} {
		if chain, key := d.Files(c[0], c[1]); chain != c[2] || key != c[3] {
			t.Errorf("the files of %q are %s and %s", c[0], chain, key)
		}
	}
}
