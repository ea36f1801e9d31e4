package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func TestClocksAreHeldBeside(t *testing.T) {
	ours := time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
	for by, says := range map[time.Duration]string{0: "", 4 * time.Second: "", 6 * time.Second: "6 s ahead of", -time.Hour: "1 h behind"} {
		f := clockBeside(ours.Add(by), ours)
		if f.Well != (says == "") || !strings.Contains(f.Says, says) || (f.Do == "") != f.Well {
			t.Errorf("%s apart: %+v", by, f)
		}
	}
}

func TestATokenThatOthersCanRead(t *testing.T) {
	t.Setenv("UNITAS_TOKEN", "")
	a := &app{tokenFile: filepath.Join(t.TempDir(), "token")}
	for mode, open := range map[os.FileMode]bool{0o600: false, 0o640: true, 0o604: true} {
		if err := os.WriteFile(a.tokenFile, []byte("x"), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(a.tokenFile, mode); err != nil {
			t.Fatal(err)
		}
		if f := a.tokenOpen(); (f.Part != "") != open {
			t.Errorf("mode %o: %+v", mode, f)
		}
	}
}

// TestWhichServiceIsMeant: flags go before --use, that before the environment, and that
// before what is kept.
func TestWhichServiceIsMeant(t *testing.T) {
	file := filepath.Join(t.TempDir(), "config.yaml")
	t.Setenv("UNITAS_CONFIG", file)
	if err := os.WriteFile(file, []byte("present: harbour\nservices:\n  harbour: {server: 'http://harbour', token-file: h}\n  headland: {server: 'http://headland'}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ environment, line, want string }{
		{"", "group list", "http://harbour h"}, {"", "group list --use headland", "http://headland usual"},
		{"http://env", "group list", "http://env usual"}, {"http://env", "group list --use harbour", "http://harbour h"},
		{"", "group list --server http://flag --use harbour", "http://flag usual"}, {"", "group list --token-file f", "http://harbour f"},
	} {
		t.Setenv("UNITAS_SERVER", c.environment)
		t.Setenv("UNITAS_TOKEN_FILE", "")
		root := Root()
		cmd, rest, err := root.Find(strings.Fields(c.line))
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.ParseFlags(rest); err != nil {
			t.Fatal(err)
		}
		at := func(flag string) string { return cmd.Flags().Lookup(flag).Value.String() }
		a := &app{server: at("server"), tokenFile: at("token-file"), use: at("use")}
		if err := a.chooseService(cmd); err != nil {
			t.Fatal(err)
		}
		if a.tokenFile == filepath.Join(DefaultData(), "token") {
			a.tokenFile = "usual"
		}
		if got := a.server + " " + a.tokenFile; got != c.want {
			t.Errorf("%s with %q asks %s, want %s", c.line, c.environment, got, c.want)
		}
	}
}
