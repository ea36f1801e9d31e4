package api

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/control"
	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/rehearse"
	"unitas/internal/fleet/say"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// Bounds of rehearsals: how long one may be played, of which one is at a time, for it holds a
// processor, and how many wait.
const (
	rehearsalTime = 20 * time.Second
	rehearsalsDue = 2
)

// rehearsing lets one rehearsal be played at a time.
type rehearsing struct{ due, playing chan struct{} }

func newRehearsing() rehearsing {
	return rehearsing{due: make(chan struct{}, rehearsalsDue+1), playing: make(chan struct{}, 1)}
}

// begin waits for the turn of one more; beyond those that may wait it is refused at once.
func (r rehearsing) begin(ctx context.Context) (over func(), err error) {
	busy := &problem{status: 429, kind: "busy", detail: fmt.Sprintf("A rehearsal is being played, and %d wait; try again in a moment.", rehearsalsDue)}
	select {
	case r.due <- struct{}{}:
	default:
		return nil, busy
	}
	select {
	case r.playing <- struct{}{}:
		return func() { <-r.playing; <-r.due }, nil
	case <-ctx.Done():
		<-r.due
		return nil, busy
	}
}

// Rehearse plays a rollout on a virtual clock.
func (s *Server) Rehearse(ctx context.Context, r routes.RehearseRequestObject) (routes.RehearseResponseObject, error) {
	ro, err := s.planned(ctx, r.Name, r.Body.Rollout, "/rollout")
	if err != nil {
		return nil, err
	}
	p, err := s.Control.Picture(ctx, r.Name)
	if err != nil {
		return nil, about("group", r.Name, err)
	}
	if why, err := s.launchable(ctx, s.Store.Reader, ro.To, p.Group.Zones); err != nil {
		return nil, err
	} else if why != "" {
		return nil, invalid("/rollout/to", "%s", why)
	}
	if p.Rollout != nil && !some(r.Body.Rollout.Supersede, false) {
		return nil, &problem{status: 409, kind: "conflict", detail: fmt.Sprintf("The group %s has a rollout under way; rehearse the next one once it is over, or with supersede.", r.Name)}
	}
	plan, out, err := s.plan(ctx, p, ro, *r.Body)
	if err != nil {
		return nil, err
	}
	over, err := s.rehearsing.begin(ctx)
	if err != nil {
		return nil, err
	}
	defer over()
	begun := time.Now()
	plan.Enough = func() bool { return ctx.Err() != nil || time.Since(begun) > rehearsalTime }
	runs, err := plan.Play()
	if err != nil {
		return nil, inSeconds(about("group", r.Name, err))
	}
	if ctx.Err() != nil {
		return nil, ctx.Err() // whoever asked is gone
	}
	if len(runs) == 0 {
		return nil, &problem{status: 503, kind: "too-long", detail: fmt.Sprintf("Not one run was over within %s; make the soaks shorter, or the group smaller.", words.Span(rehearsalTime))}
	}
	out.WallMs, out.Cut, out.Runs = round2(time.Since(begun).Seconds()*1000), len(runs) < plan.Runs, len(runs)
	out.At, out.By = s.now(), actor(ctx)
	told(&out, p, &plan, runs)
	if out.Number, err = s.Store.AddRehearsal(ctx, out.At, out.By, r.Name, ro.To, out); err != nil {
		return nil, err
	}
	return routes.Rehearse200JSONResponse(out), nil
}

