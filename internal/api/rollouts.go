package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/control"
	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/rollout"
	"unitas/internal/fleet/say"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// StartRollout begins a rollout.
func (s *Server) StartRollout(ctx context.Context, r routes.StartRolloutRequestObject) (routes.StartRolloutResponseObject, error) {
	ro, err := s.planned(ctx, r.Name, *r.Body, "")
	if err != nil {
		return nil, err
	}
	if r.Body.StartAt != nil && r.Body.StartAt.Before(s.now()) {
		return nil, invalid("/start_at", "%s is past; give a time to come, or leave it out", words.Moment(*r.Body.StartAt))
	}
	g, err := s.Store.Group(ctx, r.Name)
	if err != nil {
		return nil, about("group", r.Name, err)
	}
	if ro.Rehearsal, err = s.Store.LastRehearsal(ctx, r.Name, g.Template, ro.To, settingsOf(&ro.Rollout), s.now().Add(-rehearsedWithin)); err != nil {
		return nil, err
	}
	good := func(reader store.Reader, g store.Group) error {
		why, err := s.launchable(ctx, reader, ro.To, g.Zones)
		if err == nil && why != "" {
			err = invalid("/to", "%s", why)
		}
		return err
	}
	supersede := some(r.Body.Supersede, false)
	if given(r.Params.DryRun) {
		out, err := s.wouldBegin(ctx, ro, supersede, good)
		return routes.StartRollout200JSONResponse(out), err
	}
	ro, err = s.Store.StartRollout(ctx, s.now(), actor(ctx), r.Name, ro, supersede, good)
	if errors.Is(err, store.ErrExists) {
		return nil, underWay(r.Name)
	}
	if err != nil {
		return nil, inSeconds(about("group", r.Name, err))
	}
	out, err := s.rollout(ctx, ro)
	if err != nil {
		return nil, err
	}
	advice, err := s.adviseRollout(ctx, ro)
	out.Advice = &advice
	return routes.StartRollout201JSONResponse(out), err
}

func underWay(group string) *problem {
	return &problem{status: 409, kind: "conflict", detail: fmt.Sprintf("The group %s has a rollout under way; see it with: unitas rollout show %s. "+
		"To go to another version from where things stand, say so with --supersede", group, group)}
}

// wouldBegin is a rollout as it would begin, which does not.
func (s *Server) wouldBegin(ctx context.Context, ro store.Rollout, supersede bool, good func(store.Reader, store.Group) error) (contract.Rollout, error) {
	p, err := s.Control.Picture(ctx, ro.Group)
	if err != nil {
		return contract.Rollout{}, about("group", ro.Group, err)
	}
	if err := good(s.Store.Reader, p.Group); err != nil {
		return contract.Rollout{}, err
	}
	var over *fleet.Rollout
	if p.Rollout != nil {
		if !supersede {
			return contract.Rollout{}, underWay(ro.Group)
		}
		over = &p.Rollout.Rollout
	}
	view := p.View()
	if ro.Rollout, _, err = fleet.Begin(s.now(), view.Group, view.Instances, ro.Rollout, over); err != nil {
		return contract.Rollout{}, inSeconds(about("group", ro.Group, err))
	}
	p.Rollout, p.Seen, ro.StartedBy = &ro, nil, actor(ctx)
	view = p.View()
	out := s.fromRollout(ro, view.Gates(s.now()), p.Group.Size, say.Summarise(s.now(), view))
	advice, err := s.adviseRollout(ctx, ro)
	out.Advice = &advice
	return out, err
}

// rolloutsLooked is how many rollouts of a group are looked through for one that went back.
const rolloutsLooked = 20

