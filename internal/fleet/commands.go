package fleet

import (
	"fmt"
	"regexp"
	"time"
)

// NamePattern is the naming rule of every object.
var NamePattern = regexp.MustCompile(`^[a-z](?:[a-z0-9-]{0,61}[a-z0-9])?$`)

// NamingRule says the rule of [NamePattern] to people.
const NamingRule = "a name begins with a lower-case letter, goes on with lower-case letters, digits or hyphens, has 63 characters at most and does not end with a hyphen"

// CheckName reports a name against the naming rule.
func CheckName(field, name string) error {
	if !NamePattern.MatchString(name) {
		return refuse(field, "%q is not a name: %s", name, NamingRule)
	}
	return nil
}

// MaxGroup is the largest size of one group.
const MaxGroup = 10_000

// Validate reports settings that contradict each other.
func (g *Group) Validate() error {
	if err := CheckName("name", g.Name); err != nil {
		return err
	}
	switch {
	case g.Min < 0:
		return refuse("min", "min is %d; give 0 or more", g.Min)
	case g.Max > MaxGroup:
		return refuse("max", "max is %d; give at most %d", g.Max, MaxGroup)
	case g.Min > g.Max:
		return refuse("min", "min is %d and max is %d; min must not be over max", g.Min, g.Max)
	case g.Size < g.Min || g.Size > g.Max:
		return refuse("size", "size is %d; give a size between min (%d) and max (%d)", g.Size, g.Min, g.Max)
	case len(g.Zones) == 0:
		return refuse("zones", "name at least one zone")
	case g.Settle < time.Second || g.Settle > time.Hour:
		return refuse("settle", "settle is %s; give 1s to 1h", g.Settle)
	case g.Drain < 0 || g.Drain > time.Hour:
		return refuse("drain", "drain is %s; give 0s to 1h", g.Drain)
	}
	return nil
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

// Delete returns the group on its way out.
func (g Group) Delete() (Group, Entry, error) {
	g.Deleting = true
	if g.Alone {
		return g, Entry{Kind: "instance.retiring", Instance: g.Name, Because: "a person asked for it", Text: fmt.Sprintf("The instance %s is being retired.", g.Name)}, nil
	}
	return g, Entry{Kind: "group.deleting", Because: "a person asked for it", Text: fmt.Sprintf("The group %s is being deleted.", g.Name)}, nil
}

// Resize returns the group with another size.
func (g Group) Resize(size int, reason string) (Group, Entry, error) {
	if g.Deleting {
		return g, Entry{}, refuse("", "the group %s is being deleted", g.Name)
	}
	from := g.Size
	g.Size = size
	if err := g.Validate(); err != nil {
		return g, Entry{}, err
	}
	because := "a person asked for it"
	if reason != "" {
		because += ": " + reason
	}
	return g, Entry{
		Kind:    "group.resized",
		Text:    fmt.Sprintf("The size of %s goes from %d to %d (between %d and %d).", g.Name, from, size, g.Min, g.Max),
		Because: because,
		Numbers: map[string]any{"from": from, "to": size, "min": g.Min, "max": g.Max},
	}, nil
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
	in.State, in.Since, in.Why = Resting, now, "a person asked for a picture of its files at rest"
	return in, Entry{Kind: "instance.resting", Instance: in.ID, Because: in.Why,
		Text: fmt.Sprintf("%s (%s, %s) is resting.", in.ID, in.Version, in.Zone)}, nil
}
