package control

import (
	"context"
	"fmt"
	"math"
	"slices"
	"sync"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/caught"
	"unitas/internal/clock"
	"unitas/internal/fleet"
	"unitas/internal/fleet/metric"
	"unitas/internal/machine"
	"unitas/internal/store"
)

// How instances are measured: all at the same moment, from time to time, beside the keepers.

const (
	// sampleLimit is how long one round of measuring may take.
	sampleLimit = 10 * time.Second
	// rollAfter is how long after five minutes are over they are made one.
	rollAfter = 30 * time.Second
	// writeLimit is how long it may take to write a round down, whatever measuring took.
	writeLimit = 5 * time.Second
	// partsEvery is how often is looked after where samples are kept; what is over is dropped at the
	// second look, so this is for how long a clock may be wrong.
	partsEvery = 15 * time.Minute
)

// sampler measures the instances of the groups that are kept here. Its fields belong to its
// own goroutine.
type sampler struct {
	c *Control
	// had is what was known of each instance at the last round.
	had map[string]had
	// untaken is how many requests of each pool nobody took, at the last look, and of this one: where a
	// group of size 0 goes by requests. looked is when that was.
	untaken, untakenNow map[string]int64
	looked              time.Time
	// rolled is when was rolled up last; parts, on the monotonic clock, when was looked after where
	// it is kept, and over what was over then.
	rolled, parts time.Time
	over          map[string]bool
	scrapes       *scraper
	// owed are samples that could not be written.
	owed []store.Sample
}

// had is what an instance had used and passed at a time.
type had struct {
	at     time.Time // on the monotonic clock
	used   machine.Usage
	isUsed bool
	passed balancer.Passed
	isPass bool
}

// mostOwed is how many samples wait while the database does not answer.
const mostOwed = 2000

func newSampler(c *Control) *sampler {
	return &sampler{c: c, had: map[string]had{}, scrapes: newScraper()}
}

