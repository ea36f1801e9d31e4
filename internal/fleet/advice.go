package fleet

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"unitas/internal/fleet/health"
	"unitas/internal/fleet/placement"
	"unitas/internal/fleet/words"
)

// Around is what besides its own settings decides whether a group's settings
// will hurt.
type Around struct {
	// Usual and Slow are how long its instances take from order to serving: the
	// median and the 95th percentile of what was observed; 0 when not known.
	Usual, Slow time.Duration
	// Heals is the healing check, nil when there is none.
	Heals *health.Check
	// Pools send it requests.
	Pools []PoolAround
	// Open are the ports of tcp that its template opens; nil when that is not known.
	Open []int
}

// PoolAround is what matters of a pool to a group.
type PoolAround struct {
	Name  string
	Zones []string // that its listeners stand in; none when nobody said
	Check health.Check
}

// Advise tells what of the settings is allowed and will hurt.
func (g *Group) Advise(a Around) []string {
	all := g.adviseZones()
	say := func(format string, args ...any) { all = append(all, fmt.Sprintf(format, args...)) }
	switch {
	case a.Usual > g.Settle:
		say("Settle is %s, and its instances usually take %s: they would be replaced before they are ready.", words.Span(g.Settle), words.Span(a.Usual))
	case a.Slow > g.Settle:
		say("Settle is %s, and the slowest of its instances (one in twenty) take %s: those would be replaced before they are ready.", words.Span(g.Settle), words.Span(a.Slow))
	}
	for _, check := range a.checks() {
		if least := time.Duration(max(check.Passes, 1)-1) * check.Interval; least >= g.Settle {
			say("Settle is %s, and the check %s needs at least %s for its %s: no instance can become healthy in time.",
				words.Span(g.Settle), check.Name, words.Span(least), words.Count(check.Passes, "pass"))
		}
		if a.Open != nil && !slices.Contains(a.Open, check.Port) {
			say("The check %s asks port %d, and the template %s opens %s: no instance can become healthy by it.", check.Name, check.Port, g.Template, ports(a.Open))
		}
	}
	for _, p := range a.Pools {
		if len(p.Zones) > 0 && !slices.ContainsFunc(p.Zones, func(z string) bool { return slices.Contains(g.Zones, z) }) {
			say("The listeners of the pool %s stand in %s and the group is in %s: they share no zone, so every request crosses between zones.",
				p.Name, strings.Join(p.Zones, ", "), strings.Join(g.Zones, ", "))
		}
		if h := a.Heals; h != nil && h.Name != p.Check.Name && h.Patience() < p.Check.Patience() {
			say("The healing check %s acts after %s and the traffic check %s of the pool %s only after %s: an instance would be replaced while it still gets requests.",
				h.Name, words.Span(h.Patience()), p.Check.Name, p.Name, words.Span(p.Check.Patience()))
		}
	}
	if g.Above == 0 && len(g.Zones) > 1 && g.Size > 0 {
		say("Above is 0: the group is never brought back to balance between its zones, and what is ill goes before another serves.")
	}
	return all
}

// With is what is around the group when a check asks otherwise.
func (a Around) With(c health.Check) Around {
	if a.Heals != nil && a.Heals.Name == c.Name {
		a.Heals = &c
	}
	a.Pools = slices.Clone(a.Pools)
	for k := range a.Pools {
		if a.Pools[k].Check.Name == c.Name {
			a.Pools[k].Check = c
		}
	}
	return a
}

// AdviseCheck tells what will hurt the group once a check asks otherwise, and did not before.
func (g *Group) AdviseCheck(a Around, was, now health.Check) []string {
	before := g.Advise(a.With(was))
	return slices.DeleteFunc(g.Advise(a.With(now)), func(text string) bool { return slices.Contains(before, text) })
}

// checks are those that judge the group, each once.
func (a Around) checks() []health.Check {
	var all []health.Check
	add := func(c health.Check) {
		if !slices.ContainsFunc(all, func(o health.Check) bool { return o.Name == c.Name }) {
			all = append(all, c)
		}
	}
	for _, p := range a.Pools {
		add(p.Check)
	}
	if a.Heals != nil {
		add(*a.Heals)
	}
	return all
}

func ports(all []int) string {
	if len(all) == 0 {
		return "none"
	}
	parts := make([]string, len(all))
	for k, p := range all {
		parts[k] = strconv.Itoa(p)
	}
	return "only " + strings.Join(parts, ", ")
}

// ZoneLoss says what the loss of a zone leaves, the largest it may be; "" for a group
// without a size.
func (g *Group) ZoneLoss(instances []Instance) string {
	if text := g.zoneLossNow(instances); text != "" {
		return text
	}
	if g.Size == 0 || len(g.Zones) == 0 {
		return ""
	}
	left := g.Size - g.inLargestZone(g.Size)
	text := fmt.Sprintf("losing any one zone leaves %d of %d or more", left, g.Size)
	if left == 0 {
		text = "losing one zone can leave none"
	}
	if left < g.Min {
		text += fmt.Sprintf(", below the min of %d", g.Min)
	}
	return text
}

// zoneLossNow tells the same of what serves now, where that is worse than it should be; else "".
func (g *Group) zoneLossNow(instances []Instance) string {
	in, serving, worst := map[string]int{}, 0, ""
	for i := range instances {
		if one := &instances[i]; g.Serves(one) {
			serving++
			in[one.Zone]++
			if in[one.Zone] > in[worst] || (in[one.Zone] == in[worst] && one.Zone < worst) {
				worst = one.Zone
			}
		}
	}
	left := serving - in[worst]
	if serving == 0 || left >= g.Size-g.inLargestZone(g.Size) {
		return ""
	}
	text := fmt.Sprintf("losing %s now would leave %d of %d", worst, left, g.Size)
	if left < g.Min {
		text += fmt.Sprintf(", below the min of %d", g.Min)
	}
	return text
}

// inLargestZone is how many of n the largest zone has at most.
func (g *Group) inLargestZone(n int) int {
	if g.Spread == placement.InOrder || g.Spread == placement.Cheapest {
		return n
	}
	return (n + len(g.Zones) - 1) / len(g.Zones)
}

// AdviseRollout tells what of a rollout to a version will not go as people expect. reverted
// is the last rollout of the group to that version which went back, nil when there is none.
func (g *Group) AdviseRollout(to Version, reverted *Rollout) []string {
	var all []string
	if g.Frozen != "" {
		all = append(all, fmt.Sprintf("The group %s is frozen (%s): nothing is replaced before it is thawed.", g.Name, g.Frozen))
	}
	if reverted != nil {
		all = append(all, fmt.Sprintf("The last rollout to %s went back at %s; look why before it goes on.", to, words.Moment(reverted.Ended)))
	}
	return all
}

func (g *Group) adviseZones() []string {
	largest := g.inLargestZone
	switch {
	case g.Size == 0 || g.Max == 0:
		return nil
	case g.Size > 1 && len(g.Zones) == 1:
		return []string{fmt.Sprintf("All instances are in %s: the group cannot survive its loss.", g.Zones[0])}
	case g.Max-largest(g.Max) < g.Min:
		return []string{fmt.Sprintf("It cannot survive the loss of its largest zone, not even at its max: %d of %d would be left, below the min of %d.",
			g.Max-largest(g.Max), g.Max, g.Min)}
	case g.Size-largest(g.Size) < g.Min:
		return []string{fmt.Sprintf("It cannot survive the loss of its largest zone at this size: %d of %d would be left, below the min of %d.",
			g.Size-largest(g.Size), g.Size, g.Min)}
	}
	return nil
}
