package rehearse

import (
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/health"
)

// Plan is a rollout that is to be rehearsed, with what its machines are expected to do.
type Plan struct {
	// View is the group as it is, without the rollout; Rollout is as [fleet.Begin] takes it.
	View    fleet.View
	Rollout fleet.Rollout
	// Boots are from order to running, Settles from there (or from the last launch hook) to
	// serving, Drains from the last new request to the last that is done, as they were
	// observed; each machine draws from them. Where none were, the usual ones below stand in.
	Boots, Settles, Drains []time.Duration
	// Holds are how long each hook held, by name.
	Holds map[string][]time.Duration
	// Rate is how many requests a second the group gets, and Errors the share of them that
	// fails on either version.
	Rate, Errors float64
	Faults       []Fault
	Runs         int
	Seed         uint64 // of the first run; each further one has the next
	// Enough has it broken off, when it says so.
	Enough func() bool
}

// What is expected of machines nothing is known of.
const (
	UsualBoot   = 5 * time.Second
	UsualSettle = 5 * time.Second
	UsualDrain  = time.Second
	UsualHold   = 5 * time.Second
)

// Bounds of one run: longer it is not played, and no more of it is kept.
const (
	longest     = 48 * time.Hour
	mostDecided = 400_000
	mostPoints  = 400
	mostEvents  = 200
)

// Run is what came of one run.
type Run struct {
	Seed  uint64
	State fleet.RolloutState // at the end; moving or soaking when it was not over by then
	Cause fleet.Cause
	Wave  int // the present one, from 1
	Took  time.Duration
	// Turned is after how long it was stopped: held, or sent back; 0 when it was not.
	Turned time.Duration
	// Lowest is how many served at the lowest, Most how many machines there were at once.
	Lowest, Most int
	// Extra is how much longer machines ran, all together, than without it.
	Extra time.Duration
	// Asked is how many requests new instances had answered.
	Asked  int64
	Points []Point
	Events []Line
}

// Point is how things stood at a moment of a run, after its begin.
type Point struct {
	At                      time.Duration
	Serving, New, Instances int
}

// Play plays the plan's runs. It returns those that were whole before it was broken off, and
// an error for a rollout that could not begin.
func (p Plan) Play() ([]Run, error) {
	var all []Run
	for n := range p.Runs {
		if n > 0 && p.Enough != nil && p.Enough() {
			return all, nil
		}
		run, whole, err := p.play(p.Seed + uint64(n))
		if err != nil {
			return nil, err
		}
		if !whole {
			return all, nil
		}
		all = append(all, run)
	}
	return all, nil
}

// staging is one run in the making.
type staging struct {
	Plan
	r     *rand.Rand
	w     *World
	begun time.Time
	run   Run
	gone  map[string]bool // zones
	due   []Fault         // that have not begun
	last  time.Time
	over  bool
	cut   bool
}

func (p Plan) play(seed uint64) (run Run, whole bool, err error) {
	s := &staging{Plan: p, r: rand.New(rand.NewPCG(seed, 1)), gone: map[string]bool{}, run: Run{Seed: seed}}
	view := p.View
	s.begun, s.last = view.Watched, view.Watched
	view.Watched = time.Time{}
	view.Group.Rules, view.Group.Bound = nil, nil // the size is as it is
	view.Instances, view.Ledger, view.Rollout = s.present(), nil, nil
	s.w = New(s.begun, view, s.fate)
	s.w.Answers, s.w.OnDecision, s.w.Quiet, s.w.Lean = s.answer, s.decided, true, true
	for i := range view.Instances {
		s.stand(&view.Instances[i])
	}
	ro, e, err := fleet.Begin(s.begun, view.Group, view.Instances, p.Rollout, nil)
	if err != nil {
		return run, false, err
	}
	ro.ID = 1
	e.Rollout = 1
	s.w.View.Rollout = &ro
	s.w.note(e)
	s.run.Lowest, s.run.Most = ro.Lowest, len(view.Instances)
	for _, f := range p.Faults {
		if f.Kind == ZoneGoes || f.Kind == ServiceDown {
			s.due = append(s.due, f)
			continue
		}
		s.w.note(fleet.Entry{Kind: Struck, Text: f.strikes(), Cause: fleet.Because("the rehearsal was asked for it")})
	}
	s.w.Stop = func() bool { return s.over || s.cut }
	s.tick()
	s.w.Run(s.begun.Add(longest))
	s.run.Took = s.w.Now.Sub(s.begun)
	if live := s.w.View.Rollout; live != nil {
		s.finish(live)
	}
	return s.run, !s.cut, nil
}

