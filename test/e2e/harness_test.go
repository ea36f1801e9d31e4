// Package e2e drives the built binary as its users do: over HTTP, through the
// client, on the command line and in a browser.
package e2e

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/image"
	"unitas/internal/machine/process"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/porttest"
)

var (
	ctx = context.Background()
	bin string // directory of the built programs
)

func TestMain(m *testing.M) {
	pgtest.Main(m, func(dir string) error {
		bin = dir
		for _, args := range [][]string{
			{"-o", filepath.Join(bin, "unitas"), "unitas/cmd/unitas"},
			{"-o", filepath.Join(bin, "hostile"), "unitas/demo/hostile"},
			{"-ldflags", "-X main.release=1", "-o", filepath.Join(bin, "timetable-1"), "unitas/demo/timetable"},
			{"-ldflags", "-X main.release=2", "-o", filepath.Join(bin, "timetable-2"), "unitas/demo/timetable"},
		} {
			build := exec.Command("go", append([]string{"build"}, args...)...)
			build.Dir = "../.." // a module of its own
			build.Env = append(os.Environ(), "CGO_ENABLED=0")
			if raw, err := build.CombinedOutput(); err != nil {
				return fmt.Errorf("build: %w\n%s", err, raw)
			}
		}
		return nil
	})
}

// service is one unitas serve with a database and a directory of its own.
type service struct {
	t        testing.TB
	dir      string
	listen   string
	front    string // where the pool of the sample listens
	back     string // and where another may
	database string
	flags    []string // of serve, besides the usual
	binary   string   // another than the one that was built
	told     []string // variables that it has besides those of the test
	files    int      // that it may have open; 0 for as many as we may
	token    string
	cmd      *exec.Cmd
	log      *os.File
	api      *client.Client
}

const places = `
regions:
  - {name: harbour, zones: [east-pier, mid-pier, west-pier]}
  - {name: headland, zones: [north-slip, south-slip]}
`

func start(t testing.TB) *service { return startOn(t, pgtest.Database(t)) }

// startOn starts a service on a database, or with a private one when that is "".
func startOn(t testing.TB, database string, more ...func(*service)) *service {
	t.Helper()
	dir, err := os.MkdirTemp("", "unitas-e2e-")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	s := &service{t: t, dir: dir, listen: porttest.Free(t), front: porttest.Free(t), back: porttest.Free(t), database: database}
	for _, set := range more {
		set(s)
	}
	if s.log, err = os.Create(filepath.Join(dir, "service.log")); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if s.cmd != nil {
			s.stop(syscall.SIGTERM)
		}
		process.EndAll(filepath.Join(dir, "machines"))
		if t.Failed() {
			raw, _ := os.ReadFile(s.log.Name())
			t.Logf("the service's log:\n%s", raw)
		}
		s.log.Close()
		os.RemoveAll(dir)
	})
	if err := os.WriteFile(filepath.Join(dir, "places.yaml"), []byte(places), 0o600); err != nil {
		t.Fatal(err)
	}
	s.up()
	raw, err := os.ReadFile(filepath.Join(dir, "token"))
	if err != nil {
		t.Fatal(err)
	}
	s.token = strings.TrimSpace(string(raw))
	if s.api, err = client.Connect("http://"+s.listen, s.token); err != nil {
		t.Fatal(err)
	}
	return s
}

// up starts the binary and waits until it is ready.
func (s *service) up() {
	s.t.Helper()
	s.run()
	s.eventually("the service is ready", func() error { return answers("http://" + s.listen + "/readyz") })
}

// upAnyhow starts the binary and waits until it answers, ready or not.
func (s *service) upAnyhow() {
	s.t.Helper()
	s.run()
	s.eventually("the service answers", func() error { return answers("http://" + s.listen + "/healthz") })
}

func (s *service) run() {
	s.t.Helper()
	args := append([]string{cmp.Or(s.binary, filepath.Join(bin, "unitas")), "serve", "--listen", s.listen, "--data", s.dir, "--places", filepath.Join(s.dir, "places.yaml")}, s.flags...)
	if s.database != "" {
		args = append(args, "--database", s.database)
	}
	if s.files > 0 {
		args = append([]string{"/bin/sh", "-c", fmt.Sprintf(`ulimit -n %d; exec "$0" "$@"`, s.files)}, args...)
	}
	s.cmd = exec.Command(args[0], args[1:]...)
	s.cmd.Stdout, s.cmd.Stderr, s.cmd.Env = s.log, s.log, append(os.Environ(), s.told...)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := s.cmd.Start(); err != nil {
		s.t.Fatal(err)
	}
}

