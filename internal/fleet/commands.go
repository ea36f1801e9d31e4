package fleet

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet/placement"
	"unitas/internal/fleet/scaling"
	"unitas/internal/fleet/words"
)

// CheckName reports a name against the naming rule.
func CheckName(field, name string) error {
	if r := nameFault(field, name); r != nil {
		return r
	}
	return nil
}

func nameFault(field, name string) *Refusal {
	if words.IsName(name) {
		return nil
	}
	return refuse(field, "%q is not a name: %s", words.Plain(name, 80), words.NamingRule)
}

// MaxGroup is the largest size of one group.
const MaxGroup = 10_000

// Validate reports all settings that cannot be, or contradict each other.
func (g *Group) Validate() error { return g.validate(&Group{}) }

// validate holds the group against what it was: of two settings that contradict each
// other, the one is at fault that was changed.
func (g *Group) validate(was *Group) error {
	var f faults
	f.add(nameFault("name", g.Name))
	f.when(g.Min < 0, "min", "%d is too small; give 0 or more", g.Min)
	f.when(g.Max > MaxGroup, "max", "%d is too large; give %d or less", g.Max, MaxGroup)
	if g.Min <= g.Max {
		f.add(g.outOfBounds(was))
	} else if was.Name != "" && g.Min == was.Min {
		f.add(refuse("max", "%d is under the min of %d; lower min as well", g.Max, g.Min))
	} else {
		f.add(refuse("min", "%d is over the max of %d; raise max as well", g.Min, g.Max))
	}
	f.when(len(g.Zones) == 0, "zones", "no zone is named; name at least one")
	f.when(g.twice() != "", "zones", "%s is named twice; name each zone once", g.twice())
	f.when(g.Settle < time.Second || g.Settle > time.Hour, "settle_seconds", "%s is not from 1s to 1h", words.Typed(g.Settle))
	f.when(g.HealLimit < 0 || g.HealLimit > 100, "heal_limit_percent", "%d%% is not from 1%% to 100%%", g.HealLimit)
	f.when(g.Shed != "" && g.Shed != ShedOutdated && g.Shed != ShedOldest && g.Shed != ShedNewest, "shed", "%q is not one of outdated, oldest, newest", words.Plain(string(g.Shed), 80))
	f.when(g.Spread != "" && g.Spread != placement.Even && g.Spread != placement.InOrder && g.Spread != placement.Cheapest, "spread", "%q is not one of even, in-order, cheapest", words.Plain(string(g.Spread), 80))
	f.when(g.Above < 0 || g.Above > 1000, "above", "%d is not from 0 to 1000", g.Above)
	f.when(g.Scrape != "" && !scrapePattern.MatchString(g.Scrape), "scrape", "%q is not a path such as /metrics, nor one with a port before it, such as 9100/metrics", words.Plain(g.Scrape, 80))
	f.when(g.Drain < 0 || g.Drain > time.Hour, "drain_seconds", "%s is not from 0s to 1h", words.Typed(g.Drain))
	f.add(g.validateRules())
	f.add(g.validateHooks())
	return f.refusal()
}

// bounds are those of now, as far as the service noted what calendars set.
func (g *Group) bounds() scaling.Bounds {
	if g.Bound != nil && len(g.Rules) > 0 {
		return *g.Bound
	}
	return scaling.Bounds{Min: g.Min, Max: g.Max}
}

// by names the calendar that something is set by, "" for none.
func by(calendar string) string {
	if calendar == "" {
		return ""
	}
	return " by the calendar " + calendar
}

// outOfBounds refuses a size that is not within the bounds of now.
func (g *Group) outOfBounds(was *Group) *Refusal {
	b := g.bounds()
	given := was.Name == "" || g.Size != was.Size // the size, or else a bound
	switch {
	case g.Size >= b.Min && g.Size <= b.Max:
		return nil
	case len(b.By) > 0:
		return refuse("size", "%d is not between min (%d) and max (%d), which hold until %s by the calendar %s", g.Size, b.Min, b.Max, words.Moment(b.Until), strings.Join(b.By, ", "))
	case given:
		return refuse("size", "%d is not between min (%d) and max (%d)", g.Size, b.Min, b.Max)
	case g.Size < b.Min:
		return refuse("min", "%d is over the size of %d; raise size as well", b.Min, g.Size)
	}
	return refuse("max", "%d is under the size of %d; lower size as well", b.Max, g.Size)
}

// scrapePattern is [PORT]/PATH.
var scrapePattern = regexp.MustCompile(`^([1-9][0-9]{0,4})?/[!-~]{0,180}$`)