// present are the instances that go on, as their records say; those on their way out are
// nobody's business here.
func (s *staging) present() []fleet.Instance {
	var all []fleet.Instance
	for _, in := range s.View.Instances {
		if !in.State.Counts() && in.State != fleet.Parked {
			continue
		}
		if in.State == fleet.Resting || in.State == fleet.HeldIn {
			in.State, in.Since = fleet.Settling, s.begun
		}
		in.Reports = slices.Clone(in.Reports)
		all = append(all, in)
	}
	return all
}

// stand gives an instance that is there its machine.
func (s *staging) stand(in *fleet.Instance) {
	w := s.w
	if in.State == fleet.Ordered || in.State == fleet.Booting {
		w.edit(in.ID, func(in *fleet.Instance) { in.Machine = fleet.Machine{} })
		w.catchUp(in.ID)
		return
	}
	m := &Machine{Behaviour: s.fate(*in), Launch: in.Launch, Launched: in.Ordered, Running: true, Open: in.State == fleet.Serving, Good: true,
		Bad: map[string]time.Time{}, Passed: map[string]bool{}}
	w.Machines[in.ID] = m
	w.edit(in.ID, func(in *fleet.Instance) {
		in.Machine = fleet.Machine{State: fleet.MachineRunning, Launch: in.Launch}
		if in.State == fleet.Serving {
			in.Reports = nil
			for _, check := range w.View.Group.AllChecks() {
				in.Reports = append(in.Reports, health.Report{Check: check, Verdict: health.Healthy, Since: in.Since})
			}
		}
	})
	if in.State == fleet.Settling && m.Well >= 0 {
		id := in.ID
		w.In(m.Well, func() { w.settle(id, m) })
	}
}

// draw is one of what was observed, or the usual.
func (s *staging) draw(from []time.Duration, usual time.Duration) time.Duration {
	if len(from) == 0 {
		return usual
	}
	return from[s.r.IntN(len(from))]
}

func (s *staging) fate(in fleet.Instance) Behaviour {
	b := Behaviour{Boot: s.draw(s.Boots, UsualBoot), Well: s.draw(s.Settles, UsualSettle), Finish: s.draw(s.Drains, UsualDrain), Refused: s.gone[in.Zone]}
	fresh := in.Version == s.Rollout.To
	for _, f := range s.Faults {
		switch {
		case f.Kind == SlowBoots:
			b.Boot, b.Well = times(b.Boot, f.Times), times(b.Well, f.Times)
		case f.Kind == NewUnhealthy && fresh:
			b.Well = -1
		}
	}
	for _, f := range s.Faults {
		if f.Kind == NewCrashes && fresh && b.Well >= 0 {
			b.Vanish = b.Boot + b.Well + f.After
		}
	}
	return b
}

func times(d time.Duration, n float64) time.Duration { return time.Duration(float64(d) * n) }

func (s *staging) answer(_ fleet.Instance, t fleet.Ticket) Answering {
	return Answering{After: s.draw(s.Holds[t.Hook], UsualHold)}
}

// decided takes in how things stand after a decision.
func (s *staging) decided(fleet.View, fleet.Decision) {
	_, serving := s.w.count(fleet.Version{})
	_, fresh := s.w.count(s.Rollout.To)
	there := len(s.w.View.Instances) - s.w.over
	s.run.Lowest, s.run.Most = min(s.run.Lowest, serving), max(s.run.Most, there)
	s.run.Extra += time.Duration(there-s.w.View.Group.Size) * s.w.Now.Sub(s.last)
	s.last = s.w.Now
	s.point(Point{s.w.Now.Sub(s.begun), serving, fresh, there})
	ro := s.w.View.Rollout
	if ro == nil && len(s.w.Ended) > 0 {
		ro = &s.w.Ended[len(s.w.Ended)-1]
	}
	if ro == nil {
		return
	}
	s.begin(ro)
	if s.run.Turned == 0 && (ro.Back || ro.State == fleet.Held) {
		s.run.Turned = s.w.Now.Sub(s.begun)
	}
	if ro.State == fleet.Held || ro.State.Ended() || s.w.Decisions > mostDecided {
		s.over = true
		s.finish(ro)
	}
	if s.w.Decisions%256 == 0 && s.Enough != nil && s.Enough() {
		s.cut = true
	}
}

// finish keeps how the run ended.
func (s *staging) finish(ro *fleet.Rollout) {
	s.run.State, s.run.Cause, s.run.Wave = ro.State, ro.Cause, ro.Wave+1
	if ro.Turned.Code != fleet.CodeWords {
		s.run.Cause = ro.Turned
	}
	for _, seen := range s.w.View.Seen {
		s.run.Asked = max(s.run.Asked, seen.New.N)
	}
	s.run.Events = s.w.Journal[:min(len(s.w.Journal), mostEvents)]
}

