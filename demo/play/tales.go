package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/client"
)

// tale is one part of what the product does, played on a service of its own.
type tale struct {
	name  string
	serve []string // more for the service
	play  func(d *demo, ctx context.Context) error
}

// tales are all of them; the first is played unless another is named.
var tales = []tale{
	{name: "rollout", play: (*demo).scenario},
	{name: "sizing", serve: []string{"--measure-every", "5s"}, play: (*demo).sizing},
	{name: "healing", play: (*demo).healing},
	{name: "images", play: (*demo).images},
}

func taleNames() string {
	names := make([]string, len(tales))
	for k, t := range tales {
		names[k] = t.name
	}
	return strings.Join(names, ", ")
}

// chosen are the tales of a name; "all" are all.
func chosen(name string) ([]tale, error) {
	if name == "all" {
		return tales, nil
	}
	for _, t := range tales {
		if t.name == name {
			return []tale{t}, nil
		}
	}
	return nil, fmt.Errorf("there is no tale %q; there are %s, and all", name, taleNames())
}

// bake makes one image version from the recipe.
func (d *demo) bake(ctx context.Context, v int) error {
	dir := filepath.Join(d.service.data, fmt.Sprintf("recipe-%d", v))
	raw, err := os.ReadFile(filepath.Join(d.workloads, fmt.Sprintf("timetable-%d", v)))
	if err == nil {
		err = errors.Join(os.MkdirAll(dir, 0o755), os.WriteFile(filepath.Join(dir, "timetable"), raw, 0o755),
			os.WriteFile(filepath.Join(dir, "recipe.yaml"), recipe, 0o644))
	}
	if err != nil {
		return fmt.Errorf("lay the recipe out: %w", err)
	}
	return d.command(ctx, "image", "bake", "timetable", "--recipe", filepath.Join(dir, "recipe.yaml"))
}

// commands are given one after another.
func (d *demo) commands(ctx context.Context, lines ...[]string) error {
	for _, args := range lines {
		if err := d.command(ctx, args...); err != nil {
			return err
		}
	}
	return nil
}

// passengers asks so many times a second through the listener, as said.
func (d *demo) passengers(aSecond int64) {
	if d.rate.Store(aSecond); d.stop != nil {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	d.stop = cancel
	d.running.Go(func() {
		c := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(time.Second / time.Duration(d.rate.Load())):
				d.running.Go(func() { d.request(ctx, c) })
			}
		}
	})
}

// awaitSize waits until so many serve, and as many are wanted.
func (d *demo) awaitSize(ctx context.Context, n int, limit time.Duration) error {
	begun, told := time.Now(), ""
	err := poll(ctx, limit, fmt.Sprintf("%d to serve", n), func() (bool, error) {
		g, _, err := client.Read[contract.Group](d.api.GetGroup(ctx, "timetable"))
		if err != nil {
			return false, err
		}
		if now := g.Summary.Sentence; now != told && len(told) == 0 {
			told = now
			say("%s", now)
		}
		return g.Size == n && g.Summary.Serving == n, nil
	})
	if err == nil {
		say("%d serve after %.0f s; %d requests sent, %d failed", n, time.Since(begun).Seconds(), d.sent.Load(), d.failed.Load())
	}
	return err
}

// atFront makes the check, the pool and a group of a size.
func (d *demo) atFront(ctx context.Context, size, least, most string) error {
	return d.commands(ctx,
		[]string{"check", "create", "sailings-up", "--path", "/up", "--interval", interval.String(), "--timeout", "400ms", "--fails", "3"},
		[]string{"pool", "create", "front", "--listen", d.front, "--check", "sailings-up"},
		[]string{"group", "create", "timetable", "--template", "timetable-web@1", "--size", size, "--min", least, "--max", most, "--pool", "front", "--heal", "sailings-up", "--settle", "6s", "--drain", "2s", "--watch"})
}

// sizing has a group follow what it has to bear: two grow to four and come back, and somebody is
// told by mail.
func (d *demo) sizing(ctx context.Context) error {
	chapter("the timetable, whose sailings are worked out anew for every passenger")
	if err := d.bake(ctx, 1); err != nil {
		return err
	}
	if err := d.command(ctx, "template", "create", "timetable-web", "--image", "timetable@1", "--cpus", "0.1", "--memory", "64MiB", "--environment", "WARM_UP=1s,WORK=4ms", "--price-per-hour", "0.04"); err != nil {
		return err
	}
	if err := d.atFront(ctx, "2", "2", "4"); err != nil {
		return err
	}
	chapter("a rule keeps its processors half busy, a calendar is looked at, and the engineer on call hears of it")
	if err := d.commands(ctx,
		[]string{"rule", "add", "timetable", "even", "steady", "--metric", "cpu", "--keep-at", "50", "--calm", "30s", "--shrink-rate", "100"},
		[]string{"rule", "add", "timetable", "regatta", "calendar", "--when", "0 8 * 7 6", "--time-zone", "Europe/Paris", "--duration", "10h", "--min", "4", "--dry-run"},
		[]string{"rule", "try", "timetable", "even", "--value", "90"},
		[]string{"notice", "add", "on-call", "--topic", "resizes,at-max", "--mail", "sre@saltmere.example", "--gather", "2s"}); err != nil {
		return err
	}
	chapter("a quiet morning: ten passengers a second")
	d.passengers(10)
	if err := poll(ctx, 40*time.Second, "cpu to be measured", func() (bool, error) {
		m, _, err := client.Read[contract.MetricList](d.api.ListMetrics(ctx, "timetable"))
		for _, one := range m.Items {
			if one.Name == "cpu" && one.Average != nil && *one.Average > 10 {
				return true, nil
			}
		}
		return false, err
	}); err != nil {
		return err
	}
	if err := d.commands(ctx, []string{"metric", "list", "timetable"}, []string{"rule", "list", "timetable"}); err != nil {
		return err
	}
	chapter("everybody wants to see the regatta: thirty a second")
	d.passengers(30)
	if err := d.awaitSize(ctx, 4, 60*time.Second); err != nil {
		return err
	}
	if err := d.command(ctx, "rule", "list", "timetable"); err != nil {
		return err
	}
	chapter("the boats are in: four a second, and once it has been calm the group comes back")
	d.passengers(4)
	if err := d.awaitSize(ctx, 2, 100*time.Second); err != nil {
		return err
	}
	chapter("what came of it")
	if err := d.commands(ctx, []string{"metric", "show", "timetable", "cpu", "--since", "3m"}, []string{"rule", "replay", "timetable", "--since", "5m"}, []string{"notice", "messages", "on-call"}); err != nil {
		return err
	}
	if err := poll(ctx, 20*time.Second, "the mails", func() (bool, error) { return len(d.post.Mails()) >= 2, nil }); err != nil {
		return err
	}
	mails := d.post.Mails()
	_, text, _ := strings.Cut(mails[0].Raw, "\r\n\r\n")
	say("the first of %d mails to %s:\n\n%s", len(mails), strings.Join(mails[0].To, ", "), indented(text, 24))
	return d.noneFailed()
}

