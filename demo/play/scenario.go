package main

import (
	"context"
	_ "embed" // the recipe
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"text/tabwriter"
	"time"

	"unitas/api/contract"
	"unitas/client"
)

// The scenario's own times, which the shortest possible rollout is made of.
const (
	size     = 6
	above    = 2
	warmUp   = 2 * time.Second // the workload's, until it is ready
	soak     = 5 * time.Second
	interval = 500 * time.Millisecond // of the check
	settle   = 8 * time.Second
	// longSoak gives a gate time to see enough.
	longSoak = time.Minute
)

func say(format string, args ...any) {
	fmt.Printf("%s  %s\n", time.Now().Format("15:04:05"), fmt.Sprintf(format, args...))
}

func chapter(text string) {
	fmt.Printf("\n── %s %s\n", text, strings.Repeat("─", max(0, 74-len([]rune(text)))))
}

type demo struct {
	*service
	options
	begun time.Time

	sent, failed  atomic.Int64
	failedBefore  int64 // before version 3 came
	failedAfter   int64 // when it was gone
	firstFailure  atomic.Pointer[string]
	lowest        atomic.Int64
	stop          context.CancelFunc
	rate          atomic.Int64 // of passengers, in tales of their own
	running       sync.WaitGroup
	good, bad     contract.Rollout
	failing       contract.Rollout
	lastInstances contract.Group
}

func (d *demo) scenario(ctx context.Context) error {
	chapter("Saltmere Line brings in its timetable")
	if err := d.bringIn(ctx); err != nil {
		return err
	}
	chapter("six instances over three piers")
	if err := d.makeGroup(ctx); err != nil {
		return err
	}
	chapter("passengers ask for sailings, all the time from here on")
	d.startTraffic()
	if err := poll(ctx, 10*time.Second, "the first answers", func() (bool, error) { return d.sent.Load() > 100, nil }); err != nil {
		return err
	}
	say("%d requests sent, %d failed", d.sent.Load(), d.failed.Load())

	chapter("version 2 is rehearsed, and then goes out in three waves")
	if err := d.command(ctx, "rollout", "rehearse", "timetable", "--to", "timetable-web@2", "--waves", "1,50%,100%", "--above", strconv.Itoa(above), "--soak", soak.String()); err != nil {
		return err
	}
	var err error
	if d.good, err = d.rollOut(ctx, "timetable-web@2", soak); err != nil {
		return err
	}
	if d.good.State != contract.RolloutStateDone {
		return fmt.Errorf("the rollout of version 2 is %s: %s", d.good.State, d.good.Why)
	}
	number := strconv.FormatInt(d.good.Number, 10)
	if err := errors.Join(d.command(ctx, "rollout", "show", number), d.command(ctx, "rollout", "replay", number)); err != nil {
		return err
	}
	chapter("version 3 is well by its check and fails 5 % of its requests: its gate must send it back")
	d.failedBefore = d.failed.Load()
	if d.failing, err = d.rollOut(ctx, "timetable-web@3", longSoak); err != nil {
		return err
	}
	if d.failing.State != contract.RolloutStateReverted || len(d.failing.Gates) != 1 {
		return fmt.Errorf("the rollout of version 3 is %s: %s", d.failing.State, d.failing.Why)
	}
	d.failedAfter = d.failed.Load()
	chapter("version 4 never becomes healthy, and must hold itself")
	if d.bad, err = d.rollOut(ctx, "timetable-web@4", soak); err != nil {
		return err
	}
	if d.bad.State != contract.RolloutStateHeld {
		return fmt.Errorf("the rollout of version 4 is %s: %s", d.bad.State, d.bad.Why)
	}
	say("a person looks at the boot log, and reverts")
	whatever, reason := "*", "the sailings file is not on the image"
	if _, _, err := client.Read[contract.Rollout](d.api.TellRollout(ctx, d.bad.Number, &contract.TellRolloutParams{IfMatch: &whatever},
		contract.RolloutCommand{Command: contract.RolloutCommandCommandRevert, Reason: &reason})); err != nil {
		return err
	}
	if d.bad, err = d.follow(ctx, d.bad.Number); err != nil {
		return err
	}
	if d.lastInstances, _, err = client.Read[contract.Group](d.api.GetGroup(ctx, "timetable")); err != nil {
		return err
	}
	d.report()
	return nil
}

