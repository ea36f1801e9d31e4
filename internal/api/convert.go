package api

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/internal/control"
	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/say"
	"unitas/internal/store"
)

// page reads the parameters of a list. One more than asked for is read, which
// tells whether there is a next page.
func page(limit *int, after *string) (store.Page, error) {
	p := store.Page{Limit: given(limit) + 1}
	if after == nil || *after == "" {
		return p, nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(*after)
	if err == nil {
		err = json.Unmarshal(raw, &p.After)
	}
	if err != nil {
		return p, invalid("after", "%q is not the `next` of a page", *after)
	}
	return p, nil
}

// cut takes the extra item off a page and makes the cursor of the next.
func cut[T any](items []T, p store.Page, key func(T) store.Cursor) ([]T, *string) {
	if len(items) < p.Limit {
		return items, nil
	}
	items = items[:p.Limit-1]
	raw, err := json.Marshal(key(items[len(items)-1]))
	if err != nil {
		return items, nil
	}
	next := base64.RawURLEncoding.EncodeToString(raw)
	return items, &next
}

func versionKey(name string, n int) store.Cursor { return store.Cursor{name, strconv.Itoa(n)} }

func each[T, U any](items []T, f func(T) U) []U {
	out := make([]U, len(items))
	for i, item := range items {
		out[i] = f(item)
	}
	return out
}

func etag(revision int64) *string {
	tag := fmt.Sprintf("%q", strconv.FormatInt(revision, 10))
	return &tag
}

// ifMatch reads the revision that a change was made against.
func ifMatch(header *string) (int64, error) {
	if header == nil || *header == "" {
		return 0, &problem{status: http.StatusPreconditionRequired, kind: "precondition-required",
			detail: "Send If-Match with the ETag of the object as you read it, or * for whatever it is now."}
	}
	if *header == "*" {
		return store.AnyRevision, nil
	}
	text, err := strconv.Unquote(strings.TrimPrefix(*header, "W/"))
	if err != nil {
		return 0, invalid("If-Match", "%s is not an ETag; it is a text in double quotes", *header)
	}
	revision, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, &problem{status: http.StatusPreconditionFailed, kind: "stale", detail: "The object never had this ETag; read it again."}
	}
	return revision, nil
}

// resolve finds the number behind NAME@N or NAME@MARK of an image or template;
// the contract has checked the form. field is at fault when there is no such
// mark, "" for a path.
func (s *Server) resolve(ctx context.Context, kind, field, ref string) (fleet.Version, error) {
	name, version, _ := strings.Cut(ref, "@")
	v := fleet.Version{Name: name}
	if n, err := strconv.Atoi(version); err == nil {
		v.N = n
		return v, nil
	}
	var err error
	v.N, err = s.Store.Resolve(ctx, kind, name, version)
	if errors.Is(err, store.ErrNotFound) {
		text := fmt.Sprintf("the %s %s has no mark %q; see: unitas %s marks %s", kind, name, version, kind, name)
		if field == "" {
			return v, &problem{status: http.StatusNotFound, kind: "not-found", detail: "There is none: " + text}
		}
		return v, invalid("/"+field, "%s", text)
	}
	return v, err
}

func secondsOf(d time.Duration) float64 { return math.Round(d.Seconds()*1000) / 1000 }

func durationOf(seconds *float64, otherwise time.Duration) time.Duration {
	if seconds == nil {
		return otherwise
	}
	return time.Duration(*seconds * float64(time.Second)).Round(time.Millisecond)
}

// given is the value of a field that has a default in the contract, which stands in the
// request when the caller left it out.
func given[T any](p *T) T { return *p }

// givenFor is such a field in seconds.
func givenFor(seconds *float64) time.Duration { return durationOf(seconds, 0) }

func some[T any](p *T, otherwise T) T {
	if p == nil {
		return otherwise
	}
	return *p
}

func notNil[V any](m map[string]V) map[string]V {
	if m == nil {
		return map[string]V{}
	}
	return m
}