// plan is what is played, and with it what is told of where it comes from.
func (s *Server) plan(ctx context.Context, p control.Picture, ro store.Rollout, b contract.NewRehearsal) (rehearse.Plan, contract.Rehearsal, error) {
	now := s.now()
	out := contract.Rehearsal{Group: p.Group.Name, To: ro.To.String(), From: p.Group.Template.String(), Size: p.Group.Size, Settings: ptr(settingsOf(&ro.Rollout)), Faults: append([]string{}, given(b.Faults)...)}
	plan := rehearse.Plan{View: p.View(), Rollout: ro.Rollout, Runs: given(b.Runs), Seed: uint64(given(b.Seed)), Holds: map[string][]time.Duration{}}
	plan.View.Watched, plan.View.Rollout, plan.View.Seen, plan.View.Location = now, nil, nil, control.Location(&ro.Rollout)
	for k, text := range given(b.Faults) {
		f, err := rehearse.ParseFault(text, p.Group.Zones)
		if err != nil {
			return plan, out, invalid("/faults/"+strconv.Itoa(k), "%s", err)
		}
		plan.Faults = append(plan.Faults, f)
	}
	seen, err := s.Store.Observe(ctx, p.Group.Name, ro.To.Name)
	if err != nil {
		return plan, out, err
	}
	holds, err := s.Store.HoldTimes(ctx, p.Group.Name)
	if err != nil {
		return plan, out, err
	}
	plan.Boots, plan.Settles, plan.Drains, plan.Holds = seen.Boots, seen.Settles, seen.Drains, holds
	assume := func(what string, times []time.Duration, usual time.Duration, from string) {
		if len(times) == 0 {
			times, from = []time.Duration{usual}, "nothing was seen of it: a guess"
			out.Assumed = append(out.Assumed, contract.Assumed{What: what, Span: ptr(spanOver(times)), From: from})
			return
		}
		out.Assumed = append(out.Assumed, contract.Assumed{What: what, Span: ptr(spanOver(times)), From: from, Seen: len(times)})
	}
	assume("from order to running", plan.Boots, rehearse.UsualBoot, "the last instances of "+ro.To.Name)
	assume("from there to healthy", plan.Settles, rehearse.UsualSettle, "the last instances of "+ro.To.Name)
	assume("until the last request is done", plan.Drains, rehearse.UsualDrain, "the last drains of the group")
	for _, h := range p.Group.Hooks {
		assume("held by "+h.Name, holds[h.Name], rehearse.UsualHold, "its last tickets")
	}
	requests, from := s.traffic(p.Group.Pools, &plan)
	if b.RequestsPerSecond != nil {
		plan.Rate, from = *b.RequestsPerSecond, "as was asked for"
	}
	for _, g := range ro.Gates {
		if g.Kind == gate.Metric {
			out.Assumed = append(out.Assumed, contract.Assumed{What: "the gate on " + g.Metric + " never breaks", From: "what machines measure is not simulated"})
		}
	}
	out.Assumed = append(out.Assumed, contract.Assumed{What: fmt.Sprintf("%s requests a second, of which %s %% fail", words.Percent(plan.Rate), words.Percent(100*plan.Errors)), From: from, Seen: int(requests)})
	return plan, out, nil
}

// traffic is what the pools sent on lately, by the window in which it was most: how many a
// second, how many of them failed.
func (s *Server) traffic(pools []string, plan *rehearse.Plan) (requests int64, from string) {
	from = "the last minutes"
	for minutes, of := range map[int]struct{ n, failed int64 }{1: {}, 5: {}, 15: {}} {
		for _, pool := range pools {
			stats, _ := s.Balancer.Stats(pool)
			for _, v := range stats.Versions {
				for _, w := range v.Windows {
					if w.Minutes == minutes {
						of.n, of.failed = of.n+w.Requests, of.failed+w.Status[0]+w.Status[5]
					}
				}
			}
		}
		if rate := float64(of.n) / float64(60*minutes); rate > plan.Rate {
			plan.Rate, plan.Errors, requests, from = rate, float64(of.failed)/float64(of.n), of.n, fmt.Sprintf("the last %s", words.Count(minutes, "minute"))
		}
	}
	return requests, from
}

func spanOver(times []time.Duration) contract.Span {
	u := control.Usually(times)
	return contract.Span{MedianSeconds: secondsOf(u.Median), SlowSeconds: secondsOf(u.Slow)}
}

// told puts together what came of the runs.
func told(out *contract.Rehearsal, p control.Picture, asked *rehearse.Plan, runs []rehearse.Run) {
	out.LowestServing, out.Stops, out.Points, out.Events = runs[0].Lowest, []contract.RehearsalStop{}, []contract.RehearsalPoint{}, []contract.RehearsalEvent{}
	var took, extra []time.Duration
	stops := map[string][]rehearse.Run{}
	for _, r := range runs {
		out.LowestServing, out.MostInstances = min(out.LowestServing, r.Lowest), max(out.MostInstances, r.Most)
		extra = append(extra, r.Extra)
		switch r.State {
		case fleet.Done:
			out.Done++
			took = append(took, r.Took)
		case fleet.Held:
			out.Held++
		case fleet.Reverted, fleet.Reverting:
			out.Reverted++
		default:
			out.Unfinished++
		}
		if r.State != fleet.Done {
			why := whyStopped(r)
			stops[why] = append(stops[why], r)
		}
	}
	if len(took) > 0 {
		out.Takes = ptr(spanOver(took))
	}
	for why, of := range stops {
		var after []time.Duration
		var asked []int64
		for _, r := range of {
			after, asked = append(after, cmp.Or(r.Turned, r.Took)), append(asked, r.Asked)
		}
		slices.Sort(asked)
		out.Stops = append(out.Stops, contract.RehearsalStop{Why: why, Wave: &of[0].Wave, Runs: len(of), Requests: &asked[len(asked)/2], After: ptr(spanOver(after))})
	}
	slices.SortFunc(out.Stops, func(a, b contract.RehearsalStop) int {
		if a.Runs != b.Runs {
			return b.Runs - a.Runs
		}
		return strings.Compare(a.Why, b.Why)
	})
	out.ExtraHours = math.Round(control.Usually(extra).Median.Hours()*1000) / 1000
	var price, of float64
	for _, zone := range p.Group.Zones {
		price, of = price+p.Group.Prices[zone], of+1
	}
	if price > 0 {
		out.ExtraCost = ptr(math.Round(out.ExtraHours*price/of*1e6) / 1e6)
	}
	typical := slices.SortedStableFunc(slices.Values(runs), func(a, b rehearse.Run) int { return int(a.Took - b.Took) })[len(runs)/2]
	for _, point := range typical.Points {
		out.Points = append(out.Points, contract.RehearsalPoint{AtSeconds: secondsOf(point.At), Serving: point.Serving, NewServing: point.New, Instances: point.Instances})
	}
	for _, e := range typical.Events {
		if strings.HasPrefix(e.Kind, "rollout.") || e.Kind == rehearse.Struck {
			out.Events = append(out.Events, contract.RehearsalEvent{AtSeconds: secondsOf(e.At.Sub(typical.Events[0].At)), Text: say.Line(out.Group, e.Entry), Because: say.Because(e.Cause)})
		}
	}
	out.Sentence = rehearsed(out)
	if asked.Rate == 0 && slices.ContainsFunc(asked.Rollout.Gates, func(g gate.Gate) bool { return g.Kind == gate.Errors || g.Kind == gate.Latency }) {
		out.Sentence += " No gate could judge, since nothing is asked of the group: give --requests-per-second."
	}
}