// recipe is what the demo bakes its image from.
//
//go:embed recipe.yaml
var recipe []byte

// command runs the command line as a person would and shows what it prints.
func (d *demo) command(ctx context.Context, args ...string) error {
	fmt.Printf("\n  $ unitas %s\n", strings.Join(args, " "))
	cmd := exec.CommandContext(ctx, d.unitas, args...)
	cmd.Env = append(os.Environ(), "UNITAS_SERVER="+d.url, "UNITAS_TOKEN="+d.token)
	raw, err := cmd.CombinedOutput()
	for line := range strings.Lines(string(raw)) {
		fmt.Print("  " + line)
	}
	fmt.Println()
	if err != nil {
		return fmt.Errorf("unitas %s: %w", strings.Join(args, " "), err)
	}
	return nil
}

// bringIn bakes two image versions from a recipe and makes four template
// versions.
func (d *demo) bringIn(ctx context.Context) error {
	for v := 1; v <= 2; v++ {
		if err := d.bake(ctx, v); err != nil {
			return err
		}
	}
	if err := d.command(ctx, "image", "mark", "timetable@2", "stable"); err != nil {
		return err
	}
	if err := d.command(ctx, "image", "copy", "timetable@stable", "--to", "headland"); err != nil {
		return err
	}
	for season, text := range map[string]string{"spring": "from 1 March", "summer": "from 1 June, with the night boat"} {
		script := "#!/bin/sh\n# Runs once, at first boot.\necho \"the " + season + " sailings, " + text + "\" | tee season\n"
		if err := os.WriteFile(filepath.Join(d.service.data, season+".sh"), []byte(script), 0o644); err != nil {
			return err
		}
	}
	return errors.Join(
		d.command(ctx, "template", "create", "timetable-web", "--image", "timetable@1", "--memory", "64MiB", "--environment", "WARM_UP="+warmUp.String()+",LOOK_UP=15ms",
			"--label", "service=timetable", "--user-data", filepath.Join(d.service.data, "spring.sh"), "--price-per-hour", "0.04", "--zone-price", "west-pier=0.05", "--note", "the spring sailings"),
		d.command(ctx, "template", "revise", "timetable-web", "--image", "timetable@stable", "--memory", "96MiB", "--user-data", filepath.Join(d.service.data, "summer.sh"),
			"--note", "the summer sailings"),
		d.command(ctx, "template", "diff", "timetable-web@1", "timetable-web@2"),
		d.command(ctx, "template", "revise", "timetable-web", "--environment", "WARM_UP="+warmUp.String()+",LOOK_UP=15ms"+",ERROR_PERCENT=5", "--note", "the autumn sailings, half tested"),
		d.command(ctx, "template", "revise", "timetable-web", "--from", "2", "--environment", "WARM_UP="+warmUp.String()+",LOOK_UP=15ms"+",SAILINGS_FILE=/srv/sailings-winter.csv",
			"--note", "reads the winter sailings from a file"))
}

func (d *demo) makeGroup(ctx context.Context) error {
	path, every, timeout, fails := "/up", interval.Seconds(), 0.4, 3
	if _, _, err := client.Read[contract.Check](d.api.CreateCheck(ctx, nil, contract.NewCheck{
		Name: "sailings-up", Kind: contract.NewCheckKindHttp, Path: &path, IntervalSeconds: &every, TimeoutSeconds: &timeout, Fails: &fails,
	})); err != nil {
		return err
	}
	say("check sailings-up asks http port 8080 for /up every 500 ms; 2 good answers make healthy, 3 bad ones unhealthy")
	if _, _, err := client.Read[contract.Pool](d.api.CreatePool(ctx, nil, contract.NewPool{Name: "front", Listeners: &[]contract.PoolListener{{Address: d.front}}, Check: "sailings-up"})); err != nil {
		return err
	}
	say("pool front listens on %s", d.front)
	none, least, most, settleSeconds, drain := 0, 3, 9, settle.Seconds(), 5.0
	pools, heal := []string{"front"}, "sailings-up"
	g, _, err := client.Read[contract.Group](d.api.CreateGroup(ctx, nil, contract.NewGroup{
		Name: "timetable", Template: "timetable-web@1", Size: 0, Min: &none, Max: &most, Pools: &pools, Heal: &heal,
		SettleSeconds: &settleSeconds, DrainSeconds: &drain, Labels: &contract.Labels{"service": "timetable"},
	}))
	if err != nil {
		return err
	}
	if err := d.addHook(ctx); err != nil {
		return err
	}
	whatever, six := "*", size
	if g, _, err = client.Read[contract.Group](d.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &six, Min: &least})); err != nil {
		return err
	}
	say("group %s is made: %d of %s, between %d and %d", g.Name, g.Size, g.Template, g.Min, g.Max)
	begun := time.Now()
	serving := -1
	return poll(ctx, 60*time.Second, "six instances to serve", func() (bool, error) {
		g, _, err := client.Read[contract.Group](d.api.GetGroup(ctx, "timetable"))
		if err != nil {
			return false, err
		}
		if g.Summary.Serving != serving {
			serving = g.Summary.Serving
			say("%s", g.Summary.Sentence)
		}
		if serving == size {
			say("all serve after %.1f s", time.Since(begun).Seconds())
		}
		return serving == size, nil
	})
}

