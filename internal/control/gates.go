package control

import (
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/metric"
	"unitas/internal/store"
)

// lineMinutes is the window by which it is told what is slow.
const lineMinutes = 5

// comparing is what the gates of a rollout have seen until now. Only what this service sent
// on itself is counted: of several it is a part of the traffic, which tells the same.
type comparing struct {
	rollout int64
	resumed time.Time
	looked  time.Time // on the monotonic clock
	wave    int       // of which the lines are
	seen    []gate.Comparison
	had     map[string][]answered // by instance, for each gate, at the last look
	// stretch is when the stretch began of which the samples of gates on metrics are one outcome for each
	// instance, on the monotonic clock.
	stretch time.Time
	// sampled are the samples so far of gates on metrics, by instance and gate.
	sampled map[string][]gate.Count
}

// answered is what an instance had answered so far, as a gate sees it.
type answered struct {
	gate.Count
	counts bool
}

// compare takes in what was answered since the last look, as one block for each gate.
func (k *keeper) compare(now time.Time) {
	if k.rollout == nil || !k.rollout.Compares() {
		k.comparing, k.view.Seen = comparing{}, nil
		return
	}
	c, ro := &k.comparing, &k.rollout.Rollout
	if c.rollout != ro.ID || !c.resumed.Equal(ro.Resumed) || len(c.seen) != len(ro.Gates) {
		*c = comparing{rollout: ro.ID, resumed: ro.Resumed, seen: make([]gate.Comparison, len(ro.Gates)), sampled: map[string][]gate.Count{}}
		for i, g := range ro.Gates {
			c.seen[i] = g.Seen
		}
	}
	if time.Since(c.looked) >= fleet.GatesEvery {
		c.looked = time.Now()
		k.look(now, c)
	}
	k.view.Seen = slices.Clone(c.seen)
}

// look counts, for each gate, the answers of those that count now and did at the last look.
func (k *keeper) look(now time.Time, c *comparing) {
	ro := &k.rollout.Rollout
	k.drawLines(c)
	blocks := make([]struct{ fresh, old gate.Count }, len(ro.Gates))
	over := time.Since(c.stretch) >= gate.Stretch
	if over {
		c.stretch = time.Now()
	}
	next := make(map[string][]answered, len(k.view.Instances))
	for i := range k.view.Instances {
		in := &k.view.Instances[i]
		is, was := make([]answered, len(ro.Gates)), c.had[in.ID]
		for n, g := range ro.Gates {
			if !g.Kind.Compares() || !in.CountsFor(now, g) || (g.Kind == gate.Latency && c.seen[n].Line == 0) {
				continue
			}
			is[n].counts = true
			is[n].N, is[n].Bad = k.answers(in.ID, n, g, c.seen[n].Line)
			if was == nil || !was[n].counts || is[n].N < was[n].N || is[n].Bad < was[n].Bad { // it counts from now on, or anew
				continue
			}
			if g.Kind == gate.Metric && !over { // it is counted from the beginning of the stretch
				is[n] = was[n]
				continue
			}
			side := &blocks[n].fresh
			if in.Version != ro.To {
				if side = &blocks[n].old; !ro.RanBefore(in.Version) {
					continue
				}
			}
			came := gate.Count{N: is[n].N - was[n].N, Bad: is[n].Bad - was[n].Bad}
			if g.Kind == gate.Metric {
				came = came.Outcome(leastSamples)
			}
			side.N += came.N
			side.Bad += came.Bad
		}
		next[in.ID] = is
	}
	c.had = next
	for n, b := range blocks {
		c.seen[n] = c.seen[n].Add(b.fresh, b.old, ro.Gates[n].Margin).Traced(now)
		if b.fresh.N+b.old.N > 0 {
			k.fresh = true
		}
	}
}

// leastSamples is how many an instance must have had in a stretch: half of them.
const leastSamples = int64(gate.Stretch / metric.Every / 2)

// answers is what an instance has answered so far, and how much of it is bad; of a gate on a
// metric its samples.
func (k *keeper) answers(id string, number int, g gate.Gate, line time.Duration) (n, bad int64) {
	switch g.Kind {
	case gate.Latency:
		return k.ctl.Balancer.Slower(id, line)
	case gate.Metric:
		seen := k.comparing.sampled[id]
		if number >= len(seen) {
			return 0, 0
		}
		return seen[number].N, seen[number].Bad
	}
	return k.ctl.Balancer.Answered(id)
}

// drawLines fixes at the start of a wave, or as soon as there is something to tell it by,
// what answers are slow: slower than 95 of 100 of the old version's in the last five minutes.
func (k *keeper) drawLines(c *comparing) {
	ro := &k.rollout.Rollout
	anew := c.wave != ro.Wave+1
	c.wave = ro.Wave + 1
	for n, g := range ro.Gates {
		if g.Kind != gate.Latency || (!anew && c.seen[n].Line != 0) {
			continue
		}
		line := k.slowest(ro.From.String())
		if line == 0 || line == c.seen[n].Line {
			continue
		}
		c.seen[n].Line = line
		for _, had := range c.had { // counted against another line
			had[n].counts = false
		}
	}
}

// slowest is the 95th percentile of the time that a version took to answer in the pools of
// the group; 0 when it answered nothing.
func (k *keeper) slowest(version string) (line time.Duration) {
	for _, pool := range k.group.Pools {
		s, _ := k.ctl.Balancer.Stats(pool)
		for _, v := range s.Versions {
			for _, w := range v.Windows {
				if v.Version == version && w.Minutes == lineMinutes && w.Requests > 0 {
					line = max(line, time.Duration(w.P95*float64(time.Millisecond)))
				}
			}
		}
	}
	return line
}

// sample counts the samples of a round for the gates on metrics.
func (k *keeper) sample(all []store.Sample) {
	c := &k.comparing
	if k.rollout == nil || c.rollout != k.rollout.ID || c.sampled == nil {
		return
	}
	var bySerial map[int32]string
	for n, g := range k.rollout.Gates {
		if g.Kind != gate.Metric {
			continue
		}
		if bySerial == nil {
			bySerial = make(map[int32]string, len(k.view.Instances))
			for i := range k.view.Instances {
				bySerial[int32(k.view.Instances[i].Serial)] = k.view.Instances[i].ID
			}
		}
		for i := range all {
			if all[i].Metric != g.Metric {
				continue
			}
			for j, serial := range all[i].Serials {
				id, known := bySerial[serial]
				if !known {
					continue
				}
				if c.sampled[id] == nil {
					c.sampled[id] = make([]gate.Count, len(k.rollout.Gates))
				}
				c.sampled[id][n].N++
				if g.Past(float64(all[i].Vals[j])) {
					c.sampled[id][n].Bad++
				}
			}
		}
	}
	for id := range c.sampled {
		if k.kept[id] == nil {
			delete(c.sampled, id)
		}
	}
}

// asks are the metrics that somebody goes by: rules, and gates of the rollout.
func (k *keeper) asks() (all []metric.Name) {
	for i := range k.group.Rules {
		if n := k.group.Rules[i].Metric; n != "" {
			all = append(all, n)
		}
	}
	if k.rollout != nil {
		for _, g := range k.rollout.Gates {
			if g.Kind == gate.Metric {
				all = append(all, metric.Name(g.Metric))
			}
		}
	}
	return all
}
