package e2e

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/chromedp/chromedp"

	"unitas/internal/machine/process"
	"unitas/internal/pgserver/pgtest"
	"unitas/test/e2e/browser"
)

// TestBackup: a backup of a service that runs is restored in its place, beside the machines that run on,
// and in another directory and database, where there are none. Nothing is done to machines before
// somebody says so; then those of the records go on, and no other is taken for one of them.
func TestBackup(t *testing.T) {
	t.Parallel()
	s := startOn(t, "") // with a database of its own
	s.stock()
	s.group(4)
	do := func(line string) *outcome {
		t.Helper()
		o := s.command(line)
		if o.exit != 0 {
			t.Fatalf("$ %s\nended with %d: %s%s", line, o.exit, o.stdout, o.stderr)
		}
		return o
	}
	archive, where := filepath.Join(s.dir, "saltmere.tar"), " --data "+s.dir+" --places "+filepath.Join(s.dir, "places.yaml")
	made := do("unitas backup " + archive + where)
	if info, err := os.Stat(archive); err != nil || info.Mode().Perm() != 0o600 {
		t.Fatalf("the backup is %v: %v", info, err)
	}
	for _, want := range []string{"1 group, 4 instances, 3 image versions", "Secret in token", "unitas restore "} {
		if !strings.Contains(made.stdout, want) {
			t.Errorf("the backup does not say %q: %s", want, made.stdout)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(s.dir, ".unitas-backup-*")); len(left) > 0 {
		t.Errorf("it leaves %v", left)
	}
	if o := s.command("unitas backup " + archive + where); o.exit != 1 || !strings.Contains(o.stderr, "is there already") {
		t.Errorf("it writes over another: %d %s", o.exit, o.stderr)
	}
	recorded := s.machines()
	do("unitas group resize timetable --size 6 --wait") // what the backup does not know
	all := s.machines()

	s.stop(syscall.SIGTERM)
	if o := s.command("unitas restore " + archive + where); o.exit != 1 || !strings.Contains(o.stderr, "move it away first") {
		t.Errorf("a database is lost: %d %s", o.exit, o.stderr)
	}
	if err := os.Rename(filepath.Join(s.dir, "postgresql"), filepath.Join(s.dir, "postgresql.before")); err != nil {
		t.Fatal(err)
	}
	do("unitas restore " + archive + where)
	s.flags = []string{"--stray-grace", "24h"}
	s.upAnyhow()
	looks := s.command("unitas service")
	if want := "Of 4 instances 4 run as recorded, 0 are of another version, 0 have no machine; no record knows 2 machines, which would be stopped 24 h after that"; looks.exit != 3 || !strings.Contains(looks.stdout, want) {
		t.Errorf("it finds (%d): %s%s", looks.exit, looks.stdout, looks.stderr)
	}
	if err := answers("http://" + s.front + "/"); err == nil {
		t.Error("its listeners are open before it may act")
	}
	if o := s.command("unitas service resume --dry-run"); o.exit != 0 || !strings.Contains(o.stdout, "4 have theirs and go on") {
		t.Errorf("resuming would: %s%s", o.stdout, o.stderr)
	}
	if now := s.machines(); !slices.Equal(now, all) {
		t.Errorf("before it may act it touched machines: %v are %v", all, now)
	}
	do("unitas service resume --yes --reason looked")
	s.eventually("the recorded ones serve", func() error { return answers("http://" + s.front + "/") })
	s.eventually("the others are told", func() error {
		o := s.command("unitas service")
		if strings.Count(o.stdout, "no record knows the machine timetable-") != 2 {
			return errors.New(o.stdout)
		}
		return nil
	})
	if now := s.machines(); !slices.Equal(now, all) {
		t.Errorf("machines were stopped: %v are %v", all, now)
	}
	do("unitas service stop-strays --yes")
	if now := s.machines(); !slices.Equal(now, recorded) {
		t.Errorf("%v are left, and %v are recorded", now, recorded)
	}
	s.whole(4)
	do("unitas group resize timetable --size 5 --wait") // under leases that the machines' own fence takes
	if o := s.command("unitas service resume --yes"); o.exit != 1 || !strings.Contains(o.stderr, "acts already") {
		t.Errorf("it is resumed twice: %d %s", o.exit, o.stderr)
	}
	s.restoresElsewhere(archive)
}

// restoresElsewhere makes another service of an archive, in a directory and a database of its own, and
// refuses one that is damaged.
func (s *service) restoresElsewhere(archive string) {
	t := s.t
	t.Helper()
	raw, err := os.ReadFile(archive)
	if err != nil {
		t.Fatal(err)
	}
	s.stop(syscall.SIGTERM)
	process.EndAll(filepath.Join(s.dir, "machines"))
	next := *s
	if next.dir, err = os.MkdirTemp("", "unitas-e2e-"); err != nil {
		t.Fatal(err)
	}
	next.database, next.flags = pgtest.Database(t.(*testing.T)), nil
	t.Cleanup(func() {
		if next.cmd != nil {
			next.stop(syscall.SIGTERM)
		}
		process.EndAll(filepath.Join(next.dir, "machines"))
		os.RemoveAll(next.dir)
	})
	if err := os.Chmod(next.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	into := " --data " + next.dir + " --database " + next.database
	for what, bad := range map[string][]byte{"cut": raw[:len(raw)/2], "another": append([]byte("no backup"), raw...), "damaged": append(bytes.Clone(raw[:len(raw)-200_000]), append(bytes.Repeat([]byte{7}, 100), raw[len(raw)-199_900:]...)...)} {
		file := filepath.Join(s.dir, what+".tar")
		if err := os.WriteFile(file, bad, 0o600); err != nil {
			t.Fatal(err)
		}
		if o := s.command("unitas restore " + file + into); o.exit != 1 || !strings.Contains(o.stderr, file) {
			t.Errorf("one that is %s is restored: %d %s", what, o.exit, o.stderr)
		}
		if left, _ := filepath.Glob(filepath.Join(next.dir, "*")); len(left) > 1 { // the lock
			t.Errorf("one that is %s leaves %v", what, left)
		}
	}
	o := s.command("unitas restore " + archive + into)
	if o.exit != 0 || !strings.Contains(o.stdout, "--places "+filepath.Join(next.dir, "places.yaml")) {
		t.Fatalf("it is not restored: %d %s%s", o.exit, o.stdout, o.stderr)
	}
	next.upAnyhow()
	if o := next.command("unitas service"); !strings.Contains(o.stdout, "Of 4 instances 0 run as recorded, 0 are of another version, 4 have no machine") {
		t.Errorf("it finds: %s%s", o.stdout, o.stderr)
	}
	if n := len(next.machines()); n > 0 {
		t.Errorf("it launched %d before it may", n)
	}
	next.resumesInTheConsole()
	next.whole(4)
	next.eventually("it serves", func() error { return answers("http://" + next.front + "/") })
	if o := s.command("unitas restore " + archive + into); o.exit != 1 || !strings.Contains(o.stderr, "a service uses the data directory") {
		t.Errorf("one that is used is restored: %d %s", o.exit, o.stderr)
	}
	next.stop(syscall.SIGTERM)
	if o := s.command("unitas restore " + archive + into); o.exit != 1 || !strings.Contains(o.stderr, "tables already") {
		t.Errorf("records are mixed: %d %s", o.exit, o.stderr)
	}
}

// resumesInTheConsole has a restored service act, by the page of services.
func (s *service) resumesInTheConsole() {
	s.t.Helper()
	tab, stop, err := browser.Start(s.t.Context(), 1280, 800)
	if err != nil {
		s.t.Fatal(err)
	}
	defer stop()
	url := "http://" + s.listen
	for _, step := range []func() error{
		func() error { return browser.SignIn(tab, url, s.token) },
		func() error { return browser.Do(tab, chromedp.Navigate(url+"/services")) },
		func() error {
			return browser.Until(tab, `document.body.innerText.includes('4 have no machine') && document.body.innerText.includes('nothing is done to machines until somebody says so')`)
		},
		func() error { return browser.Button(tab, "Resume…") },
		func() error {
			return browser.Until(tab, `document.querySelector('.ant-modal')?.innerText.includes('0 with a machine of another version, 4 with none')`)
		},
		func() error {
			return browser.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('.ant-modal-footer .ant-btn-dangerous').click()`))
		},
		func() error { return browser.Until(tab, `!document.body.innerText.includes('To be decided')`) },
	} {
		if err := step(); err != nil {
			shown, _ := chromedp.Run(tab, chromedp.Evaluate[string](`document.body.innerText`))
			s.t.Fatalf("%v; the page shows:\n%s", err, shown)
		}
	}
}