// addHook has a receiver fill the cache of each new instance before it serves.
func (d *demo) addHook(ctx context.Context) error {
	at, err := d.startReceiver(ctx, d.options)
	if err != nil {
		return err
	}
	if err := d.command(ctx, "hook", "add", "timetable", "warm-cache", "--at", "launch", "--deadline", "20s", "--send", "http://"+at+"/warm"); err != nil {
		return err
	}
	secret, _, err := client.Read[contract.HookSecret](d.api.GetHookSecret(ctx, "timetable", "warm-cache"))
	if err == nil {
		err = os.WriteFile(d.secretFile(), []byte(secret.Secret+"\n"), 0o600)
	}
	if err != nil {
		return err
	}
	return d.command(ctx, "hook", "try", "timetable", "warm-cache")
}

// startTraffic has passengers ask through the listener, and watches how many
// instances serve.
func (d *demo) startTraffic() {
	ctx, cancel := context.WithCancel(context.Background())
	d.stop = cancel
	d.lowest.Store(size)
	for range 4 {
		d.running.Go(func() {
			c := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{}}
			pace := time.NewTicker(20 * time.Millisecond)
			defer pace.Stop()
			for {
				select {
				case <-ctx.Done():
					return
				case <-pace.C:
					d.request(ctx, c)
				}
			}
		})
	}
	d.running.Go(func() {
		tick := time.NewTicker(50 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			g, _, err := client.Read[contract.Group](d.api.GetGroup(ctx, "timetable"))
			if err == nil && int64(g.Summary.Serving) < d.lowest.Load() {
				d.lowest.Store(int64(g.Summary.Serving))
			}
		}
	})
}

func (d *demo) request(ctx context.Context, c *http.Client) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+d.front+"/", nil)
	if err != nil {
		return
	}
	res, err := c.Do(req)
	if ctx.Err() != nil {
		return
	}
	d.sent.Add(1)
	failure := ""
	switch {
	case err != nil:
		failure = err.Error()
	default:
		res.Body.Close()
		if res.StatusCode != http.StatusOK {
			failure = res.Status
		}
	}
	if failure != "" {
		d.failed.Add(1)
		d.firstFailure.CompareAndSwap(nil, &failure)
	}
}

func (d *demo) stopTraffic() {
	if d.stop != nil {
		d.stop()
		d.running.Wait()
	}
}

func (d *demo) rollOut(ctx context.Context, to string, soak time.Duration) (contract.Rollout, error) {
	waves, up, down, soaks := []string{"1", "50%", "100%"}, above, 0, soak.Seconds()
	r, _, err := client.Read[contract.Rollout](d.api.StartRollout(ctx, "timetable", nil, contract.NewRollout{
		To: to, Waves: &waves, Above: &up, Below: &down, SoakSeconds: &soaks,
	}))
	if err != nil {
		return r, err
	}
	say("rollout %d: %s → %s, waves 1, 50%% and 100%%, up to %d above the size and none below, each wave soaks %g s", r.Number, r.From, r.To, above, soak.Seconds())
	return d.follow(ctx, r.Number)
}