// adviseRollout tells what of a rollout that was just started will not go as expected.
func (s *Server) adviseRollout(ctx context.Context, ro store.Rollout) ([]string, error) {
	g, err := s.Store.Group(ctx, ro.Group)
	if err != nil {
		return nil, err
	}
	before, err := s.Store.Rollouts(ctx, ro.Group, store.Page{Limit: rolloutsLooked})
	if err != nil {
		return nil, err
	}
	var reverted *fleet.Rollout
	for k := range before {
		if b := &before[k]; b.ID != ro.ID && b.To == ro.To && b.State.Ended() {
			if b.State == fleet.Reverted {
				reverted = &b.Rollout
			}
			break // the last one to that version
		}
	}
	advice := append([]string{}, g.AdviseRollout(ro.To, reverted)...)
	if g.Doubts(ro.To) {
		advice = append(advice, fmt.Sprintf("%s was held or taken back here before: see why with: unitas rollout list %s", ro.To, g.Name))
	}
	if ro.Rehearsal == 0 {
		other, err := s.Store.LastRehearsal(ctx, ro.Group, g.Template, ro.To, "", s.now().Add(-rehearsedWithin))
		if err != nil {
			return nil, err
		}
		if other > 0 {
			advice = append(advice, fmt.Sprintf("Rehearsal %d of a rollout to %s was of other settings, or from another version: it tells nothing of this one.", other, ro.To))
		}
	}
	return advice, nil
}

// rehearsedWithin is how long before a rollout a rehearsal is one of it.
const rehearsedWithin = 24 * time.Hour

// planned is the rollout that a body asks for: what it leaves out is as its course says, or
// the group's usual one, or without one as usual. field is where the body stands.
func (s *Server) planned(ctx context.Context, group string, b contract.NewRollout, field string) (store.Rollout, error) {
	g, err := s.Store.Group(ctx, group)
	if err == nil && g.Alone {
		err = store.ErrNotFound
	}
	if err != nil {
		return store.Rollout{}, about("group", group, err)
	}
	ro := store.Rollout{Group: group, Course: some(b.Course, g.Course)}
	settings, err := s.courseOf(ctx, ro.Course)
	if err != nil {
		return ro, err
	}
	own := contract.CourseSettings{Waves: b.Waves, Above: b.Above, Below: b.Below, SoakSeconds: b.SoakSeconds, Gates: b.Gates, Hours: b.Hours}
	if b.Order != nil {
		own.Order = ptr(contract.CourseSettingsOrder(*b.Order))
	}
	if b.Pace != nil {
		own.Pace = ptr(contract.CourseSettingsPace(*b.Pace))
	}
	if ro.Rollout, err = fromSettings(over(settings, own)); err != nil {
		return ro, err
	}
	ro.Exclude = some(b.Exclude, nil)
	if b.StartAt != nil {
		ro.StartAt = b.StartAt.UTC()
	}
	if b.To == "last-good" {
		switch ro.To = g.GoodBefore(); {
		case ro.To != (fleet.Version{}):
		case g.LastGood != (fleet.Version{}):
			return ro, invalid(field+"/to", "the group %s was held or taken back from %s, which it ran before %s; name a version", group, g.LastGood, g.Template)
		default:
			return ro, invalid(field+"/to", "the group %s remembers no version before %s; name one", group, g.Template)
		}
		return ro, nil
	}
	ro.To, err = s.resolve(ctx, "template", strings.TrimPrefix(field+"/to", "/"), b.To)
	return ro, err
}

func ptr[T any](v T) *T { return &v }

// fromSettings is a rollout that goes as settings say, which are whole.
func fromSettings(c contract.CourseSettings) (fleet.Rollout, error) {
	waves, err := rollout.ParseWaves(strings.Join(given(c.Waves), ","))
	if err != nil {
		return fleet.Rollout{}, invalid("/waves", "%s", err)
	}
	if err := checkGates(given(c.Gates)); err != nil {
		return fleet.Rollout{}, err
	}
	ro := fleet.Rollout{RolloutSettings: fleet.RolloutSettings{Waves: waves, Above: given(c.Above), Below: given(c.Below), Soak: givenFor(c.SoakSeconds), Gates: toGates(given(c.Gates))}}
	ro.Order, ro.AtOnce, ro.Hours = fleet.Order(given(c.Order)), given(c.Pace) == contract.CourseSettingsPaceAtOnce, fleet.Hours(given(c.Hours))
	if ro.Hours != "" {
		place, err := ro.Hours.Place()
		if err == nil {
			_, err = time.LoadLocation(place)
		}
		if err != nil {
			return ro, invalid("/hours", "%s", err)
		}
	}
	return ro, nil
}

