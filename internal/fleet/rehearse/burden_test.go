package rehearse

import (
	"errors"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/say"
	"unitas/internal/fleet/scaling"
)

// burden is what a group has to bear in virtual time, shared by those that serve, and how it
// is measured.
type burden struct {
	w     *World
	r     *rand.Rand
	load  func(at time.Time) float64 // in all; an instance that bears 100 is full
	noise float64                    // share by which each sample is off at most
	muted time.Time                  // until when nothing is measured
	deaf  string                     // an instance that is not measured
	tick  func()                     // called at each sample
}

// bears has the group of a world bear a load from now on.
func bears(w *World, load func(time.Time) float64) *burden {
	b := &burden{w: w, r: rand.New(rand.NewPCG(7, 7)), load: load}
	w.View.Sizing.Points = map[string][]metric.Point{}
	w.At(w.Now, b.sample)
	return b
}

// sample measures once, by the names of the rules' metrics: cpu is bounded, requests and what
// is pushed are not.
func (b *burden) sample() {
	w := b.w
	w.In(metric.Every, b.sample)
	if b.tick != nil {
		b.tick()
	}
	if w.Now.Before(b.muted) {
		return
	}
	g := &w.View.Group
	serving, missing := 0, 0
	var settled []*fleet.Instance
	for i := range w.View.Instances {
		in := &w.View.Instances[i]
		if g.Serves(in) {
			serving++
		}
		if g.Measures(w.Clock(), in) {
			if in.ID == b.deaf {
				missing++
				continue
			}
			settled = append(settled, in)
		}
	}
	for k := range g.Rules {
		r := &g.Rules[k]
		if r.Kind == scaling.Calendar {
			continue
		}
		var values []float64
		for range settled {
			v := b.load(w.Now) / float64(serving) * (1 + b.noise*(2*b.r.Float64()-1))
			if r.Metric == metric.CPU {
				v = min(v, 100)
			}
			values = append(values, v)
		}
		p := metric.Point{At: w.Clock(), Value: r.Aggregate.OfServing(values, serving), Of: len(settled), Serving: serving, Missing: missing}
		if _, pushed := r.Metric.Pushed(); pushed {
			p = metric.Point{At: w.Clock(), Value: b.load(w.Now), Of: 1, Serving: serving}
		}
		if r.Metric == metric.Requests && g.Size == 0 && serving == 0 { // what comes to nobody is counted
			p = metric.Point{At: w.Clock(), Value: b.load(w.Now), Of: 1, Serving: 1}
		}
		points := append(w.View.Sizing.Points[r.Name], p)
		if most := int(r.LooksBack()/metric.Every) + 2; len(points) > most {
			points = points[len(points)-most:]
		}
		w.View.Sizing.Points[r.Name] = points
	}
}

var errRulesSaid = errors.New("say what the rules think")

// playRules are the commands about rules and load.
func (s *scenario) playRules(words []string, args map[string]string) error {
	switch words[0] {
	case "rule": // rule busy steady metric=cpu target=60
		r, err := readRule(words[1], words[2], args)
		if err != nil {
			return err
		}
		r.Since = s.w.Clock()
		return s.change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.WithRule(r, g.Rule(r.Name) != nil, "") })
	case "no-rule":
		return s.change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.WithoutRule(words[1], "") })
	case "load": // load 240: an instance that bears 100 is full
		load := float64(number(words[1]))
		if s.burden == nil {
			s.burden = bears(s.w, nil)
		}
		s.burden.load = func(time.Time) float64 { return load }
	case "mute": // mute 2m: nothing is measured for so long
		s.burden.muted = s.w.Now.Add(span(words[1]))
	case "deaf": // deaf timetable-001: it is not measured any more
		s.burden.deaf = words[1]
	case "foreseen": // foreseen busy 500
		s.w.View.Sizing.Foreseen = map[string]float64{words[1]: float64(number(words[2]))}
	case "times": // times day last=-1h next=7h: from now
		if s.w.View.Sizing.Times == nil {
			s.w.View.Sizing.Times = map[string]scaling.Times{}
		}
		t := scaling.Times{}
		if args["last"] != "" {
			t.Last = s.w.Now.Add(span(args["last"]))
		}
		if args["next"] != "" {
			t.Next = s.w.Now.Add(span(args["next"]))
			next := t.Next
			s.w.At(next, func() { s.w.View.Sizing.Times[words[1]] = scaling.Times{Last: next} })
		}
		s.w.View.Sizing.Times[words[1]] = t
	case "think":
		return errRulesSaid
	default:
		panic("there is no such command")
	}
	return nil
}

func readRule(name, kind string, args map[string]string) (scaling.Rule, error) {
	r := scaling.Rule{Name: name, Kind: scaling.Kind(kind)}
	for k, v := range args {
		n, _ := strconv.Atoi(v)
		switch k {
		case "metric":
			r.Metric = metric.Name(v)
		case "over":
			r.Aggregate = metric.Over(v)
		case "target":
			r.KeepAt, _ = strconv.ParseFloat(v, 64)
		case "band":
			r.Band, _ = strconv.ParseFloat(v, 64)
		case "calm":
			r.Calm = span(v)
		case "pace":
			r.ShrinkRate, _ = strconv.ParseFloat(v, 64)
		case "cooldown":
			r.Cooldown = span(v)
		case "grow-only":
			r.GrowOnly = true
		case "foresee":
			r.Forecast = true
		case "off":
			r.Off = true
		case "lines": // above_70_for_2m:_+1;below_…
			for _, one := range strings.Split(v, ";") {
				l, err := scaling.ParseLine(strings.ReplaceAll(one, "_", " "))
				if err != nil {
					return r, err
				}
				r.Thresholds = append(r.Thresholds, l)
			}
		case "when":
			r.When = v
		case "span":
			r.Duration = span(v)
		case "min":
			r.Min = &n
		case "max":
			r.Max = &n
		case "size":
			r.Size = &n
		default:
			panic("a rule has no " + k)
		}
	}
	r.Complete()
	return r, nil
}

// thinks is what each rule thinks now.
func (s *scenario) thinks() string {
	verdicts, _ := s.w.View.Judge(s.w.Clock())
	var b strings.Builder
	for _, v := range verdicts {
		b.WriteString(v.Rule + ": " + say.Thinks(s.w.Clock(), &s.w.View, v) + "\n")
	}
	return b.String()
}

// sine is a load that goes up and down within a day.
func sine(least, most float64) func(time.Time) float64 {
	return func(at time.Time) float64 {
		day := at.Sub(epoch).Hours() / 24 * 2 * math.Pi
		return least + (most-least)*(1-math.Cos(day))/2
	}
}