// follow tells what happens until the rollout ends or is held.
func (d *demo) follow(ctx context.Context, number int64) (contract.Rollout, error) {
	var r contract.Rollout
	told := ""
	err := poll(ctx, 3*time.Minute, "the rollout", func() (bool, error) {
		var err error
		if r, _, err = client.Read[contract.Rollout](d.api.GetRollout(ctx, number)); err != nil {
			return false, err
		}
		now := fmt.Sprint(r.State, r.Wave)
		if now != told {
			told = now
			switch r.State {
			case contract.RolloutStateMoving:
				say("wave %d of %d: brings %d of %d to %s", r.Wave, len(r.Waves), r.Waves[r.Wave-1].UpTo, size, r.To)
			case contract.RolloutStateSoaking:
				w := r.Waves[r.Wave-1]
				say("wave %d is replaced after %.1f s and soaks; %d requests sent, %d failed", r.Wave, w.FilledAt.Sub(*w.StartedAt).Seconds(), d.sent.Load(), d.failed.Load())
			default:
				say("%s", r.Sentence)
			}
		}
		return r.EndedAt != nil || r.State == contract.RolloutStateHeld, nil
	})
	return r, err
}

// shortest is the least time of a wave that the scenario's own warm-up, drain
// and soak allow, with the two good answers that the check asks for: the hook fills the cache
// meanwhile, and drains take no time here, as every request is over at once.
func shortest(replaced int) time.Duration {
	return time.Duration((replaced+above-1)/above)*(warmUp+interval) + soak
}

func (d *demo) report() {
	chapter("what came of it")
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 3, ' ', 0)
	for _, v := range d.lastInstances.Summary.Versions {
		fmt.Fprintf(w, "instances on %s\t%d, %d serving\n", v.Version, v.Counted, v.Serving)
	}
	fmt.Fprintf(w, "requests sent\t%d\n", d.sent.Load())
	fmt.Fprintf(w, "requests failed\t%d, and %d of those that version 3 answered\n", d.failed.Load()-(d.failedAfter-d.failedBefore), d.failedAfter-d.failedBefore)
	fmt.Fprintf(w, "lowest serving count seen\t%d of %d\n", d.lowest.Load(), size)
	before := 0
	for i, wave := range d.good.Waves {
		if wave.StartedAt == nil || wave.PassedAt == nil {
			continue
		}
		took, least := wave.PassedAt.Sub(*wave.StartedAt), shortest(wave.UpTo-before)
		fmt.Fprintf(w, "version 2, wave %d (%d of %d)\t%.1f s, shortest possible %.1f s, ratio %.2f\n", i+1, wave.UpTo, size, took.Seconds(), least.Seconds(), took.Seconds()/least.Seconds())
		before = wave.UpTo
	}
	if took, least := d.ratio(); least > 0 {
		fmt.Fprintf(w, "version 2, whole rollout\t%.1f s, shortest possible %.1f s, ratio %.2f\n", took.Seconds(), least.Seconds(), took.Seconds()/least.Seconds())
	}
	fmt.Fprintf(w, "version 3\t%s after %.1f s: %s\n", d.failing.State, d.failing.EndedAt.Sub(d.failing.StartedAt).Seconds(), d.failing.Why)
	fmt.Fprintf(w, "version 4\t%s: %s\n", d.bad.State, d.bad.Why)
	w.Flush()
}

func (d *demo) ratio() (took, least time.Duration) {
	before := 0
	for _, wave := range d.good.Waves {
		least += shortest(wave.UpTo - before)
		before = wave.UpTo
	}
	if d.good.EndedAt == nil {
		return 0, 0
	}
	return d.good.EndedAt.Sub(d.good.StartedAt), least
}

// verdict is nil only when all went as it must.
func (d *demo) verdict() error {
	d.stopTraffic()
	var all []error
	if d.good.State != contract.RolloutStateDone {
		all = append(all, fmt.Errorf("the rollout of version 2 is %q, not done", d.good.State))
	}
	if d.bad.State != contract.RolloutStateReverted {
		all = append(all, fmt.Errorf("the rollout of version 4 is %q, not reverted", d.bad.State))
	}
	if d.failing.State != contract.RolloutStateReverted {
		all = append(all, fmt.Errorf("the rollout of version 3 is %q, not reverted", d.failing.State))
	}
	if n := d.failed.Load() - (d.failedAfter - d.failedBefore); n > 0 {
		all = append(all, fmt.Errorf("%d requests failed, the first with: %s", n, *d.firstFailure.Load()))
	}
	if n := d.lowest.Load(); n < size {
		all = append(all, fmt.Errorf("only %d of %d served at one time", n, size))
	}
	return errors.Join(all...)
}