// settingsOf are the settings of a rollout in words, but for when it begins.
func settingsOf(r *fleet.Rollout) string {
	text := fmt.Sprintf("waves %s, above %d, below %d, soak %s, order %s", r.Waves, r.Above, r.Below, words.Span(r.Soak), cmp.Or(r.Order, fleet.Mixed))
	if r.AtOnce {
		text += ", all at once"
	}
	if r.Hours != "" {
		text += ", only " + string(r.Hours)
	}
	if len(r.Exclude) > 0 {
		text += ", without " + strings.Join(r.Exclude, " ")
	}
	for _, g := range r.Gates {
		text += fmt.Sprintf(", gate on %s %s (margin %g, floor %g, %s %g, warm %s, broken %s, least %d, undecided %s)", g.Kind, g.Metric, g.Margin, g.Floor, map[bool]string{true: "below", false: "above"}[g.Below], g.At, words.Span(g.Warm), g.OnBroken, g.MinRequests, g.OnUndecided)
	}
	return text
}

// whyStopped is why a run was not done, without what differs from run to run.
func whyStopped(r rehearse.Run) string {
	switch c := r.Cause; c.Code {
	case fleet.CodeGateBroke:
		return fmt.Sprintf("the gate on %s breaks", c.About)
	case fleet.CodeGateUndecided:
		return "a gate is undecided"
	case fleet.CodeGateAlone:
		return fmt.Sprintf("the gate on %s has nothing to compare with, and most is bad", c.About)
	case fleet.CodeTooIll:
		return "too few of the new instances are healthy"
	case fleet.CodeTooFewServe:
		return "too few instances serve"
	case fleet.CodeTurnedIll:
		return "a new instance turns unhealthy"
	case fleet.CodeNotHealthy, fleet.CodeNotUp:
		return "a new instance does not become healthy in its time"
	case fleet.CodeStumbled:
		return "machines of the new version fail again and again"
	case fleet.CodeHookFailed:
		return "a launch hook fails"
	}
	return "it was not over after two days"
}

// rehearsed is the sentence about what came of a rehearsal.
func rehearsed(r *contract.Rehearsal) string {
	text := fmt.Sprintf("In %s of %s: ", words.Count(r.Runs, "run"), r.To)
	var parts []string
	if r.Done > 0 {
		part := fmt.Sprintf("done in %d, within %s (95 %% within %s)", r.Done, spanText(r.Takes.MedianSeconds), spanText(r.Takes.SlowSeconds))
		parts = append(parts, part)
	}
	for what, n := range map[string]int{"held": r.Held, "sent back": r.Reverted, "not over": r.Unfinished} {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%s in %d", what, n))
		}
	}
	slices.Sort(parts)
	text += strings.Join(parts, ", ")
	return text + fmt.Sprintf("; %d of %d served at the lowest, %s at most.", r.LowestServing, r.Size, words.Count(r.MostInstances, "instance"))
}

func spanText(seconds float64) string {
	return words.Span(time.Duration(seconds * float64(time.Second)))
}

// GetRehearsal reads the rehearsal that came before a rollout.
func (s *Server) GetRehearsal(ctx context.Context, r routes.GetRehearsalRequestObject) (routes.GetRehearsalResponseObject, error) {
	ro, err := s.Store.Rollout(ctx, r.Number)
	if err != nil {
		return nil, about("rollout", strconv.FormatInt(r.Number, 10), err)
	}
	var out contract.Rehearsal
	if ro.Rehearsal == 0 {
		return nil, notFound("rehearsal of the rollout", strconv.FormatInt(r.Number, 10))
	}
	if err := s.Store.Rehearsal(ctx, ro.Rehearsal, &out); err != nil {
		return nil, about("rehearsal", strconv.FormatInt(ro.Rehearsal, 10), err)
	}
	out.Number = ro.Rehearsal
	return routes.GetRehearsal200JSONResponse(out), nil
}