// twice is a zone that the group names twice, or "".
func (g *Group) twice() string {
	for k, zone := range g.Zones {
		if slices.Contains(g.Zones[:k], zone) {
			return zone
		}
	}
	return ""
}

// ofGroup are the names that groups give their instances.
var ofGroup = regexp.MustCompile(`-[0-9a-f]{3,}$`)

// CheckInstanceName reports a name that an instance of its own cannot have.
func CheckInstanceName(name string) error {
	if err := CheckName("name", name); err != nil {
		return err
	}
	if ofGroup.MatchString(name) {
		return refuse("name", "%q ends like the name of a group's instance; choose one that does not end with - and three digits or letters a to f", name)
	}
	return nil
}

// Pinned are the instances that nothing may remove.
func Pinned(instances []Instance) []string {
	var all []string
	for i := range instances {
		if in := &instances[i]; in.Pinned && in.State != Gone {
			all = append(all, in.ID)
		}
	}
	return all
}

// Delete returns the group on its way out. It is refused while instances of it
// are pinned: a pin outlasts whatever else is asked for.
func (g Group) Delete(pinned ...string) (Group, Entry, error) {
	if g.Frozen != "" {
		return g, Entry{}, g.isFrozen()
	}
	if len(pinned) > 0 {
		return g, Entry{}, refuse("", "of the group %s %s pinned: %s; unpin first what may go", g.Name, words.Are(len(pinned), "instance"), strings.Join(pinned, ", "))
	}
	g.Deleting = true
	if g.Alone {
		return g, Entry{Kind: "instance.retiring", Instance: g.Name, Cause: Asked("")}, nil
	}
	return g, Entry{Kind: "group.deleting", Cause: Asked("")}, nil
}

func (g *Group) isFrozen() error {
	return refuse("", "the group %s is frozen (%s); thaw it first with: unitas group thaw %s", g.Name, g.Frozen, g.Name)
}

// Change returns the group with other settings, which change says; the parts of
// a group that are no settings are as before.
func (g Group) Change(change func(*Group), reason string) (Group, Entry, error) {
	if g.Deleting {
		return g, Entry{}, refuse("", "the group %s is being deleted", g.Name)
	}
	was := g
	change(&g)
	if err := g.validate(&was); err != nil {
		return was, Entry{}, err
	}
	differences := was.Differences(g)
	if len(differences) == 0 {
		return was, Entry{}, refuse("", "nothing would change: the group %s has these settings already", g.Name)
	}
	if was.Template != g.Template {
		g.Slots = nil // it may be what cures them
	}
	kind, numbers := "group.changed", Numbers(nil)
	if was.Size != g.Size {
		g.SizedBy = ""
		g.letGo()
		kind, numbers = "group.resized", Numbers{count("from", was.Size), count("to", g.Size), count("min", g.Min), count("max", g.Max)}
	} else if was.Min != g.Min || was.Max != g.Max {
		numbers = Numbers{count("from", was.Size), count("to", g.Size), count("min", g.Min), count("max", g.Max)}
	}
	return g, Entry{Kind: kind, Text: fmt.Sprintf("The group %s has other settings: %s.", g.Name, strings.Join(differences, "; ")), Cause: Asked(reason), Numbers: numbers}, nil
}

// Differences are the settings that are different in b, in words.
func (g *Group) Differences(b Group) []string {
	var all words.Differences
	differs := func(what string, was, now any) { all.Note(what, fmt.Sprint(was), fmt.Sprint(now)) }
	differs("size", g.Size, b.Size)
	differs("min", g.Min, b.Min)
	differs("max", g.Max, b.Max)
	differs("template for new launches", g.Template, b.Template)
	differs("zones", strings.Join(g.Zones, " "), strings.Join(b.Zones, " "))
	differs("spread", cmp.Or(g.Spread, placement.Even), cmp.Or(b.Spread, placement.Even))
	differs("above", g.Above, b.Above)
	differs("pools", strings.Join(g.Pools, " "), strings.Join(b.Pools, " "))
	differs("shed", g.Shed, b.Shed)
	differs("heal", g.Heal, b.Heal)
	differs("heal-limit", fmt.Sprintf("%d %%", g.HealLimit), fmt.Sprintf("%d %%", b.HealLimit))
	differs("settle", words.Span(g.Settle), words.Span(b.Settle))
	differs("drain", words.Span(g.Drain), words.Span(b.Drain))
	differs("pin-new", g.PinNew, b.PinNew)
	differs("hooks", joined(g.Hooks), joined(b.Hooks))
	differs("scrape", g.Scrape, b.Scrape)
	all = append(all, g.ruleDifferences(&b)...)
	differs("course", g.Course, b.Course)
	differs("hooks at once", g.HooksAtOnce, b.HooksAtOnce)
	differs("labels", pairs(g.Labels), pairs(b.Labels))
	differs("doubted versions", doubtedWords(g.Doubted), doubtedWords(b.Doubted))
	return all
}