func (s *Server) rollout(ctx context.Context, ro store.Rollout) (contract.Rollout, error) {
	p, err := s.Control.Picture(ctx, ro.Group)
	if errors.Is(err, store.ErrNotFound) {
		return s.fromRollout(ro, ro.Gates, 0, say.Summary{Sentence: say.Ended(&ro.Rollout)}), nil
	}
	if err != nil {
		return contract.Rollout{}, err
	}
	if p.Rollout == nil || p.Rollout.ID != ro.ID {
		p.Seen = nil
	}
	p.Rollout = &ro
	view := p.View()
	now := s.now()
	return s.fromRollout(ro, view.Gates(now), p.Group.Size, say.Summarise(now, view)), nil
}

// ListRollouts lists rollouts.
func (s *Server) ListRollouts(ctx context.Context, r routes.ListRolloutsRequestObject) (routes.ListRolloutsResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	items, err := s.Store.Rollouts(ctx, some(r.Params.Group, ""), p)
	if err != nil {
		return nil, err
	}
	items, next := cut(items, p, func(r store.Rollout) store.Cursor { return store.Cursor{strconv.FormatInt(r.ID, 10)} })
	out := routes.ListRollouts200JSONResponse{Items: []contract.Rollout{}, Next: next}
	for _, ro := range items {
		one, err := s.rollout(ctx, ro)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, one)
	}
	return out, nil
}

// GetRollout reads one rollout.
func (s *Server) GetRollout(ctx context.Context, r routes.GetRolloutRequestObject) (routes.GetRolloutResponseObject, error) {
	ro, err := s.Store.Rollout(ctx, r.Number)
	if err != nil {
		return nil, about("rollout", strconv.FormatInt(r.Number, 10), err)
	}
	out, err := s.rollout(ctx, ro)
	return routes.GetRollout200JSONResponse{Body: out, Headers: routes.GetRollout200ResponseHeaders{ETag: etag(ro.Revision)}}, err
}

