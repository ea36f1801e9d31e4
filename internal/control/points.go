package control

import (
	"context"
	"slices"
	"time"

	"unitas/internal/clock"
	"unitas/internal/fleet/metric"
	"unitas/internal/store"
)

// ofSamples is what was measured of a group at one moment.
type ofSamples struct {
	at  clock.Reading
	all []store.Sample
}

func (ofSamples) isFact() {}

// measure takes in what was measured: a point for each rule that goes by a metric. The group
// is decided on then.
func (k *keeper) measure(f ofSamples) {
	if k.view.Sizing.Points == nil {
		k.view.Sizing.Points = map[string][]metric.Point{}
	}
	k.sample(f.all)
	for i := range k.group.Rules {
		r := &k.group.Rules[i]
		for n := range f.all {
			if s := &f.all[n]; s.Metric == string(r.Metric) {
				p := s.Point(r.Aggregate)
				p.At = k.ctl.Clock.At(f.at, k.offset)
				k.addPoint(r.Name, r.LooksBack(), p)
			}
		}
	}
}

// movePoints moves what was measured as the clock was set.
func (k *keeper) movePoints(by time.Duration) {
	for rule, points := range k.view.Sizing.Points {
		moved := slices.Clone(points)
		for i := range moved {
			moved[i].At = moved[i].At.Add(by)
		}
		k.view.Sizing.Points[rule] = moved
	}
}

// addPoint adds what was measured to what a rule goes by, and forgets what is too old.
func (k *keeper) addPoint(rule string, back time.Duration, p metric.Point) {
	points := k.view.Sizing.Points[rule]
	if n := len(points); n > 0 && !p.At.After(points[n-1].At) {
		return
	}
	points = append(points, p)
	old := 0
	for old < len(points) && p.At.Sub(points[old].At) > back {
		old++
	}
	if old > 64 || old > len(points)/2 { // whoever was shown them keeps his
		points = append([]metric.Point{}, points[old:]...)
	}
	k.view.Sizing.Points[rule] = points
	k.fresh = true
}

// loadPoints reads what was measured before the group was kept here, or before it had the
// rule.
func (k *keeper) loadPoints(ctx context.Context, group *store.Group) error {
	now := k.ctl.Clock.Now()
	points := map[string][]metric.Point{}
	had := k.view.Sizing.Points
	k.view.Sizing.Points = points
	for i := range group.Rules {
		r := &group.Rules[i]
		if r.Metric == "" {
			continue
		}
		if old := k.group.Rule(r.Name); old != nil && old.Metric == r.Metric && old.Aggregate == r.Aggregate && old.LooksBack() >= r.LooksBack() && had[r.Name] != nil {
			points[r.Name] = had[r.Name]
			continue
		}
		samples, err := k.ctl.Store.Samples(ctx, k.name, string(r.Metric), now.Add(-r.LooksBack()), now)
		if err != nil {
			return err
		}
		for n := range samples {
			k.addPoint(r.Name, r.LooksBack(), samples[n].Point(r.Aggregate))
		}
	}
	return nil
}

// How many instances are asked at once for what they tell themselves: of one group, and of all.
const (
	scrapingEach = 16
	scraping     = 512
)