func joined(hooks []Hook) string {
	all := make([]string, len(hooks))
	for k, h := range hooks {
		all[k] = h.String()
	}
	return strings.Join(all, "; ")
}

// pairs writes labels as people give them.
func pairs(labels map[string]string) string {
	var all []string
	for name, value := range labels {
		all = append(all, name+"="+value)
	}
	slices.Sort(all)
	return strings.Join(all, ",")
}

// Freeze stops all that happens to the group by itself, but for counting.
func (g Group) Freeze(reason string) (Group, Entry, error) {
	switch {
	case g.Frozen != "":
		return g, Entry{}, refuse("", "the group %s is frozen already: %s", g.Name, g.Frozen)
	case g.Deleting:
		return g, Entry{}, refuse("", "the group %s is being deleted", g.Name)
	}
	g.Frozen = reason
	return g, Entry{Kind: "group.frozen", Cause: Because(reason)}, nil
}

// Thaw starts it again.
func (g Group) Thaw(reason string) (Group, Entry, error) {
	if g.Frozen == "" {
		return g, Entry{}, refuse("", "the group %s is not frozen", g.Name)
	}
	g.Frozen = ""
	return g, Entry{Kind: "group.thawed", Cause: Asked(reason)}, nil
}

// HealAnyway permits what is unhealthy now to be healed whatever the limit, and
// places that stay empty after failures to be filled now.
func (g Group) HealAnyway(now time.Time, reason string) (Group, Entry, error) {
	waits := func(s Slot) bool { return g.Waits(now, &s) }
	if g.HealStopped.IsZero() && !slices.ContainsFunc(g.Slots, waits) {
		return g, Entry{}, refuse("", "healing of the group %s is not stopped, and none of its places waits", g.Name)
	}
	g.Slots = slices.Clone(g.Slots)
	for i := range g.Slots {
		if s := &g.Slots[i]; waits(*s) {
			s.Until, s.Kept = now, false
		}
	}
	g.HealPermit = now
	return g, Entry{Kind: "group.healing-permitted", Cause: Asked(reason)}, nil
}

// InstanceCommand is what a person may tell one instance of a group.
type InstanceCommand string

// The commands. Park takes out of traffic and keeps; pin protects from removal;
// retire removes properly, and the group launches another.
const (
	CommandPin    InstanceCommand = "pin"
	CommandUnpin  InstanceCommand = "unpin"
	CommandPark   InstanceCommand = "park"
	CommandUnpark InstanceCommand = "unpark"
	CommandRetire InstanceCommand = "retire"
	// CommandRecreate gives it a fresh machine under its name, once all others serve.
	CommandRecreate InstanceCommand = "recreate"
	// CommandRecreateNow does so whoever serves.
	CommandRecreateNow InstanceCommand = "recreate-at-once"
)

// IsLaunch refuses when the instance has another machine than the one that was looked at, by the
// number of its launch; 0 is any.
func (in *Instance) IsLaunch(n int) error {
	if n == 0 || in.Launch == n {
		return nil
	}
	return refuse("", "%s has another machine by now than the one that was looked at: its number %d, and not %d; look again", in.ID, in.Launch, n)
}