// text is nil for nothing.
func text(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// number is left out when it is 0.
func number(n int) *int {
	if n == 0 {
		return nil
	}
	return &n
}

func optional(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func fromCheck(c store.Check) contract.Check {
	return contract.Check{Name: c.Name, Kind: contract.CheckKind(c.Kind), Port: c.Port, Path: c.Path,
		IntervalSeconds: secondsOf(c.Interval), TimeoutSeconds: secondsOf(c.Timeout), Passes: c.Passes, Fails: c.Fails,
		Host: c.Host, Statuses: c.Statuses, Text: c.Text, Service: c.Service, Verify: c.Verify, Labels: notNil(c.Labels), Advice: append([]string{}, c.Advise()...), Changes: changesOf(c.Changes), Revision: c.Revision, CreatedAt: c.CreatedAt.UTC()}
}

// changesOf is nil of what was not changed.
func changesOf(all []string) *[]string {
	if all == nil {
		return nil
	}
	return &all
}

func round2(f float64) float64 { return math.Round(f*100) / 100 }

func fromPicture(now time.Time, p control.Picture, around fleet.Around) contract.Group {
	g := p.Group
	v := p.View()
	s := say.Summarise(now, v)
	out := contract.Group{
		Name: g.Name, Size: g.Size, Min: g.Min, Max: g.Max, Template: g.Template.String(), Zones: g.Zones, Pools: g.Pools,
		Heal: string(g.Heal), HealLimitPercent: g.HealLimit, HealingStoppedAt: optional(g.HealStopped), Shed: contract.Shed(g.Shed), PinNew: g.PinNew,
		Labels: notNil(g.Labels), Frozen: g.Frozen, FrozenBy: text(g.FrozenBy), FrozenAt: optional(g.FrozenAt), SettleSeconds: secondsOf(g.Settle), DrainSeconds: secondsOf(g.Drain), Deleting: g.Deleting,
		Spread: contract.Spread(g.Spread), Above: g.Above, HooksAtOnce: g.HooksAtOnce, Course: g.Course, Scrape: g.Scrape, SizedBy: g.SizedBy, Hooks: each(g.Hooks, func(h fleet.Hook) contract.Hook { return fromHook(h, p.Holds[h.Name]) }),
		ZoneLoss: g.ZoneLoss(v.Instances), Slots: slots(p), Advice: append(append([]string{}, g.Advice...), g.Advise(around)...), Revision: g.Revision, CreatedAt: g.CreatedAt.UTC(), Summary: fromSummary(s),
	}
	out.Rules, out.Bounds = []contract.Rule{}, contract.Bounds{Min: g.Min, Max: g.Max, By: []string{}}
	for k := range g.Rules {
		out.Rules = append(out.Rules, fromRule(&g.Rules[k]))
	}
	if g.Bound != nil {
		out.Bounds = fromBounds(*g.Bound)
	}
	if p.Rollout != nil {
		out.Rollout = &p.Rollout.ID
	}
	if good := g.GoodBefore(); good != (fleet.Version{}) {
		out.LastGood = ptr(good.String())
	}
	out.Doubted = each(g.Doubted, func(v fleet.Version) string { return v.String() })
	out.UsualSeconds, out.SlowSeconds = known(p.Usual.Median), known(p.Usual.Slow)
	out.Stuck, out.StuckAt = text(p.Stuck.Why), optional(p.Stuck.Since)
	return out
}

// slots are the places of the group that failed, with who stands there.
func slots(p control.Picture) []contract.Slot {
	stands := map[int]string{}
	if len(p.Group.Slots) > 0 {
		for i := range p.Instances {
			if in := &p.Instances[i]; in.Counts() {
				stands[in.Slot] = in.ID
			}
		}
	}
	return each(p.Group.Slots, func(s fleet.Slot) contract.Slot {
		return contract.Slot{Number: s.Number, Failures: s.Failures, Failed: append([]string{}, s.Failed...), Instance: text(stands[s.Number]),
			Kept: s.Kept && p.Group.Heal == fleet.HealOff, LastAt: s.Last, UntilAt: s.Until}
	})
}

// known is nil for a span that is not known.
func known(d time.Duration) *float64 {
	if d <= 0 {
		return nil
	}
	s := secondsOf(d)
	return &s
}

func fromSummary(s say.Summary) contract.Summary {
	out := contract.Summary{
		Sentence: s.Sentence, Condition: contract.SummaryCondition(s.Condition), Needs: append([]string{}, s.Needs...), Serving: s.Serving, Unhealthy: s.Unhealthy, ComingUp: s.ComingUp, GoingOut: s.GoingOut,
		Versions: each(s.Versions, func(v say.VersionCount) contract.VersionCount {
			return contract.VersionCount{Version: v.Version.String(), Counted: v.Counted, Serving: v.Serving}
		}),
		Parked: s.Parked, Zones: each(s.Zones, func(z say.ZoneCount) contract.ZoneCount {
			return contract.ZoneCount{Zone: z.Zone, Lost: z.Lost, Serving: z.Serving, Unhealthy: z.Unhealthy, ComingUp: z.ComingUp, GoingOut: z.GoingOut, Parked: z.Parked}
		}),
		Waits: each(s.Waits[:min(len(s.Waits), 20)], func(w say.Wait) contract.Wait {
			return contract.Wait{Instance: w.Instance, State: contract.InstanceState(w.State.Shown()), ForSeconds: secondsOf(w.For), Why: w.Why,
				UsualSeconds: known(w.Usual), SlowSeconds: known(w.Slow)}
		}),
	}
	out.LeftSeconds = known(s.Left)
	return out
}

// instance is a record as it is shown, with its tickets.
func (s *Server) instance(in store.Instance) contract.Instance {
	out := fromInstance(in)
	out.Tickets = s.tickets(in)
	for _, t := range out.Tickets {
		if t.State == contract.TicketStateOpen {
			out.Why = fmt.Sprintf("the hook %s holds it: %s", t.Hook, t.Sentence)
			break
		}
	}
	return out
}

func fromInstance(in store.Instance) contract.Instance {
	verdict := health.Unknown
	for i, r := range in.Reports {
		if i == 0 || worse(r.Verdict, verdict) {
			verdict = r.Verdict
		}
	}
	group := in.Group
	if group == in.ID { // launched alone
		group = ""
	}
	return contract.Instance{
		Id: in.ID, Group: group, Zone: in.Zone, Version: in.Version.String(), State: contract.InstanceState(in.State.Shown()),
		Slot: in.Slot, Purpose: contract.InstancePurpose(in.Purpose), Launch: in.Launch,
		Since: in.Since, Why: say.Because(in.Cause), Verdict: contract.Verdict(verdict), Address: in.Address, Pinned: in.Pinned, Awaits: in.Awaits,
		OrderedAt: in.Ordered, UpAt: optional(in.Up), ServedAt: optional(in.Served), InFlight: in.Traffic.InFlight, Slip: say.Slip(&in.Instance, in.Overdue), Overdue: in.Overdue,
		Image: in.Overrides.Image, Labels: notNil(in.Overrides.Labels),
		Reports: each(in.Reports, func(r health.Report) contract.Report {
			return contract.Report{Check: r.Check, Verdict: contract.Verdict(r.Verdict), Since: optional(r.Since.UTC()), Why: r.Why}
		}),
	}
}

// worse orders verdicts: unhealthy, then unknown, then healthy.
func worse(a, b health.Verdict) bool {
	rank := map[health.Verdict]int{health.Healthy: 0, health.Unknown: 1, health.Unhealthy: 2}
	return rank[a] > rank[b]
}

func fromEntry(e store.Entry) contract.JournalEntry {
	out := contract.JournalEntry{Number: e.Number, At: e.At.UTC(), Kind: e.Kind, Actor: e.Actor, Text: e.Text, Because: e.Because, Numbers: e.Numbers}
	if o := fleet.OutcomeOf(e.Kind); o != "" {
		out.Outcome = (*contract.JournalEntryOutcome)(&o)
	}
	if e.Group != "" {
		out.Group = &e.Group
	}
	if e.Instance != "" {
		out.Instance = &e.Instance
	}
	if len(e.Instances) > 0 {
		out.Instances = &e.Instances
	}
	if c := e.Cause; c.Code != fleet.CodeWords {
		told := map[string]float64{}
		for _, n := range c.Numbers {
			told[n.Name] = n.Value
		}
		out.Cause = &contract.Cause{Code: text(string(c.Code)), Instance: text(c.Instance), About: text(c.About), Words: text(c.Words), Numbers: &told}
	}
	if e.Rollout != 0 {
		out.Rollout = &e.Rollout
	}
	return out
}
