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
	// A rollout and a blip.
	{"a rollout goes on while healing is stopped", "manner.go", "r.advances() && !r.AtOnce && g.HealStopped.After(r.Resumed)", "false"},
	{"what turned ill goes unmissed", "shed.go", "return lasting > floor", "return true"},

	{"zone by zone fills one zone", "manner.go", "has[z]+stay[z] < part {", "has[z] < d.group.Size {"},
	{"one left out keeps its zone the turn", "manner.go", "stay[k.zone] += k.pinned + k.left", "stay[k.zone] += k.pinned"},

	{"a ticket runs out in a frozen group", "tickets.go", "case !now.Before(t.Deadline) && g.Frozen == \"\":", "case !now.Before(t.Deadline):"},

	{"a rollout that waits switches the group off", "decide.go", "if d.unbegun() {", "if false {"},

	// Fresh machines.
	{"fresh machines come all at once", "freshen.go", ".serving >= d.group.Size {", ".serving >= 0 {"},
	{"who is parked waits for a fresh machine", "commands.go", "in.Awaits = false\n\t\treturn move(Parked)", "return move(Parked)"},

	// Rollouts.
	{"a rollout is never held", "rolling.go", "d.turn(Held, because,", "d.turn(d.ro.State, because,"},
	{"one that never became healthy holds nothing", "rolling.go", "} else if d.deadline(in).After(d.ro.Resumed) {", "} else if false {"},
	{"one that turns ill holds nothing", "rolling.go", "r != nil && r.Since.After(d.ro.Resumed) && !tolerant {", "r != nil && false {"},
	{"machines that end hold nothing", "rolling.go", "if d.ro.Stumbles >= d.mayStumble() {", "if false {"},
	{"machines that end after they served do not count", "observe.go", "if counted { // what is parked is a person's", "if counted && in.Served.IsZero() {"},
	{"the soak is ignored", "rolling.go", "if d.now.Before(over) {", "if false {"},
	{"waves are ignored", "target.go", "d.waveEndsWith(d.underWay(), d.ro.Waves[d.ro.Wave].Of(size))", "d.waveEndsWith(d.underWay(), size)"},
	{"a wave is full too soon", "rolling.go", "\tif t.newServing < want {", "\tif t.newCounted < want {"},
	{"old ones may be left over", "rolling.go", "return t.old() <= max(d.group.Size-want, t.oldStay)", "return true"},
	{"a wave that is not whole any more goes on soaking", "rolling.go", "\tcase !d.filled():", "\tcase false:"},
	{"unwatched time counts as soak", "rolling.go", "case d.group.Watched.After(d.ro.Since):", "case false:"},
	{"frozen time counts as soak", "decide.go", "if d.ro != nil && d.ro.State == Soaking {", "if false {"},
	{"a held rollout goes on replacing", "target.go", "case d.replaces():\n", "case d.replaces() || d.ro.State == Held:\n"},
	{"a held rollout launches the version that fails", "target.go", "d.ro.Wave > 0 && d.ro.Stumbles < d.mayStumble() && d.ro.Cause.Code != CodeStumbled {", "d.ro.Wave > 0 {"},
	{"a held rollout makes no loss good", "target.go", "{d.ro.From, helping, size, false,", "{d.ro.From, helping, 0, false,"},
	{"a revert brings all to one version", "back.go", "if s.N = min(s.N, all[0].N); s.N > 0 {", "if s.N = min(s.N, all[0].N); false {"},
	{"what was held comes back", "back.go", "return g.Doubts(v) || (over.doubted() && v == over.To)", "return false"},
	{"what did not serve comes back", "back.go", "!g.Serves(in) ||", "false ||"},
	{"a revert keeps too many of one version", "target.go", "cut{d.placedOf(s.Version), s.N, least,", "cut{d.placedOf(s.Version), size, least,"},
	{"a group that shrank has all of the smaller part back", "back.go", "s.N = s.N * size / r.Sized", "s.N = s.N * 1"},
	{"a revert never ends", "rolling.go", "d.turn(Reverted, Cause{", "_ = append([]Cause{}, Cause{"},
	{"a revert is stuck with what is ill", "rolling.go", "case stuck < 0 && !in.Pinned && (in.State.ComingUp() || d.helpless(in)):", "case false:"},
	{"what was ill before proceed is stuck", "rolling.go", "} else if r != nil && d.helpless(in) {", "} else if false {"},
	{"the group keeps its template after a rollout", "rolling.go", "d.group.Template = d.ro.To\n", ""},
	{"a rollout takes one too many away", "objects.go", "{ return size - r.mayMiss(size), size + r.Above }", "{ return size - r.mayMiss(size) - 1, size + r.Above }"},
	{"a rollout launches one too many", "target.go", "room: func() int { return most - d.counts.counted() },", "room: func() int { return most - d.counts.counted() + 1 },"},
	{"below is not bounded on a resize", "objects.go", "below = r.Below * size / r.Sized", "below = r.Below"},
	{"pinned ones are waited for", "rolling.go", "d.group.Size-t.oldStay), 0)", "d.group.Size), 0)"},
	{"proceed forgives nothing", "rollouts.go", "r.State, r.Back, r.Resumed, r.Stumbles = Moving, false, now, 0", "r.State, r.Back, r.Stumbles = Moving, false, 0"},
	{"the evidence of a hold is healed away", "heal.go", "in.ID != evidence {", "(in.ID != evidence || true) {"},

	// Hooks, and how rollouts go about it.
	{"a launch hook holds nobody", "observe.go", "if d.group.hasHooks(AtLaunch) {", "if false {"},
	{"retire hooks are gone past", "life.go", "!g.hasHooks(AtRetire) {", "true {"},
	{"hooks of a point hold all at once", "tickets.go", "if open && !d.group.HooksAtOnce {", "if false {"},
	{"a ticket never expires", "tickets.go", "case !d.now.Before(t.Deadline):\n\t\t\tt =", "case false:\n\t\t\tt ="},
	{"a failed launch hook lets it go on", "tickets.go", "if d.at(i).State == HeldIn {\n\t\tif t := d.at(i).failedTicket(at); t != nil {", "if d.at(i).State == HeldIn {\n\t\tif t := d.at(i).failedTicket(at); t != nil && false {"},
	{"a failed launch hook holds no rollout", "tickets.go", "d.stumble(i, Cause{Code: cause.Code,", "_ = append([]Cause{}, Cause{Code: cause.Code,"},
	{"a failed launch hook counts for no place", "tickets.go", "d.retire(i, cause)\n\td.failed(i, cause)", "d.retire(i, cause)"},
	{"a late answer counts", "tickets.go", "case !now.Before(t.Deadline) && g.Frozen == \"\":\n\t\treturn in", "case false:\n\t\treturn in"},
	{"another answer counts", "tickets.go", "case t.State != TicketOpen:\n\t\treturn in", "case false:\n\t\treturn in"},
	{"an answer to another launch counts", "tickets.go", "case launch != 0 && launch != t.Launch:", "case false:"},
	{"a deadline moves past its bound", "tickets.go", "if by <= 0 || next.Deadline.After(was.Bound) {", "if by <= 0 {"},
	{"a hook that was taken away goes on holding", "tickets.go", "case d.group.Hook(t.Hook) == nil:", "case false:"},
	{"it is not said which hooks were skipped", "tickets.go", "if len(past) > 0 {", "if false {"},
	{"tickets outlive the way they were for", "tickets.go", "if t.State == TicketOpen && t.At != in.State.point() {", "if false {"},
	{"settle counts while a hook holds", "observe.go", "return later(i.Since, i.Up)", "return i.Up"},
	{"settle counts while nobody watches", "observe.go", "return later(in.settles(), g.Watched).Add(g.Settle)", "return in.settles().Add(g.Settle)"},
	{"a deadline counts while nobody could answer", "tickets.go", "case d.unanswerable(t):", "case false:"},
	{"a held instance is overdue", "observe.go", "return in.failedTicket(AtLaunch) != nil", "return !now.Before(g.deadline(in))"},
	{"in a frozen group deadlines run out", "tickets.go", "case d.group.Frozen != \"\":\n\t\tcase", "case false:\n\t\tcase"},
	{"zone by zone is mixed", "shed.go", "case d.ro.Order == ZoneByZone && first < 0, d.ro", "case d.ro"},
	{"new ones go anywhere in zone by zone", "manner.go", "d.ro.Order != ZoneByZone || v != d.ro.To ||", "true ||"},
	{"what is left out is replaced", "target.go", "return in.Version != d.ro.To && !d.stays(in) }", "return in.Version != d.ro.To }"},
	{"what is left out is waited for", "survey.go", "t.oldStay += k.pinned + k.left", "t.oldStay += k.pinned"},
	{"a time to begin is ignored", "manner.go", "if now.Before(r.StartAt) {", "if false {"},
	{"hours of the day are ignored", "manner.go", "if open, next := r.Hours.Opens(now, at); !open {", "if open, next := r.Hours.Opens(now, at); !open && false {"},
	{"a wave's own soak is ignored", "rollout/waves.go", "if w.Soaks {\n\t\treturn w.Soak", "if false {\n\t\treturn w.Soak"},
	{"a superseded rollout goes on", "rollouts.go", "r.State, r.Since, r.Ended, r.Cause = Abandoned, now, now,", "r.Since, r.Ended, r.Cause = now, now,"},
	{"a group forgets what it ran before", "rolling.go", "d.keepLastGood()", "_ = d"},
	{"a gate on health never breaks", "gates.go", "\t\tif value >= floor {", "\t\tif true || value >= floor {"},
	{"ill new ones do not count for their gate", "gates.go", "if late || (r != nil && r.Since.After(d.ro.Resumed)) {", "if late && r == nil {"},
	{"under a gate on health a version sickens without end", "rolling.go", "\t\t\tif tolerant {\n\t\t\t\td.stumble(i, checked(*r))", "\t\t\tif false {\n\t\t\t\td.stumble(i, checked(*r))"},
	{"how few served is not kept", "manner.go", "d.ro.Lowest, d.roChanged = serving, true", "_ = serving"},
	{"healing owes for ever", "slots.go", "d.group.Slots[k].Healed, d.groupChanged = false, true\n\t\t}\n\t}\n}\n\n// rested", "_ = k\n\t\t}\n\t}\n}\n\n// rested"},
	{"another seed plays the same", "rehearse/play.go", "p.play(p.Seed + uint64(n))", "p.play(p.Seed)"},
	{"the service's being down is not played", "rehearse/play.go", "s.w.Away = s.w.Now.Add(f.For)", "s.w.Away = s.w.Now"},
	{"a rehearsal asks no requests", "rehearse/play.go", "if ro.Compares() && !s.w.Now.Before(s.w.Away) {", "if false {"},
	{"a rehearsal cannot be broken off", "rehearse/play.go", "s.cut = true", "s.cut = false"},
	{"a replay takes what was decided as given", "rehearse/again.go", "if slices.Equal(was, now) {", "if true {"},

	// Gates.
	{"a gate never breaks", "gates.go", "g.Kind.Compares() && g.State(d.ro.Comparing()) == gate.Broken {", "g.Kind.Compares() && false {"},
	{"a broken gate only holds", "gates.go", "if g.OnBroken == gate.Revert && (", "if false && ("},
	{"gates are not looked at again", "gates.go", "d.lookAt(d.now.Add(GatesEvery))", ""},
	{"an undecided gate goes on", "gates.go", "if goesOn || !g.Kind", "if true || goesOn || !g.Kind"},
	{"the longest wait of two gates counts", "gates.go", "if first == nil || lasts.Before(until) {", "if first == nil || until.Before(lasts) {"},
	{"an extended soak never ends", "gates.go", "lasts = lasts.Add(min(max(d.ro.soak(), time.Minute), gate.LongestExtension))", "lasts = lasts.Add(24 * time.Hour)"},
	{"what was seen in other waves counts for this", "rolling.go", "d.ro.Gates[k].Before = d.ro.Gates[k].Seen.New.N", "_ = k"},
	{"proceed forgives no gate", "rollouts.go", "r.Gates[k].Seen, r.Gates[k].Before, r.Gates[k].Served = gate.Comparison{}, 0, 0", "r.Gates[k].Before, r.Gates[k].Served = 0, 0"},
	{"who drains is compared", "gates.go", "return i.State == Serving && ", "return "},
	{"cold ones are compared", "gates.go", " && now.Sub(i.Since) >= g.Warm", " && now.Sub(i.Since) >= 0*g.Warm"},
	{"all gates may err as often as one", "gate/settings.go", "g.Seen.Breaks(Alpha / float64(max(of, 1)))", "g.Seen.Breaks(Alpha)"},
	{"new is bet on by its own block", "gate/gate.go", "a, b := estimate(seenNew), estimate(seenOld)", "a, b := estimate(seenNew.add(fresh)), estimate(seenOld.add(old))"},
	{"no worse is worse", "gate/gate.go", "q := nearest(a, b, float64(fresh.N), float64(old.N), margin)", "q := nearest(a, b, float64(fresh.N), float64(old.N), margin) / 2"},

	// Size.
	{"one too few", "target.go", "d.afford(size + extra - d.counts.counted())", "d.afford(size + extra - d.counts.counted() - 1)"},
	{"one too many", "target.go", "d.afford(size + extra - d.counts.counted()) },\n\t\tadds:  []add{{d.group.Template, d.counts.counted, size,", "d.afford(size + extra - d.counts.counted() + 1) },\n\t\tadds:  []add{{d.group.Template, d.counts.counted, size + 1,"},
	{"nothing is shed", "target.go", "[]cut{{stay, size + extra, size,", "[]cut{{stay, 2 * (size + extra), size,"},
	{"one too many is shed", "target.go", "[]cut{{stay, size + extra, size,", "[]cut{{stay, size + extra - 1, size - 1,"},
	{"what serves is shed below the floor", "shed.go", "return serving > floor", "return serving >= floor"},
	{"a pin is ignored", "shed.go", "in.State.Counts() && !in.Pinned && eligible(in)", "in.State.Counts() && eligible(in)"},
	{"a pin is ignored when it never came up", "heal.go", "in) || in.Pinned || d.ofRollout(in) {", "in) || d.ofRollout(in) {"},
	{"who serves is shed before who does not", "shed.go", "\tcase idle:\n\t\treturn rankFresh", "\tcase false:\n\t\treturn rankFresh"},
	{"the outdated are not shed first", "shed.go", "case in.Version != d.group.Template && (d.group.Shed == ShedOutdated || d.group.Shed == \"\"):", "case false:"},
	{"equally full zones are not asked for the outdated", "shed.go", "may, top)", "may, nil)"},
	{"what comes back is one too many at once", "target.go", "stay := func() int { return d.counts.counted() - d.returning() }\n\treturn", "stay := d.counts.counted\n\treturn"},
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
	{"the ill goes before another serves", "heal.go", "first := d.calm() && d.group.Above > 0", "first := false"},
	{"the ill that serves goes while others are missing", "heal.go", "case replaced && d.group.Serves(in) && d.tally(in.Version).serving <= d.group.Size:", "case false:"},
	{"what never came up is kept", "heal.go", "if !d.group.IsOverdue(d.now, in) ||", "if d.len() > 0 ||"},
	{"a stop of healing outlives it", "heal.go", "if !d.group.HealStopped.IsZero() {\n\t\td.group.HealStopped, d.groupChanged = time.Time{}, true", "if false {\n\t\td.group.HealStopped, d.groupChanged = time.Time{}, true"},

	// Places and zones that fail.
	{"places never wait", "slots.go", "return now.Before(s.Until) ||", "return false ||"},
	{"a place that failed waits for ever", "slots.go", "return min(FirstPause<<(failures-2), LastPause)", "return 1000 * LastPause"},
	{"failures are forgotten at once", "slots.go", "until := well.Add(d.group.Proof(s.Failures))", "until := well"},
	{"failures are never forgotten", "slots.go", "kept[k] = !d.proven(&d.group.Slots[k], d.at(i))", "kept[k] = true"},
	{"a replacement for nothing is not counted", "shed.go", "\t\t\td.countNeedless(next.i)\n", ""},
	{"heal off replaces what vanished", "slots.go", "s.Kept = d.group.Heal == HealOff", "s.Kept = false"},
	{"zones never back off", "zones.go", "d.now.Add(wait), \"\"", "d.now, \"\""},
	{"a back-off never ends", "zones.go", "d.group.Setbacks = slices.Delete(d.group.Setbacks, k, k+1)", "d.group.Setbacks[k].Until = d.now.Add(LastPause)"},
	{"a zone that failed gets every retry", "zones.go", "if s.Of == v && d.now.Before(s.Doubted()) {", "if false {"},
	{"a zone on trial gets all at once", "zones.go", "c.trial[k] = d.onTrial(s); c.trial[k]", "c.trial[k] = false; c.trial[k]"},
	{"failures under way together are many", "zones.go", "if !s.Last.IsZero() && !in.Ordered.After(s.Last) {", "if s.Last.Equal(d.now) {"},
	{"zones are not brought back to balance", "reconcile.go", "d.launch(b.Name, 0, d.usual(), ForBalance, cause)", "_ = cause"},
	{"balance goes on for ever", "placement/placement.go", "a.Count-b.Count >= 2", "a.Count-b.Count >= 1"},
	{"the fullest zone is filled", "placement/placement.go", "z.Count < zones[best].Count", "z.Count > zones[best].Count"},

	// What is said.
	{"a cause is missing", "decide.go", "in.State, in.Since, in.Cause = to, d.now, cause", "in.State, in.Since = to, d.now"},
	{"an entry is missing", "decide.go", "\td.entry(Entry{Kind: to.life().kind,", "\tif to == Leaving {\n\t\treturn\n\t}\n\td.entry(Entry{Kind: to.life().kind,"},
	{"numbers are missing", "reconcile.go", "Numbers: Numbers{count(\"has\", has), count(\"size\", d.group.Size)}}", "Numbers: Numbers{count(\"has\", has)}}"},
	{"joined entries lose all but the first", "joined.go", "e.Instances[n] = m.instance", "e.Instances[n] = k.of[0].instance"},
	{"a ledger misses who comes up", "survey.go", "m |= unsteady", "m |= when(in.State != Settling, unsteady)"},
	{"a ledger misses who is pinned", "survey.go", "return m | there | counted | serving | pinned", "return m | there | counted | serving | giving"},
	{"nothing looks again", "decide.go", "if t.After(d.now) && (d.again.IsZero() || t.Before(d.again)) {", "if false {"},
}