// indented are the first lines of a text, further in.
func indented(text string, most int) string {
	var b strings.Builder
	for line := range strings.Lines(strings.ReplaceAll(text, "\r", "")) {
		if most--; most < 0 {
			break
		}
		b.WriteString("    " + line)
	}
	return b.String()
}

func (d *demo) noneFailed() error {
	d.stopTraffic()
	if n := d.failed.Load(); n > 0 {
		return fmt.Errorf("%d of %d requests failed, the first with: %s", n, d.sent.Load(), *d.firstFailure.Load())
	}
	say("%d requests were sent, none failed", d.sent.Load())
	return nil
}

// healing has instances hang and end, and the group mend itself.
func (d *demo) healing(ctx context.Context) error {
	chapter("four instances over three piers")
	if err := d.bake(ctx, 1); err != nil {
		return err
	}
	if err := d.command(ctx, "template", "create", "timetable-web", "--image", "timetable@1", "--memory", "64MiB", "--environment", "WARM_UP=1s"); err != nil {
		return err
	}
	if err := d.atFront(ctx, "4", "2", "6"); err != nil {
		return err
	}
	d.passengers(40)
	for _, fault := range []string{"crash", "hang"} {
		chapter("one of them: " + fault)
		ins, _, err := client.Read[contract.InstanceList](d.api.ListInstances(ctx, &contract.ListInstancesParams{}))
		if err != nil {
			return err
		}
		ill := ins.Items[0].Id
		if err := d.command(ctx, "drill", "start", fault, "--instance", ill, "--for", "20s", "--reason", "the demo"); err != nil {
			return err
		}
		if err := poll(ctx, 60*time.Second, "another in its place", func() (bool, error) {
			all, _, err := client.Read[contract.InstanceList](d.api.ListInstances(ctx, &contract.ListInstancesParams{}))
			serving := 0
			for _, in := range all.Items {
				if in.Id == ill {
					return false, err
				}
				if in.State == contract.InstanceStateServing {
					serving++
				}
			}
			return serving == 4, err
		}); err != nil {
			return err
		}
		if err := d.command(ctx, "why", ill); err != nil {
			return err
		}
	}
	if err := d.command(ctx, "group", "show", "timetable"); err != nil {
		return err
	}
	d.stopTraffic()
	if sent, failed := d.sent.Load(), d.failed.Load(); failed*20 > sent { // a hung instance keeps what it has in hand
		return fmt.Errorf("%d of %d requests failed, the first with: %s", failed, sent, *d.firstFailure.Load())
	}
	say("%d requests were sent, %d failed: those that an instance had in hand as it was stopped", d.sent.Load(), d.failed.Load())
	return nil
}

// images brings versions in, marks, copies and withdraws them, and makes one from what runs.
func (d *demo) images(ctx context.Context) error {
	chapter("two versions are baked, one of them is marked and copied")
	if err := errors.Join(d.bake(ctx, 1), d.bake(ctx, 2)); err != nil {
		return err
	}
	if err := d.commands(ctx, []string{"image", "mark", "timetable@2", "stable"}, []string{"image", "copy", "timetable@stable", "--to", "headland"}, []string{"image", "list"}); err != nil {
		return err
	}
	chapter("one is made from an instance that serves, and the oldest is withdrawn")
	if err := d.command(ctx, "template", "create", "timetable-web", "--image", "timetable@stable", "--memory", "64MiB", "--environment", "WARM_UP=1s"); err != nil {
		return err
	}
	if err := d.atFront(ctx, "1", "1", "2"); err != nil {
		return err
	}
	d.passengers(20)
	if err := d.commands(ctx, []string{"image", "from-instance", "timetable-001", "--name", "timetable-patched"}, []string{"image", "withdraw", "timetable@1", "--reason", "superseded", "--yes"},
		[]string{"image", "show", "timetable-patched@1"}); err != nil {
		return err
	}
	return d.noneFailed()
}