// point keeps how things stand, where that is another than before; of many every second.
func (s *staging) point(p Point) {
	n := len(s.run.Points)
	if n > 0 && s.run.Points[n-1].Serving == p.Serving && s.run.Points[n-1].New == p.New && s.run.Points[n-1].Instances == p.Instances {
		return
	}
	if n > 0 && s.run.Points[n-1].At == p.At {
		s.run.Points[n-1] = p
		return
	}
	if n == mostPoints {
		half := s.run.Points[:0]
		for k := 0; k < n; k += 2 {
			half = append(half, s.run.Points[k])
		}
		s.run.Points = half
	}
	s.run.Points = append(s.run.Points, p)
}

// begin has those faults begin whose wave or time has come.
func (s *staging) begin(ro *fleet.Rollout) {
	for k := 0; k < len(s.due); k++ {
		f := s.due[k]
		if ro.Wave+1 < f.Wave || s.w.Now.Before(s.begun.Add(f.At)) {
			continue
		}
		s.due = slices.Delete(s.due, k, k+1)
		k--
		s.w.In(0, func() { s.strike(f) })
	}
}

// Struck is the kind of the entry that tells which fault begins in a run.
const Struck = "rehearsal.fault"

func (s *staging) strike(f Fault) {
	s.w.note(fleet.Entry{Kind: Struck, Zone: f.Zone, Text: f.strikes(), Cause: fleet.Because("the rehearsal was asked for it")})
	if f.Kind == ServiceDown {
		s.w.Away = s.w.Now.Add(f.For)
		s.w.At(s.w.Away, s.w.Restart)
		return
	}
	s.gone[f.Zone] = true
	for _, in := range slices.Clone(s.w.View.Instances) {
		if in.Zone == f.Zone {
			s.w.Vanish(in.ID, "its zone is lost")
		}
	}
}

// tick has passengers ask, once a second for as long as it is compared what is answered.
func (s *staging) tick() {
	s.w.In(fleet.GatesEvery, func() {
		ro := s.w.View.Rollout
		if ro == nil || s.over {
			return
		}
		s.begin(ro)
		if ro.Compares() && !s.w.Now.Before(s.w.Away) {
			s.ask(ro)
		}
		s.tick()
	})
}

// ask lets one second's requests be answered.
func (s *staging) ask(ro *fleet.Rollout) {
	_, serving := s.w.count(fleet.Version{})
	_, fresh := s.w.count(ro.To)
	if serving == 0 {
		return
	}
	if len(s.w.View.Seen) != len(ro.Gates) {
		s.w.View.Seen = make([]gate.Comparison, len(ro.Gates))
		for k, g := range ro.Gates {
			s.w.View.Seen[k] = g.Seen
		}
	}
	each := s.Rate / float64(serving)
	asked, others := s.whole(each*float64(fresh)), s.whole(each*float64(serving-fresh))
	for k, g := range ro.Gates {
		was, is := s.Errors, s.Errors
		switch g.Kind {
		case gate.Latency:
			was, is = 0.05, 0.05
		case gate.Metric: // what machines measure is not simulated: it is as it should be
			s.w.View.Seen[k] = s.w.View.Seen[k].Add(gate.Count{N: max(g.MinRequests, 1)}, gate.Count{N: 1}, g.Margin)
			continue
		}
		for _, f := range s.Faults {
			if f.Kind == NewErrors && g.Kind == gate.Errors {
				is = min(is+f.Share, 1)
			}
		}
		s.w.View.Seen[k] = s.w.View.Seen[k].Add(gate.Count{N: asked, Bad: s.bad(asked, is)}, gate.Count{N: others, Bad: s.bad(others, was)}, g.Margin)
	}
}

// whole is a number of requests that is f on average.
func (s *staging) whole(f float64) int64 {
	n := math.Floor(f)
	if s.r.Float64() < f-n {
		n++
	}
	return int64(n)
}

// bad is how many of n go wrong, each with the chance p: from one that does to the next is
// geometric; where they are many the normal distribution with the same mean and spread
// stands in.
func (s *staging) bad(n int64, p float64) int64 {
	mean := float64(n) * p
	switch {
	case p <= 0 || n == 0:
		return 0
	case p >= 1:
		return n
	case mean*(1-p) > 100:
		drawn := math.Round(mean + s.r.NormFloat64()*math.Sqrt(mean*(1-p)))
		return int64(math.Min(math.Max(drawn, 0), float64(n)))
	}
	var bad int64
	for at := 0.0; ; bad++ {
		at += 1 + math.Floor(math.Log(1-s.r.Float64())/math.Log1p(-p))
		if at > float64(n) {
			return bad
		}
	}
}
