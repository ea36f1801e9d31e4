package e2e

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/image"
	"unitas/internal/pgserver/pgtest"
)

// beside is what the campaign has beside the group that its faults are about: a good group of the same
// services, a service of its own with a directory and a database of its own, a workload that means ill,
// and a receiver of notices that never answers.
type beside struct {
	berths, other *traffic
	set           string // the file that says by how much the clock is set
	elsewhere     string // a data directory that is not the database's
}

func (b *beside) begin(c *campaign, first *service) {
	c.t.Helper()
	do := func(line string) {
		c.t.Helper()
		if o := first.command(line); o.exit != 0 {
			c.t.Fatalf("$ %s\nended with %d: %s%s", line, o.exit, o.stdout, o.stderr)
		}
	}
	do("unitas pool create quay --listen " + first.back + " --check sailings-up")
	do("unitas group create berths --template timetable-web@1 --size 3 --max 3 --settle 4s --drain 5s --pool quay --heal sailings-up --wait")
	program, err := os.ReadFile(filepath.Join(bin, "hostile"))
	if err != nil {
		c.t.Fatal(err)
	}
	must[contract.Image](c.t)(client.Read[contract.Image](first.api.ImportImageWithBody(ctx, &contract.ImportImageParams{Name: "hostile"}, "application/octet-stream",
		bytes.NewReader(packed(c.t, image.File{Name: image.ManifestName, Content: []byte("start: [./hostile]\n")}, image.File{Name: "hostile", Content: program})))))
	do(`unitas template create hostile --image hostile@1 --disk 32MiB --processes 64 --user-data-text "#!/bin/sh" --environment "KNOCK=` + first.listen + " " + first.front + " " + first.back + `"`)
	do("unitas check create hostile-up --kind http --path /up --interval 300ms --timeout 300ms --fails 5")
	do("unitas group create hostile --template hostile@1 --size 2 --max 2 --settle 4s --heal hostile-up")
	do(`unitas rule add hostile waiting trip --metric scrape:waiting --threshold "above 1 for 1m: +1" --off`)
	do("unitas notice add deaf --topic launches,removals,resizes,heals,failed-launches --gather 0s --send http://" + deaf(c.t))
	b.berths = first.trafficTo(first.back, 20*time.Millisecond, &http.Transport{DisableKeepAlives: true})

	apart := startOn(c.t, pgtest.Database(c.t))
	apart.stock()
	apart.group(4)
	b.other = apart.trafficTo(apart.front, 20*time.Millisecond, &http.Transport{DisableKeepAlives: true})
	b.elsewhere = c.t.TempDir()
}

// deaf is the address of one that takes what it is sent, and never answers.
func deaf(t testing.TB) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() { _, _ = io.Copy(io.Discard, conn) }()
		}
	}()
	return l.Addr().String()
}

// noticeNothing says what others noticed of the campaign.
func (b *beside) noticeNothing(c *campaign) {
	c.t.Helper()
	c.asked().eventually("all berths serve", func() error {
		g, _, err := client.Read[contract.Group](c.all[0].api.GetGroup(ctx, "berths"))
		if err == nil && g.Summary.Serving != 3 {
			err = fmt.Errorf("%s", g.Summary.Sentence)
		}
		return err
	})
	group, limit := "berths", 1000
	ordered := 0
	for _, e := range must[contract.JournalList](c.t)(client.Read[contract.JournalList](c.all[0].api.ListJournal(ctx, &contract.ListJournalParams{Group: &group, Limit: &limit}))).Items {
		if e.Kind == "instance.ordered" {
			ordered += max(1, len(about(e)))
		}
	}
	if ordered != 3 {
		c.t.Errorf("of the berths %d were ordered, and 3 are", ordered)
	}
	for name, tr := range map[string]struct {
		*traffic
		forgiven int64
	}{"the berths": {b.berths, c.forgiven}, "the other service": {b.other, 0}} {
		if failed := tr.failed.Load(); failed > tr.forgiven {
			c.t.Errorf("%d of %d requests to %s failed, and %d may have: %s", failed, tr.sent.Load(), name, tr.forgiven, *tr.first.Load())
		}
	}
}

// over ends it, and looks whether the hostile ones were there, and what they got.
func (b *beside) over(c *campaign) {
	c.t.Helper()
	b.berths.stop()
	b.other.stop()
	first := c.all[0]
	if b.berths.sent.Load() == 0 || b.other.sent.Load() == 0 {
		c.t.Error("nobody asked beside the campaign")
	}
	bounded := false
	for _, e := range must[contract.JournalList](c.t)(client.Read[contract.JournalList](first.api.ListJournal(ctx, &contract.ListJournalParams{Group: of("hostile"), Limit: of(1000)}))).Items {
		bounded = bounded || e.Kind == "instance.processes"
	}
	if os.Geteuid() != 0 {
		return // machines have no users of their own
	}
	if !bounded {
		c.t.Error("the journal does not say that the hostile ones may have no more processes")
	}
	logs, _ := filepath.Glob(filepath.Join(first.dir, "machines", "hostile-*", "boot.log"))
	kept, _ := filepath.Glob(filepath.Join(first.dir, "boot-logs", "hostile-*"))
	for _, log := range append(logs, kept...) {
		raw, err := os.ReadFile(log)
		for _, deed := range []string{"hostile killed", "hostile read", "hostile may write"} {
			if at := bytes.Index(raw, []byte(deed)); err == nil && at >= 0 {
				c.t.Errorf("%s: %.200s", log, raw[at:])
			}
		}
	}
	if len(logs) == 0 {
		c.t.Error("no hostile one is left")
	}
}

func of[T any](v T) *T { return &v }

// settableClock has services run whose clock a file sets; the host's is left alone.
func (c *campaign) settableClock(s *service) {
	c.t.Helper()
	s.binary = filepath.Join(bin, "unitas-setclock")
	build := exec.Command("go", "build", "-tags", "setclock", "-o", s.binary, "unitas/cmd/unitas")
	build.Dir = "../.."
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if raw, err := build.CombinedOutput(); err != nil {
		c.t.Fatalf("build: %v\n%s", err, raw)
	}
	c.beside.set = filepath.Join(c.t.TempDir(), "clock")
	s.told = []string{"UNITAS_SET_CLOCK=" + c.beside.set}
}

// setClock sets the clock of the services by a day and more, ahead or back, and then right again.
func (c *campaign) setClock(who *service, pause time.Duration) {
	by := time.Duration(25+c.rand.IntN(50)) * time.Hour
	if c.rand.IntN(2) == 0 {
		by = -by
	}
	c.say("the clock is set by %s for %s", by, pause)
	if err := os.WriteFile(c.beside.set, []byte(by.String()), 0o600); err != nil {
		c.t.Fatal(err)
	}
	c.resize(who)
	time.Sleep(pause)
	if err := os.Remove(c.beside.set); err != nil {
		c.t.Fatal(err)
	}
}

// stranger starts a service on the database with a directory that is not its own.
func (c *campaign) stranger(*service, time.Duration) {
	c.say("a stranger comes")
	if said := c.all[0].refusesToStart(c.beside.elsewhere); !strings.Contains(said, "--moved") {
		c.t.Errorf("a stranger was told: %s", said)
	}
}
