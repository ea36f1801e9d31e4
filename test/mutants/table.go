package main

// fault is one small way in which the code could be wrong.
type fault struct {
	name string
	file string // of the core, or from the root of the tree
	was  string // in it exactly once
	now  string
}

// faults are the ways that are tried, by what they break.
var faults = []fault{
	// Rollouts.
	{"a rollout is never held", "rolling.go", "d.turn(Held, because,", "d.turn(d.ro.State, because,"},
	{"one that never became healthy holds nothing", "rolling.go", "if d.deadline(in).After(d.ro.Resumed) {", "if false {"},
	{"one that turns ill holds nothing", "rolling.go", "r != nil && r.Since.After(d.ro.Resumed) {", "r != nil && false {"},
	{"machines that end hold nothing", "rolling.go", "if d.ro.Stumbles >= StumbleLimit {", "if false {"},
	{"machines that end after they served do not count", "observe.go", "if counted { // what is parked is a person's", "if counted && in.Served.IsZero() {"},
	{"the soak is ignored", "rolling.go", "if d.now.Before(over) {", "if false {"},
	{"waves are ignored", "reconcile.go", "d.replace(d.ro.To, d.ro.From, d.ro.Waves[d.ro.Wave].Of(size))", "d.replace(d.ro.To, d.ro.From, size)"},
	{"a wave is full too soon", "rolling.go", "return t.newServing >= want && t.old() <= d.group.Size-want", "return t.newCounted >= want && t.old() <= d.group.Size-want"},
	{"old ones may be left over", "rolling.go", "return t.newServing >= want && t.old() <= d.group.Size-want", "return t.newServing >= want"},
	{"a wave that is not whole any more goes on soaking", "rolling.go", "\tcase !d.filled():", "\tcase false:"},
	{"unwatched time counts as soak", "rolling.go", "case d.watched.After(d.ro.Since):", "case false:"},
	{"frozen time counts as soak", "decide.go", "if d.ro != nil && d.ro.State == Soaking {", "if false {"},
	{"a held rollout goes on replacing", "reconcile.go", "case d.ro.State == Held:\n\t\td.keep()", "case d.ro.State == Held:\n\t\td.replace(d.ro.To, d.ro.From, size)"},
	{"a held rollout launches the version that fails", "rolling.go", "d.ro.Stumbles < StumbleLimit && !d.ro.Back", "!d.ro.Back"},
	{"a held rollout makes no loss good", "rolling.go", "d.order(missing-ordered, d.ro.From, ForSize, cause)", "_ = missing - ordered"},
	{"a revert never ends", "rolling.go", "d.turn(Reverted, Cause{", "_ = append([]Cause{}, Cause{"},
	{"a revert is stuck with what is ill", "rolling.go", "case stuck < 0 && !in.Pinned && (in.State.ComingUp() || d.helpless(in)):", "case false:"},
	{"what was ill before proceed is stuck", "rolling.go", "} else if r != nil && d.helpless(in) {", "} else if false {"},
	{"the group keeps its template after a rollout", "rolling.go", "d.group.Template = d.ro.To\n", ""},
	{"a rollout takes one too many away", "rolling.go", "floor := d.group.Size, d.ro.Above, d.group.Size-d.ro.fewer(d.group.Size)", "floor := d.group.Size, d.ro.Above, d.group.Size-d.ro.fewer(d.group.Size)-1"},
	{"a rollout launches one too many", "rolling.go", "room := size + above - t.counted", "room := size + above - t.counted + 1"},
	{"below is not bounded on a resize", "objects.go", "below = r.Below * size / r.Sized", "below = r.Below"},
	{"pinned ones are waited for", "rolling.go", "d.group.Size-t.oldPinned), 0)", "d.group.Size), 0)"},
	{"proceed forgives nothing", "rollouts.go", "r.State, r.Back, r.Resumed, r.Stumbles = Moving, false, now, 0", "r.State, r.Back, r.Stumbles = Moving, false, 0"},
	{"the evidence of a hold is healed away", "heal.go", "in.ID != evidence {", "(in.ID != evidence || true) {"},

	// Gates.
	{"a gate never breaks", "gates.go", "g.State(len(d.ro.Gates)) != gate.Broken {", "g.State(len(d.ro.Gates)) != gate.Broken || true {"},
	{"a broken gate only holds", "gates.go", "if g.Broken == gate.Revert {", "if false {"},
	{"gates are not looked at again", "gates.go", "d.lookAt(d.now.Add(GatesEvery))", ""},
	{"an undecided gate goes on", "gates.go", "if g.Undecided == gate.GoOn || g.State", "if true || g.State"},
	{"the longest wait of two gates counts", "gates.go", "if first == nil || lasts.Before(until) {", "if first == nil || until.Before(lasts) {"},
	{"an extended soak never ends", "gates.go", "lasts = lasts.Add(min(max(d.ro.Soak, time.Minute), gate.LongestExtension))", "lasts = lasts.Add(24 * time.Hour)"},
	{"what was seen in other waves counts for this", "rolling.go", "d.ro.Gates[k].Before = d.ro.Gates[k].Seen.New.N", "_ = k"},
	{"proceed forgives no gate", "rollouts.go", "r.Gates[k].Seen, r.Gates[k].Before = gate.Comparison{}, 0", "_, r.Gates[k].Before = gate.Comparison{}, 0"},
	{"who drains is compared", "gates.go", "return i.State == Serving && ", "return "},
	{"cold ones are compared", "gates.go", " && now.Sub(i.Since) >= g.Warm", " && now.Sub(i.Since) >= 0*g.Warm"},
	{"all gates may err as often as one", "gate/settings.go", "g.Seen.Breaks(Alpha / float64(max(of, 1)))", "g.Seen.Breaks(Alpha)"},
	{"new is bet on by its own block", "gate/gate.go", "a, b := estimate(seenNew), estimate(seenOld)", "a, b := estimate(seenNew.add(fresh)), estimate(seenOld.add(old))"},
	{"no worse is worse", "gate/gate.go", "q := nearest(a, b, float64(fresh.N), float64(old.N), margin)", "q := nearest(a, b, float64(fresh.N), float64(old.N), margin) / 2"},

	// Size.
	{"one too few", "reconcile.go", "missing := d.afford(size + extra - t.counted)", "missing := d.afford(size + extra - t.counted - 1)"},
	{"one too many", "reconcile.go", "missing := d.afford(size + extra - t.counted)", "missing := d.afford(size + extra - t.counted + 1)"},
	{"nothing is shed", "reconcile.go", "d.shed(n, d.group.Size, d.sizeCause", "d.shed(0, d.group.Size, d.sizeCause"},
	{"one too many is shed", "reconcile.go", "n := t.counted - most - d.returning()", "n := t.counted - most - d.returning() + 1"},
	{"what serves is shed below the floor", "shed.go", "(serving > floor ||", "(serving >= floor ||"},
	{"a pin is ignored", "shed.go", "in.State.Counts() && !in.Pinned && eligible(in)", "in.State.Counts() && eligible(in)"},
	{"a pin is ignored when it never came up", "heal.go", "in) || in.Pinned || d.ofRollout(in) {", "in) || d.ofRollout(in) {"},
	{"who serves is shed before who does not", "shed.go", "\tcase idle:\n\t\treturn rankFresh", "\tcase false:\n\t\treturn rankFresh"},
	{"the outdated are not shed first", "shed.go", "case in.Version != d.group.Template && (d.group.Shed == ShedOutdated || d.group.Shed == \"\"):", "case false:"},
	{"equally full zones are not asked for the outdated", "shed.go", "}, top)", "}, nil)"},
	{"what comes back is one too many at once", "reconcile.go", "n := t.counted - most - d.returning()", "n := t.counted - most"},
	{"a deleted group keeps what is parked", "reconcile.go", "in.State == Parked && !in.Pinned {", "in.State == Gone && !in.Pinned {"},
	{"a deleted group never ends", "decide.go", "out.Finished = over && d.counts.there == 0", "out.Finished = over && false"},

	// Requests.
	{"nothing drains", "life.go", "if in.State.life().busy && len(g.Checks) > 0 {", "if false {"},
	{"what rests does not drain", "life.go", "{Resting, \"instance.resting\", true, false, false, true, Rest}", "{Resting, \"instance.resting\", true, false, false, false, Rest}"},
	{"what is parked does not drain", "life.go", "{Parked, \"instance.parked\", false, false, false, true, Nothing}", "{Parked, \"instance.parked\", false, false, false, false, Nothing}"},
	{"a drain waits for nothing", "observe.go", "case in.Traffic.Closed && in.Traffic.InFlight == 0:", "case true:"},
	{"a drain never ends by time", "observe.go", "case !d.now.Before(over):", "case false:"},
	{"one check of two is enough to serve", "observe.go", "if r.Verdict != health.Healthy {\n\t\t\treturn Cause{}, false", "if n == 0 && r.Verdict != health.Healthy {\n\t\t\treturn Cause{}, false"},
	{"a rest never ends", "reconcile.go", "in.State == Resting && !in.Pinned &&", "false &&"},
	{"what a former machine did is heard", "facts.go", "if m.Launch != 0 && m.Launch != i.Launch {", "if false {"},
	{"what former checks said is kept", "observe.go", "in := d.at(i); slices.ContainsFunc(in.Reports, former) {", "false {\n\t\tin := d.at(i)\n\t\t_ = in"},

	// Healing.
	{"nothing is healed", "heal.go", "if in := d.at(i); d.group.needsHealing(in) && !in.Pinned", "if in := d.at(i); false && !in.Pinned"},
	{"the limit is ignored", "heal.go", "if unwell > limit && r.Since.After(d.group.HealPermit) {", "if false {"},
	{"a permit is ignored", "heal.go", "if unwell > limit && r.Since.After(d.group.HealPermit) {", "if unwell > limit {"},
	{"what was healed does not count", "heal.go", "unwell, limit := len(ill)+d.healing(), d.group.healsAtOnce()", "unwell, limit := len(ill), d.group.healsAtOnce()"},
	{"a debt of healing is never paid", "slots.go", "if s := d.slot(number); s != nil && s.Healed {", "if s := d.slot(number); false {"},
	{"the ill goes before another serves", "heal.go", "first := d.ro == nil && d.group.Above > 0", "first := false"},
	{"the ill that serves goes while others are missing", "heal.go", "case replaced && d.group.Serves(in) && d.tally(in.Version).serving <= d.group.Size:", "case false:"},
	{"what never came up is kept", "heal.go", "if !d.group.IsOverdue(d.now, in) ||", "if d.len() > 0 ||"},
	{"a stop of healing outlives it", "heal.go", "if !d.group.HealStopped.IsZero() {\n\t\td.group.HealStopped, d.groupChanged = time.Time{}, true", "if false {\n\t\td.group.HealStopped, d.groupChanged = time.Time{}, true"},

	// Places and zones that fail.
	{"places never wait", "slots.go", "return now.Before(s.Until) ||", "return false ||"},
	{"a place that failed waits for ever", "slots.go", "return min(FirstPause<<(failures-2), LastPause)", "return 1000 * LastPause"},
	{"failures are forgotten at once", "slots.go", "until := well.Add(d.group.Proof())", "until := well"},
	{"failures are never forgotten", "slots.go", "kept[k] = !d.proven(&d.group.Slots[k], d.at(i))", "kept[k] = true"},
	{"a replacement for nothing is not counted", "shed.go", "\t\t\td.forNought(next.i)\n", ""},
	{"heal off replaces what vanished", "slots.go", "s.Kept = d.group.Heal == HealOff", "s.Kept = false"},
	{"zones never back off", "zones.go", "s.Of, s.Last, s.Until = in.Version, d.now, d.now.Add(wait)", "s.Of, s.Last, s.Until = in.Version, d.now, d.now"},
	{"a back-off never ends", "zones.go", "d.group.Setbacks = slices.Delete(d.group.Setbacks, k, k+1)", "d.group.Setbacks[k].Until = d.now.Add(LastPause)"},
	{"a zone that failed gets every retry", "zones.go", "if s.Of == v && d.now.Before(s.Doubted()) {", "if false {"},
	{"a zone on trial gets all at once", "zones.go", "c.trial[k] = d.onTrial(s); c.trial[k]", "c.trial[k] = false; c.trial[k]"},
	{"failures under way together are many", "zones.go", "if !s.Last.IsZero() && !in.Ordered.After(s.Last) {", "if s.Last.Equal(d.now) {"},
	{"zones are not brought back to balance", "reconcile.go", "d.launch(b.Name, 0, d.group.Template, ForBalance, cause)", "_ = cause"},
	{"balance goes on for ever", "placement/placement.go", "a.Count-b.Count >= 2", "a.Count-b.Count >= 1"},
	{"the fullest zone is filled", "placement/placement.go", "z.Count < zones[best].Count", "z.Count > zones[best].Count"},

	// What is said.
	{"a cause is missing", "decide.go", "in.State, in.Since, in.Cause = to, d.now, cause", "in.State, in.Since = to, d.now"},
	{"an entry is missing", "decide.go", "\td.entry(Entry{Kind: to.life().kind,", "\tif to == Leaving {\n\t\treturn\n\t}\n\td.entry(Entry{Kind: to.life().kind,"},
	{"numbers are missing", "reconcile.go", "Numbers: Numbers{count(\"has\", has), count(\"size\", d.group.Size)}}", "Numbers: Numbers{count(\"has\", has)}}"},
	{"joined entries lose all but the first", "joined.go", "e.Instances[n] = m.instance", "e.Instances[n] = k.of[0].instance"},
	{"a ledger misses who comes up", "survey.go", "m |= astir", "m |= when(in.State != Settling, astir)"},
	{"a ledger misses who is pinned", "survey.go", "return m | there | counted | serving | pinned", "return m | there | counted | serving | giving"},
	{"nothing looks again", "decide.go", "if t.After(d.now) && (d.again.IsZero() || t.Before(d.again)) {", "if false {"},
}