// stop ends the binary by the signal and returns how long it took.
func (s *service) stop(signal syscall.Signal) time.Duration {
	s.t.Helper()
	begun := time.Now()
	_ = s.cmd.Process.Signal(syscall.SIGCONT) // a test that failed may have left it standing still
	if err := s.cmd.Process.Signal(signal); err != nil {
		s.t.Error(err)
	}
	err := s.cmd.Wait()
	if signal == syscall.SIGTERM && err != nil {
		s.t.Errorf("the service stopped badly: %v", err)
	}
	s.cmd = nil
	return time.Since(begun)
}

func (s *service) machines() []int { return process.Pids(filepath.Join(s.dir, "machines")) }

// machinesOf are those of a group.
func (s *service) machinesOf(group string) (pids []int) {
	for _, pid := range s.machines() {
		if raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid)); bytes.Contains(raw, []byte("\x00UNITAS_GROUP="+group+"\x00")) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// eventually looks until it is so, for half a minute.
func (s *service) eventually(what string, look func() error) {
	s.t.Helper()
	limit := time.After(45 * time.Second)
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for {
		err := look()
		if err == nil {
			return
		}
		select {
		case <-limit:
			s.t.Fatalf("it never came to be that %s: %v", what, err)
		case <-tick.C:
		}
	}
}

// must takes the answer of a call that must succeed.
func must[T any](t testing.TB) func(v T, etag string, err error) T {
	return func(v T, _ string, err error) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

// archive packs one of the built workloads as an image.
func archive(t testing.TB, workload string) []byte {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join(bin, workload))
	if err != nil {
		t.Fatal(err)
	}
	return packed(t, image.File{Name: image.ManifestName, Content: []byte("start: [./timetable]\n")}, image.File{Name: "timetable", Content: raw})
}

func packed(t testing.TB, files ...image.File) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := image.Pack(&b, files...); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// answers reports whether a GET of the URL is answered 200.
func answers(url string) error {
	res, err := http.Get(url)
	if err != nil {
		return err
	}
	res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return errors.New(res.Status)
	}
	return nil
}

// stock brings in two image versions, three template versions (the third never
// becomes healthy), a check and a pool.
func (s *service) stock() {
	s.t.Helper()
	for _, workload := range []string{"timetable-1", "timetable-2"} {
		must[contract.Image](s.t)(client.Read[contract.Image](s.api.ImportImageWithBody(ctx, &contract.ImportImageParams{Name: "timetable"}, "application/octet-stream",
			bytes.NewReader(archive(s.t, workload)))))
	}
	good := contract.Environment{"WARM_UP": "100ms"}
	must[contract.Template](s.t)(client.Read[contract.Template](s.api.CreateTemplate(ctx, nil,
		contract.NewTemplate{Name: "timetable-web", Image: "timetable@1", Environment: &good})))
	second := "timetable@2"
	bad := contract.Environment{"WARM_UP": "100ms", "SAILINGS_FILE": "/srv/none"}
	for _, r := range []contract.TemplateRevision{{Image: &second, Note: "summer"}, {Environment: &bad, Note: "autumn"}} {
		must[contract.Template](s.t)(client.Read[contract.Template](s.api.ReviseTemplate(ctx, "timetable-web", nil, r)))
	}
	path, interval, fails := "/up", 0.2, 10 // a busy machine answers late; that is not what is tested
	must[contract.Check](s.t)(client.Read[contract.Check](s.api.CreateCheck(ctx, nil,
		contract.NewCheck{Name: "sailings-up", Kind: contract.NewCheckKindHttp, Path: &path, IntervalSeconds: &interval, Fails: &fails})))
	pool := must[contract.Pool](s.t)(client.Read[contract.Pool](s.api.CreatePool(ctx, nil, contract.NewPool{Name: "front", Listeners: &[]contract.PoolListener{{Address: s.front}}, Check: "sailings-up"})))
	if pool.Listeners[0].Trouble != "" {
		s.t.Fatalf("the listener is not open: %s", pool.Listeners[0].Trouble)
	}
}