// TellInstance returns the instance after a person's command.
func (g Group) TellInstance(now time.Time, in Instance, c InstanceCommand, reason string) (Instance, Entry, error) {
	because := Asked(reason)
	entry := func(kind string) Entry {
		return Entry{Kind: kind, Instance: in.ID, Version: in.Version, Zone: in.Zone, Was: string(in.State), Cause: because}
	}
	move := func(to State) (Instance, Entry, error) {
		e := entry(to.life().kind)
		in.State, in.Since, in.Cause = to, now, because
		return in, e, nil
	}
	switch {
	case in.State == Gone:
		return in, Entry{}, refuse("", "%s is gone", in.ID)
	case g.Alone && c != CommandPin && c != CommandUnpin:
		return in, Entry{}, refuse("", "%s belongs to no group; retire it as it is", in.ID)
	case c == CommandPin && in.Pinned, c == CommandUnpin && !in.Pinned:
		return in, Entry{}, refuse("", "%s is %sed already", in.ID, map[InstanceCommand]string{CommandPin: "pinn", CommandUnpin: "unpinn"}[c])
	case c == CommandPin:
		in.Pinned = true
		return in, entry("instance.pinned"), nil
	case c == CommandUnpin:
		in.Pinned = false
		return in, entry("instance.unpinned"), nil
	case c == CommandPark && in.State == Serving:
		in.Awaits = false
		return move(Parked)
	case c == CommandUnpark && in.State == Parked:
		in.Up, in.Reports = now, nil
		return move(Settling)
	case in.Renew:
		return in, Entry{}, refuse("", "%s is being given a fresh machine; wait until it is back", in.ID)
	case (c == CommandRecreate || c == CommandRecreateNow) && in.Pinned:
		return in, Entry{}, refuse("", "%s is pinned, and a fresh machine would remove its own; unpin it first", in.ID)
	case c == CommandRecreate && in.Awaits:
		return in, Entry{}, refuse("", "%s waits for its turn to get a fresh machine already", in.ID)
	case c == CommandRecreate && in.State.Counts() && in.State != Resting:
		in.Awaits = true
		return in, entry("instance.fresh-awaited"), nil
	case (c == CommandRecreate || c == CommandRecreateNow) && (in.State.Counts() || in.State == Parked) && in.State != Resting:
		in.Renew, in.Awaits = true, false
		return move(g.out(&in))
	case c == CommandRetire && in.Pinned:
		return in, Entry{}, refuse("", "%s is pinned; unpin it first", in.ID)
	case c == CommandRetire && (in.State.Counts() || in.State == Parked):
		in.Awaits = false
		return move(g.out(&in))
	}
	return in, Entry{}, refuse("", "%s is %s; it cannot be told to %s now", in.ID, in.State, c)
}

// Release lets an instance go without stopping it: it belongs to no group from
// then on. With replace the group launches another, without its size is one less.
func (g Group) Release(now time.Time, in Instance, replace bool, reason string) (Group, Instance, Entry, error) {
	switch {
	case g.Alone:
		return g, in, Entry{}, refuse("", "%s belongs to no group already", in.ID)
	case g.Deleting:
		return g, in, Entry{}, refuse("", "the group %s is being deleted", g.Name)
	case in.Renew || (in.State != Serving && in.State != Settling && in.State != Parked):
		return g, in, Entry{}, refuse("", "%s is %s; only one whose machine runs can be released", in.ID, in.State)
	case !replace && in.State != Parked && g.Size-1 < g.bounds().Min:
		return g, in, Entry{}, refuse("", "without another in its place the size would be %d, below the min of %d%s; have it replaced, or lower min first", g.Size-1, g.bounds().Min, by(g.bounds().LeastBy))
	}
	numbers := Numbers{count("size", g.Size)}
	if !replace && in.State != Parked {
		g.Size--
		g.RuleStates = slices.Clone(g.RuleStates)
		for k := range g.RuleStates { // what is kept under a calendar is one less as well
			if s := &g.RuleStates[k]; s.Before > 1 {
				s.Before--
			}
		}
		numbers = Numbers{count("from", g.Size+1), count("to", g.Size), count("min", g.Min), count("max", g.Max)}
	}
	e := Entry{Kind: "instance.released", Instance: in.ID, Version: in.Version, Zone: in.Zone, Was: string(in.State), Cause: Asked(reason), Numbers: numbers}
	in.State, in.Since, in.Reports = Serving, now, nil
	in.Cause = Cause{Code: CodeReleased, About: g.Name, Words: reason}
	return g, in, e, nil
}

// RestInstance returns the instance on its way to rest, for a picture of its
// files. It is a person's choice to serve with one fewer meanwhile.
func (g Group) RestInstance(now time.Time, in Instance, busy bool) (Instance, Entry, error) {
	switch {
	case in.State != Serving:
		return in, Entry{}, refuse("", "%s is %s; only an instance that serves can be put to rest", in.ID, in.State)
	case busy:
		return in, Entry{}, refuse("", "the group %s has a rollout under way; put %s to rest when it is over", g.Name, in.ID)
	case g.Deleting:
		return in, Entry{}, refuse("", "the group %s is being deleted", g.Name)
	}
	in.State, in.Since, in.Cause = Resting, now, Cause{Code: CodePicture}
	return in, Entry{Kind: Resting.life().kind, Instance: in.ID, Version: in.Version, Zone: in.Zone, Was: string(Serving), Cause: in.Cause}, nil
}