// run measures until the context ends.
func (s *sampler) run(ctx context.Context) {
	tick := time.NewTicker(s.c.SampleEvery)
	defer tick.Stop()
	for {
		s.upkeep(ctx)
		round, stop := context.WithTimeout(ctx, sampleLimit)
		s.round(round)
		stop()
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// upkeep makes room for samples and rolls them up. What fails is tried again.
func (s *sampler) upkeep(ctx context.Context) {
	now := s.c.Clock.Now()
	if s.parts.IsZero() || time.Since(s.parts) >= partsEvery {
		over, err := s.c.Store.KeepPartitions(ctx, now, s.over)
		if err != nil {
			s.c.warn("", "there is no room for samples yet; it is tried again", err)
			return
		}
		s.parts, s.over = time.Now(), over
	}
	if over := now.Add(-rollAfter).Truncate(store.RollupEvery); over.After(s.rolled) {
		if err := s.c.Store.RollUp(ctx, now.Add(-rollAfter)); err != nil {
			s.c.warn("", "samples were not rolled up; it is tried again", err)
			return
		}
		s.rolled = over
	}
}

// round measures all once, has the keepers know, and writes it down.
func (s *sampler) round(ctx context.Context) {
	begun := time.Now()
	moment := s.c.Clock.Moment()
	at := s.c.Clock.At(moment, s.c.Clock.Offset()).Truncate(time.Microsecond)
	var used map[string]machine.Usage
	if meter, ok := s.c.Machines.(machine.Meter); ok {
		var err error
		if used, err = meter.Usage(ctx); err != nil {
			s.c.warn("", "what machines use is not known", err)
		}
	}
	keepers := s.c.roster.all()
	pushed := s.pushed(ctx, at, keepers)
	next := make(map[string]had, len(s.had))
	s.untakenNow = map[string]int64{}
	var groups []*measured
	for _, k := range keepers {
		if m := s.measure(k, at, moment, begun, used, next); m != nil {
			m.take(pushed[k.name])
			groups = append(groups, m)
		}
	}
	s.had, s.untaken, s.looked = next, s.untakenNow, begun
	s.scrapes.all(ctx, groups)
	for _, m := range groups {
		samples := m.samples()
		for k := range samples {
			samples[k].Summarise()
		}
		if len(m.asks) > 0 { // others need decide nothing
			m.keeper.tell(ofSamples{moment, samples})
		}
		m.told = samples
		s.owed = append(s.owed, samples...)
	}
	var last []store.Sample
	for _, m := range groups {
		last = append(last, m.told...)
	}
	s.c.lastSamples.Store(&last)
	written, stop := context.WithTimeout(context.WithoutCancel(ctx), writeLimit)
	defer stop()
	s.write(written)
	s.sayBounded(written, groups)
	s.c.metrics.sampled(time.Since(begun))
}

// sayBounded writes into the journal which instances have as many processes as they may.
func (s *sampler) sayBounded(ctx context.Context, groups []*measured) {
	for _, m := range groups {
		for _, id := range m.bounded {
			err := s.c.Store.Record(ctx, s.c.Clock.Now(), store.Service, m.keeper.name, fleet.Entry{Kind: "instance.processes", Instance: id,
				Text:  fmt.Sprintf("%s has as many processes as its template gives it, and was refused others.", id),
				Cause: fleet.Because("it began more than it may have at once")})
			if err != nil {
				s.c.warn(m.keeper.name, "that an instance has as many processes as it may was not written", err)
			}
		}
	}
}

// pushed is what was sent lately, by group; only where some rule goes by it.
func (s *sampler) pushed(ctx context.Context, at time.Time, keepers []*keeper) map[string][]store.Pushed {
	asked := false
	for _, k := range keepers {
		if sh := k.shown.Load(); sh != nil {
			for _, n := range sh.asks {
				_, yes := n.Pushed()
				asked = asked || yes
			}
		}
	}
	if !asked {
		return nil
	}
	all, err := s.c.Store.Pushed(ctx, at.Add(-PushedFor))
	if err != nil {
		s.c.warn("", "what was pushed could not be read", err)
	}
	by := map[string][]store.Pushed{}
	for _, p := range all {
		by[p.Group] = append(by[p.Group], p)
	}
	return by
}

// PushedFor is for how long a value that was sent counts.
const PushedFor = 3 * metric.Every

// write writes what is owed. While the database does not answer the newest wait.
func (s *sampler) write(ctx context.Context) {
	if len(s.owed) == 0 {
		return
	}
	if err := s.c.Store.AddSamples(ctx, s.owed); err != nil {
		s.c.warn("", "samples were not written; they wait", err)
		if over := len(s.owed) - mostOwed; over > 0 {
			s.c.metrics.lostSamples.Add(float64(over))
			s.owed = append([]store.Sample{}, s.owed[over:]...)
		}
		return
	}
	s.owed = nil
}

// measured is what is measured of one group.
type measured struct {
	keeper  *keeper
	group   *fleet.Group
	at      time.Time
	serving int
	asks    []metric.Name // that rules and gates go by
	of      []one
	whole   map[metric.Name]float64 // of the group as a whole
	told    []store.Sample
	bounded []string // instances that were refused a process for the first time
}

// one is what is measured of one instance.
type one struct {
	id      string
	serial  int
	address string
	port    int
	values  map[metric.Name]float64
}

// measure takes what the machines and the balancer tell of a group's instances.
func (s *sampler) measure(k *keeper, at time.Time, moment clock.Reading, begun time.Time, used map[string]machine.Usage, next map[string]had) *measured {
	sh := k.shown.Load()
	if sh == nil {
		return nil
	}
	now := s.c.Clock.At(moment, sh.offset)
	m := &measured{keeper: k, group: &sh.group, asks: sh.asks, at: at, whole: map[metric.Name]float64{}}
	for i := range sh.all {
		in := &sh.all[i]
		if sh.group.Serves(&in.Instance) {
			m.serving++
		}
		h := had{at: begun}
		h.used, h.isUsed = used[in.ID]
		h.passed, h.isPass = s.c.Balancer.Passed(in.ID)
		before, seen := s.had[in.ID]
		if again := seen && before.used.Launch == h.used.Launch; h.used.Refused > 0 && !(again && before.used.Refused > 0) {
			m.bounded = append(m.bounded, in.ID)
		}
		next[in.ID] = h
		if !seen || !sh.group.Measures(now, &in.Instance) {
			continue // of one that is seen for the first time hardly anything is known
		}
		o := one{id: in.ID, serial: in.Serial, address: in.Address, port: sh.ports[in.Version], values: map[metric.Name]float64{}}
		if size, known := sh.sizes[in.Version]; known {
			o.tell(h, before, size)
		}
		m.of = append(m.of, o)
	}
	s.wanted(m, begun)
	return m
}

// wanted takes what comes to the pools of a group of size 0 and nobody takes: the requests that it would
// bear. They are counted for every group of the pool.
func (s *sampler) wanted(m *measured, now time.Time) {
	if m.group.Size > 0 || m.serving > 0 || !m.goesBy(metric.Requests) {
		return
	}
	over, rate, known := now.Sub(s.looked).Seconds(), 0.0, false
	for _, pool := range m.group.Pools {
		n := s.c.Balancer.Untaken(pool)
		s.untakenNow[pool] = n
		if was, seen := s.untaken[pool]; seen && over > 0 && n >= was {
			rate, known = rate+float64(n-was)/over, true
		}
	}
	if known {
		m.whole[metric.Requests] = rate
	}
}

// size is what a template gives an instance.
type size struct {
	cpus   float64
	memory int64
	digest string // of the image
}

// tell fills in what follows from two looks at an instance.
func (o *one) tell(now, before had, given size) {
	over := now.at.Sub(before.at).Seconds()
	both := !before.at.IsZero() && over > 0
	if now.isUsed {
		if given.memory > 0 {
			o.values[metric.Memory] = 100 * float64(now.used.MemoryBytes) / float64(given.memory)
		}
		if burnt := now.used.CPUSeconds - before.used.CPUSeconds; both && before.isUsed && before.used.Launch == now.used.Launch && burnt >= 0 && given.cpus > 0 {
			o.values[metric.CPU] = 100 * burnt / over / given.cpus
		}
	}
	if !both || !now.isPass || !before.isPass || now.passed.Requests < before.passed.Requests {
		return
	}
	o.values[metric.Requests] = float64(now.passed.Requests-before.passed.Requests) / over
	o.values[metric.NetworkIn] = float64(now.passed.BytesIn-before.passed.BytesIn) / over
	o.values[metric.NetworkOut] = float64(now.passed.BytesOut-before.passed.BytesOut) / over
	if ms, known := now.passed.Share(before.passed, 0.95); known {
		o.values[metric.Latency] = ms
	}
}

// take takes in what was sent.
func (m *measured) take(pushed []store.Pushed) {
	for _, p := range pushed {
		if p.Instance == "" {
			m.whole[metric.Name(p.Metric)] = p.Value
			continue
		}
		for k := range m.of {
			if m.of[k].id == p.Instance {
				m.of[k].values[metric.Name(p.Metric)] = p.Value
			}
		}
	}
}

// names are what is to be measured of a group: what always is, and what somebody goes by.
func (m *measured) names() []metric.Name {
	names := append([]metric.Name{}, metric.Measured...)
	for _, n := range m.asks {
		_, scraped := n.Scraped()
		_, pushed := n.Pushed()
		if scraped || pushed {
			names = append(names, n)
		}
	}
	return names
}

// samples are what is kept of the round: of each metric that somebody has, and of those that
// rules go by also when nobody has.
func (m *measured) samples() []store.Sample {
	var all []store.Sample
	seen := map[metric.Name]bool{}
	for _, name := range m.names() {
		if seen[name] {
			continue
		}
		seen[name] = true
		s := store.Sample{Group: m.group.Name, Metric: string(name), At: m.at, Serving: m.serving, Serials: []int32{}, Vals: []float32{}}
		if v, whole := m.whole[name]; whole {
			s.Serials, s.Vals = []int32{0}, []float32{float32(v)}
			all = append(all, s)
			continue
		}
		for k := range m.of {
			v, known := m.of[k].values[name]
			if !known || math.IsNaN(v) || math.IsInf(v, 0) {
				s.Missing++
				continue
			}
			s.Serials, s.Vals = append(s.Serials, int32(m.of[k].serial)), append(s.Vals, float32(v))
		}
		if name == metric.Latency { // who had no request has none
			s.Missing = 0
		}
		if len(s.Vals) > 0 || m.goesBy(name) {
			all = append(all, s)
		}
	}
	return all
}

func (m *measured) goesBy(name metric.Name) bool {
	return slices.Contains(m.asks, name)
}

// each calls f for all at once, so many at a time.
func each[T any](all []T, atOnce int, f func(T)) {
	var wait sync.WaitGroup
	slot := make(chan struct{}, atOnce)
	for _, v := range all {
		slot <- struct{}{}
		wait.Go(func() {
			defer caught.Told("measuring an instance", nil)
			defer func() { <-slot }()
			f(v)
		})
	}
	wait.Wait()
}
