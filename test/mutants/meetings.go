package main

// meetings are faults where two parts of the core meet: each part goes on being right alone.
var meetings = []fault{
	// Sizes, and who is asked, seen and sized at the same time.
	{"who settles is missing from a total", "metric/metric.go", "o == Total && serving > n {", "false {"},
	{"what hides is enough to shrink on", "scaling/judge.go", "if v.AtLeast { // that", "if false { // that"},
	{"what hid is calm", "scaling/judge.go", "|| r.hides(p) {", "{"},
	{"a clock that was ahead has calendars sleep", "scaling/bounds.go", "if ahead = s.Occurred.After(now.Add(time.Minute)); ahead {", "if false {"},
	{"a bound gives nothing back", "scale.go", "if by != \"\" {\n\t\t\td.keepState", "if false {\n\t\t\td.keepState"},
	{"a span that ends under another is for good", "scale.go", "if over, laid := d.laidOver(r.Name); laid {", "if over, laid := d.laidOver(r.Name); laid && false {"},
	{"a span takes back what a person set", "scale.go", "case d.group.SizedBy == \"\":\n\t\treturn s", "case false:\n\t\treturn s"},
	{"a span takes back what a rule made larger", "scale.go", "under = max(under, d.group.Size)", "_ = under"},
	{"a size let go under a span comes back", "commands.go", "if s := &g.RuleStates[k]; s.Before > 1 {", "if s := &g.RuleStates[k]; false {"},
	{"a release passes a calendar's bound", "commands.go", "g.Size-1 < g.bounds().Min:", "g.Size-1 < g.Min:"},
	{"requests to nobody are no load", "internal/control/sampler.go", "if m.group.Size > 0 || m.serving > 0 || !m.goesBy(metric.Requests) {", "if true {"},
	{"requests to nobody load who serves", "internal/control/sampler.go", "if m.group.Size > 0 || m.serving > 0 ||", "if"},
	{"a load of nobody's is none", "internal/store/metrics.go", "max(s.Serving, 1)", "s.Serving"},
	{"who is not taken is not counted", "internal/balancer/builtin/account.go", "p.untaken.Add(1)", ""},

	// What ends soon after it had served.
	{"a proof is short", "slots.go", "FirstProof = 10 * time.Minute", "FirstProof = 30 * time.Second"},
	{"a proof does not grow", "slots.go", "FirstProof<<min(max(failures-1, 0), 3)", "FirstProof<<min(max(failures-1, 0), 0)"},
	{"zones that fail after a while are trusted", "zones.go", "if s.Brief < 2 {", "if true {"},
	{"balance goes where what serves ends", "reconcile.go", "	d.closeBrittle(zones)\n", ""},
	{"what fails at one moment is many times", "zones.go", "if !in.Ordered.After(s.BriefLast) && s.Brief > 0 {", "if false {"},
	{"a zone is doubted for good", "zones.go", "if k := d.setbackOf(zone); k >= 0 && d.group.Setbacks[k].Brief > 0 {", "if k := d.setbackOf(zone); false && k >= 0 {"},

	// A rollout, and another before it.
	{"what was held two rollouts ago comes back", "back.go", "return g.Doubts(v) ||", "return false ||"},
	{"what was fled from is good", "doubt.go", "if to == d.group.LastGood {", "if false {"},
	{"a person's hold is a doubt", "back.go", "r.Cause.Code != CodeTold && r", "r"},
	{"proceed clears no doubt", "doubt.go", "case d.ro.Cause.Code == CodeTold &&", "case false &&"},
	{"what a superseded rollout replaced is forgotten", "back.go", "all[k].N = max(all[k].N, s.N)", "_ = s.N"},
	{"a version that is done stays doubted", "rolling.go", "\t\td.trust(d.ro.To)\n", "\t\t_ = d.ro.To\n"},

	// How rollouts end, and what they go by.
	{"a revert that cannot is silent", "back.go", "if d.ro.Stumbles == StumbleLimit {", "if false {"},
	{"a revert that can again is told as one that cannot", "back.go", "d.ro.Stumbles, d.roChanged = 0, true", "d.roChanged = true"},
	{"a rollout goes by what was when it was ordered", "decide.go", "\td.retake()\n", ""},
	{"who takes the place of one left out is replaced", "leftout.go", "c.out.ids[in.ID] || c.out.slots[in.Slot]", "c.out.ids[in.ID]"},
	{"more pinned than the size never end", "rolling.go", "max(d.group.Size-want, t.oldStay)", "d.group.Size-want"},
	{"a stuck one is waited for", "target.go", "d.tally(to).newCounted - len(d.stuck()) }", "d.tally(to).newCounted }"},
	{"who is left behind is not named", "rolling.go", "c.Words = strings.Join(names[:min(len(names), namedLeft)], \", \")", "_ = strings.Join"},
	{"accidents hold a large wave", "rolling.go", "holds := rollout.Holds(max(d.tally(d.ro.To).newCounted-before, 0) + d.ro.Stumbles)", "holds := rollout.Holds(0 * before)"},
	{"a hook that was moved holds nobody", "tickets.go", "t != nil && t.At == at {\n\t\t\topen", "t != nil {\n\t\t\topen"},
	{"none can be taken from what is being deleted", "hooks.go", "if g.Deleting { // what", "if false { // what"},
	{"what a revert needs may be deleted", "internal/store/templates.go", "and (b->'version'->>'N')::int = $2", "and (b->'version'->>'N')::int = -$2"},

	// Gates, and what they are held against.
	{"bets never begin anew", "gate/gate.go", "begins = logSum(begins, begun)", "begins = begun"},
	{"a total of processors hides at a hundred", "scaling/judge.go", "each /= float64(max(p.Serving, 1))", "each /= 1"},
	{"a group that lost all is made smaller", "scale.go", "short := !d.supposed && d", "short := d.len() > 0 && d"},
	{"what stays and serves nobody takes room in a wave", "target.go", "most += d.idle(func(v Version) bool { return v != to })", "most += 0 * d.idle(every)"},
	{"what stays and serves nobody takes a place in a wave", "idle.go", "\tt.counted -= n\n\tt.oldStay -= n\n", "\t_ = n\n"},
	{"what stays and serves nobody takes a place on the way back", "back.go", "\t\tt.counted--\n\t\tt.oldStay--\n", "\t\t_ = v\n"},
	{"what may serve again takes no place", "idle.go", "(d.group.IsOverdue(d.now, in) || newestIllness(in) != nil) &&", "(d.group.IsOverdue(d.now, in) || newestIllness(in) != nil || true) &&"},
	{"what is wanted counts new ones that never served", "target.go", "left -= t.newServing\n", "left -= t.newCounted\n"},
	{"what was seen lately is never forgotten", "gate/gate.go", "less := math.Exp2(-1.0 / halfLife)", "less := 1.0 * halfLife / halfLife"},
	{"who bets by all that was seen bets as who forgets", "gate/gate.go", "bet(weighed(c.New), weighed(c.Old), fresh, old, margin)", "bet(lately.New, lately.Old, fresh, old, margin)"},
	{"a gate that is alone had too few requests", "rolling.go", "if g.Alarming() {", "if false {"},
	{"who proceeds past a gate that is alone is asked again", "rollouts.go", " || r.Cause.Code == CodeGateAlone)", ")"},
	{"a gate that is eased is shown as broken", "gate/settings.go", "if g.Value < g.Floor-g.Eased {", "if g.Value < g.Floor {"},
	{"a hold is doubted only later", "rolling.go", "\tdefer d.noteDoubts()\n", ""},
	{"each begin anew is free", "gate/gate.go", "begins := -math.Log(n * (n + 1))", "begins := 0 * n"},
	{"samples count one by one", "internal/control/gates.go", "came = came.Outcome(leastSamples)", "_ = leastSamples"},
	{"nothing to compare with is good", "gate/settings.go", "case g.Seen.New.N == 0, g.Seen.Old.N == 0,", "case g.Seen.New.N == 0,"},
	{"nothing alarms", "gate/settings.go", "2*g.Seen.New.Bad > g.Seen.New.N", "false"},
	{"what alarms goes on", "gates.go", "goesOn := g.OnUndecided == gate.GoOn && !g.Alarming()", "goesOn := g.OnUndecided == gate.GoOn"},
	{"a gate of too few sends back", "gates.go", "d.tally(d.ro.To).newServing > gate.Few)", "true)"},
	{"a zone lost before holds a rollout", "gates.go", "most := max(serving, float64(g.Served-1))", "most := max(serving, g.Floor)"},
	{"a smaller size holds a rollout", "gates.go", "min(g.Floor, most, float64(d.group.Size-d.ro.fewer(d.group.Size)))", "min(g.Floor, most)"},
	{"proceed is held again for want of requests", "gates.go", "d.ro.Times[d.ro.Wave].Waived ||", ""},
	{"what others were stopped for is compared with", "internal/control/gates.go", "!ro.RanBefore(in.Version) {", "false {"},
	{"a gate that had nothing is not mentioned", "rolling.go", "cause = cause.with(count(\"undecided_\"+string(g.Kind), 1))", "_ = g"},

	// A rollout that is held, and the group that goes on.
	{"a held rollout heals nobody before another serves", "heal.go", "first := d.calm() && d.group.Above > 0", "first := d.ro == nil && d.group.Above > 0"},
	{"a held rollout keeps what is ill and serves", "heal.go", "(!d.calm() || d.group.Above > 0)", "(d.ro != nil || d.group.Above > 0)"},
	{"a held rollout keeps to no smaller size", "target.go", "\tif d.calm() {\n\t\tstay", "\tif false {\n\t\tstay"},
	{"a held rollout moves nobody to another zone", "target.go", "if d.calm() && size <= helping() {", "if false {"},
	{"a held rollout sheds its new ones", "target.go", "size + beside + extra, size, d.isOld,", "size + beside + extra, size, anyone,"},
	{"a held rollout to what the group is on launches it", "reconcile.go", "if d.ro != nil {\n\t\treturn d.ro.From", "if false {\n\t\treturn d.ro.From"},

	// What is said.
	{"a loss is told of what should serve", "advice.go", "if text := g.zoneLossNow(instances); text != \"\" {", "if false {\n\t\ttext := \"\""},
	{"what waits for others to come up is not foreseen", "effects.go", "(len(d.Changed) == 0 && !underWay)", "len(d.Changed) == 0 && underWay == underWay"},
	{"a huge value is told as another", "scale.go", "return math.Round(v*1e6) / 1e6", "return math.Round(min(v, 1e12)*1e6) / 1e6"},

	// Too few serve.
	{"unproven ones take the room of what is proven", "target.go", "now.serving < least && helping() < size {", "false {"},
	{"of what is unproven nothing is kept to look at", "proven.go", "d.unproven(in) && in.ID != evidence", "d.unproven(in) && evidence == evidence"},
	{"balance goes on where hooks fail", "tickets.go", "if d.at(i).Purpose == ForBalance {", "if false {"},

	// What nobody noticed once.
	{"a superseding rollout forgets where both came from", "rollouts.go", "\t\tfrom = over.From\n", "\t\t_ = over.From\n"},
	{"no new answers is not undecided", "gate/settings.go", "case g.Seen.New.N == 0, g.Seen.Old.N == 0,", "case g.Seen.Old.N == 0,"},
	{"waves pass outside hours", "rolling.go", "if d.outOfHours() {\n\t\t\treturn false\n\t\t}\n\t\tif g, until", "if d.outOfHours() && false {\n\t\t\treturn false\n\t\t}\n\t\tif g, until"},
	{"at once keeps its waves", "manner.go", "r.Waves = r.Waves[len(r.Waves)-1:]", "r.Waves = r.Waves[0:]"},
	{"a revert takes what was left out", "target.go", "return !of(in) && !d.stays(in) }", "return !of(in) }"},
	{"a trip rule between its lines agrees to shrink", "scaling/judge.go", "v.Agrees = !lowers //", "v.Agrees = true || lowers //"},
	{"a set clock moves no cooldown", "shift.go", "move(&g.RuleStates[i].Acted, &g.RuleStates[i].Shrank)", "_ = i"},
	{"an instance of its own is launched twice", "reconcile.go", "if d.group.NextSerial == 0 {", "if d.tally(d.group.Template).counted == 0 {"},
	{"a gate on who serves gives no time to mend", "gates.go", "g.Kind == gate.Serving && d.now.Before(again) {", "g.Kind == gate.Serving && d.now.Before(d.now) {"},
	{"zone by zone ignores pins", "manner.go", "stay[k.zone] += k.pinned + k.left", "stay[k.zone] += k.left"},
	{"one that a hook holds closes its zone", "zones.go", "in.State != HeldIn && !d", "!d"},
	{"what pools said outlives the service", "internal/control/records.go", "\t\t\tin.ForgetTraffic()\n", ""},
	{"a held revert makes losses good by what it leaves", "target.go", "if d.ro.Back {\n\t\tt.adds", "if false {\n\t\tt.adds"},
	{"a held rollout gives up a zone of new ones", "reconcile.go", "k.giving > 0 && (d.ro == nil || k.version != d.ro.To) {", "k.giving > 0 {"},
	{"a held rollout sheds new ones before old", "target.go", "t.cuts = append(t.cuts, d.cutsTo(most, least)...)\n\tif d.ro.Back", "t.cuts = append(d.cutsTo(size+beside, least), t.cuts...)\n\tif d.ro.Back"},
	{"a loss is filled with what never served", "target.go", "t.serving > t.newServing && !d.everServed() {", "t.serving < 0 && !d.everServed() {"},
	{"a version that never served holds the room", "target.go", "t.serving > t.newServing && !d.everServed() {", "t.serving >= 0 && !d.everServed() {"},
}