// group makes the sample group with four instances and waits until all serve.
func (s *service) group(settle float64) {
	s.t.Helper()
	least, most, drain := 1, 9, 5.0
	pools, heal := []string{"front"}, "sailings-up"
	must[contract.Group](s.t)(client.Read[contract.Group](s.api.CreateGroup(ctx, nil, contract.NewGroup{Name: "timetable", Template: "timetable-web@1",
		Size: 4, Min: &least, Max: &most, Pools: &pools, Heal: &heal, SettleSeconds: &settle, DrainSeconds: &drain})))
	s.whole(4)
}

// whole waits until exactly n instances are there and all serve.
func (s *service) whole(n int) {
	s.t.Helper()
	s.eventually(fmt.Sprintf("%d serve and no other is there", n), func() error {
		g, _, err := client.Read[contract.Group](s.api.GetGroup(ctx, "timetable"))
		if err != nil {
			return err
		}
		if g.Summary.Serving != n || g.Summary.ComingUp+g.Summary.GoingOut+g.Summary.Unhealthy > 0 {
			return errors.New(g.Summary.Sentence)
		}
		if machines := len(s.machinesOf("timetable")); machines != n {
			return fmt.Errorf("%d machines", machines)
		}
		return nil
	})
}

func (s *service) rollOut(to string, waves ...string) contract.Rollout {
	s.t.Helper()
	above, soak := 2, 0.3
	return must[contract.Rollout](s.t)(client.Read[contract.Rollout](s.api.StartRollout(ctx, "timetable", nil,
		contract.NewRollout{To: to, Waves: &waves, Above: &above, SoakSeconds: &soak})))
}

func (s *service) rollout(number int64) contract.Rollout {
	s.t.Helper()
	return must[contract.Rollout](s.t)(client.Read[contract.Rollout](s.api.GetRollout(ctx, number)))
}

// becomes waits for a state of the rollout.
func (s *service) becomes(number int64, state contract.RolloutState) contract.Rollout {
	s.t.Helper()
	var r contract.Rollout
	s.eventually(fmt.Sprintf("the rollout is %s", state), func() error {
		var err error
		if r, _, err = client.Read[contract.Rollout](s.api.GetRollout(ctx, number)); err != nil {
			return err
		}
		if r.State != state {
			return errors.New(r.Sentence)
		}
		return nil
	})
	return r
}

func (s *service) tell(number int64, c contract.RolloutCommandCommand) contract.Rollout {
	s.t.Helper()
	whatever := "*"
	return must[contract.Rollout](s.t)(client.Read[contract.Rollout](s.api.TellRollout(ctx, number, &contract.TellRolloutParams{IfMatch: &whatever}, contract.RolloutCommand{Command: c})))
}

func (s *service) instances() []contract.Instance {
	s.t.Helper()
	group := "timetable"
	return must[contract.InstanceList](s.t)(client.Read[contract.InstanceList](s.api.ListInstances(ctx, &contract.ListInstancesParams{Group: &group}))).Items
}

func (s *service) journal(kind string) []contract.JournalEntry {
	s.t.Helper()
	group, limit := "timetable", 1000
	var found []contract.JournalEntry
	for _, e := range must[contract.JournalList](s.t)(client.Read[contract.JournalList](s.api.ListJournal(ctx, &contract.ListJournalParams{Group: &group, Limit: &limit}))).Items {
		if e.Because == "" || e.Text == "" {
			s.t.Errorf("entry %d has no cause: %+v", e.Number, e)
		}
		if kind == "" || e.Kind == kind {
			found = append(found, e)
		}
	}
	return found
}

// pidOf finds the process of an instance by its mark.
func (s *service) pidOf(instance string) int {
	s.t.Helper()
	for _, pid := range s.machines() {
		raw, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/environ")
		if bytes.Contains(raw, []byte("UNITAS_INSTANCE="+instance+"\x00")) {
			return pid
		}
	}
	s.t.Fatalf("%s has no process", instance)
	return 0
}