// TellRollout gives a person's command to a rollout.
func (s *Server) TellRollout(ctx context.Context, r routes.TellRolloutRequestObject) (routes.TellRolloutResponseObject, error) {
	revision, err := ifMatch(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	ro, err := s.Store.TellRollout(ctx, s.now(), actor(ctx), r.Number, revision, fleet.Command(r.Body.Command), some(r.Body.Reason, ""))
	if err != nil {
		return nil, about("rollout", strconv.FormatInt(r.Number, 10), err)
	}
	out, err := s.rollout(ctx, ro)
	return routes.TellRollout200JSONResponse(out), err
}

func (s *Server) fromRollout(r store.Rollout, gates []gate.Gate, size int, told say.Summary) contract.Rollout {
	out := contract.Rollout{
		Number: r.ID, Group: r.Group, From: r.From.String(), To: r.To.String(), State: contract.RolloutState(r.State), Since: r.Since,
		Back: r.Back, Why: say.Why(&r.Rollout), Wave: r.Wave + 1, Above: r.Above, Below: r.Below, SoakSeconds: secondsOf(r.Soak), Revision: r.Revision,
		StartedAt: r.Started, StartedBy: r.StartedBy, EndedAt: optional(r.Ended), Sentence: told.Sentence, Gates: each(gates, func(g gate.Gate) contract.Gate { return fromGate(g, r.Comparing()) }),
		Order: string(cmp.Or(r.Order, fleet.Mixed)), Pace: pace(r.Rollout), Exclude: append([]string{}, r.Exclude...), Hours: string(r.Hours), StartAt: optional(r.StartAt), Course: r.Course,
	}
	out.LeftSeconds = known(told.Left)
	out.WaitsUntil = optional(r.Waits(s.now(), control.Location(&r.Rollout)))
	if len(r.Before) > 0 {
		out.GoesBack = ptr(each(r.GoesBack(size), func(s fleet.VersionCount) contract.VersionShare {
			return contract.VersionShare{Version: s.Version.String(), Count: s.N}
		}))
	}
	if r.Lowest >= 0 {
		out.LowestServing = &r.Lowest
	}
	if r.Rehearsal > 0 {
		out.Rehearsal = &r.Rehearsal
	}
	for i, w := range r.Waves {
		wave := contract.Wave{Wave: w.Target(), SoakSeconds: secondsOf(w.Soaking(r.Soak)), UpTo: w.Of(size), State: waveState(r.Rollout, i)}
		if i < len(r.Times) {
			t := r.Times[i]
			wave.StartedAt, wave.FilledAt, wave.PassedAt = optional(t.Began), optional(t.Filled), optional(t.Passed)
		}
		out.Waves = append(out.Waves, wave)
	}
	return out
}

// checkGates reports lines of gates on metrics that are none.
func checkGates(all []contract.NewGate) error {
	for k, g := range all {
		lines := 0
		for _, line := range []*float64{g.Above, g.Below} {
			if line != nil {
				lines++
			}
		}
		if g.Kind == contract.NewGateKindMetric && lines != 1 {
			return invalid(fmt.Sprintf("/gates/%d/above", k), "a gate on a metric has one line; say above which value, or below which, its samples are bad")
		}
	}
	return nil
}

func toGates(all []contract.NewGate) []gate.Gate {
	return each(all, func(g contract.NewGate) gate.Gate {
		at := some(g.Above, 0)
		if g.Below != nil {
			at = *g.Below
		}
		return gate.Gate{Kind: gate.Kind(g.Kind), Metric: some(g.Metric, ""), At: at, Below: g.Below != nil, Margin: some(g.MarginPercent, gate.Kind(g.Kind).UsualMargin()*100) / 100, Warm: givenFor(g.WarmSeconds), OnBroken: gate.Then(given(g.OnBroken)),
			MinRequests: given(g.MinRequests), OnUndecided: gate.Then(given(g.OnUndecided)), Floor: some(g.Floor, gate.Kind(g.Kind).UsualFloor())}
	})
}

// fromGate is one of so many gates of a rollout.
func fromGate(g gate.Gate, of int) contract.Gate {
	out := contract.Gate{Kind: string(g.Kind), What: say.Gate(g), LimitMs: known(g.Seen.Line * 1000), MarginPercent: g.Margin * 100, WarmSeconds: secondsOf(g.Warm), OnBroken: string(g.OnBroken), MinRequests: g.MinRequests, OnUndecided: string(g.OnUndecided),
		State: contract.GateState(g.State(of)), NewRequests: g.Seen.New.N, NewFailed: g.Seen.New.Bad, OldRequests: g.Seen.Old.N, OldFailed: g.Seen.Old.Bad,
		WaveRequests: g.Seen.New.N - g.Before, Evidence: g.Seen.Evidence()}
	if len(g.Seen.Trace) > 0 {
		out.Trace = ptr(each(g.Seen.Trace, func(p gate.Point) contract.TracePoint {
			return contract.TracePoint{At: p.At.UTC(), NewPercent: round2(100 * p.New), OldPercent: round2(100 * p.Old), Evidence: gate.Comparison{LogE: p.LogE}.Evidence()}
		}))
	}
	if !g.Kind.Compares() {
		out.Floor = &g.Floor
		if g.Eased > 0 {
			out.EasedFloor = ptr(g.Floor - g.Eased)
		}
		if g.Judged > 0 {
			out.Value = &g.Value
		}
	}
	return out
}

func waveState(r fleet.Rollout, i int) contract.WaveState {
	givenUp := r.Back || r.State == fleet.Reverted || r.State == fleet.Abandoned
	switch {
	case r.State == fleet.Done:
		return contract.WaveStatePassed
	case givenUp:
		return contract.WaveStateGivenUp
	case i < r.Wave:
		return contract.WaveStatePassed
	case i > r.Wave:
		return contract.WaveStateWaiting
	case r.State == fleet.Soaking:
		return contract.WaveStateSoaking
	case r.State == fleet.Held:
		return contract.WaveStateHeld
	}
	return contract.WaveStateReplacing
}

func pace(r fleet.Rollout) string {
	if r.AtOnce {
		return string(contract.CourseSettingsPaceAtOnce)
	}
	return string(contract.CourseSettingsPaceInWaves)
}
