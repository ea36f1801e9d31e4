package fleet

import (
	"slices"
	"strings"
)

// MostDoubted is how many versions a group keeps away from at most; of more the oldest is forgotten.
const MostDoubted = 16

// Doubts reports whether a version is one that the group was kept or taken back from, and that nobody
// cleared since.
func (b *Book) Doubts(v Version) bool { return slices.Contains(b.Doubted, v) }

// noteDoubts keeps which version the live rollout was held for or goes back from. That a person holds it,
// that a gate had seen too little, or that it waits says nothing about the version; that a person tells it
// to proceed clears it.
func (d *deciding) noteDoubts() {
	switch {
	case d.ro == nil || d.ro.State.Ended():
	case d.ro.doubted():
		d.doubt(d.ro.To)
	case d.ro.Cause.Code == CodeTold && Command(d.ro.Cause.About) == CommandProceed:
		d.trust(d.ro.To)
	}
}

func (d *deciding) doubt(v Version) {
	if d.group.Doubts(v) {
		return
	}
	d.group.Doubted = append(slices.Clone(d.group.Doubted), v)
	d.group.Doubted = d.group.Doubted[max(0, len(d.group.Doubted)-MostDoubted):]
	d.groupChanged = true
}

func (d *deciding) trust(v Version) {
	if d.group.Doubts(v) {
		d.group.Doubted = slices.DeleteFunc(slices.Clone(d.group.Doubted), func(o Version) bool { return o == v })
		d.groupChanged = true
	}
}

// Trust clears versions that the group keeps away from, as a person's doing.
func (g *Group) Trust(versions []Version) error {
	for _, v := range versions {
		if !g.Doubts(v) {
			return refuse("trust", "the group %s does not doubt %s; it doubts %s", g.Name, v, doubtedWords(g.Doubted))
		}
	}
	g.Doubted = slices.DeleteFunc(slices.Clone(g.Doubted), func(v Version) bool { return slices.Contains(versions, v) })
	return nil
}

func doubtedWords(all []Version) string {
	if len(all) == 0 {
		return "none"
	}
	var names []string
	for _, v := range all {
		names = append(names, v.String())
	}
	return strings.Join(names, ", ")
}

// GoodBefore is the version that the group ran before its present one and does not doubt; zero when there is
// none.
func (b *Book) GoodBefore() Version {
	if b.Doubts(b.LastGood) {
		return Version{}
	}
	return b.LastGood
}

// keepLastGood notes what ran before a rollout that is done: what the group fled from, by going back to
// what was good, or was kept back from, is no version to go back to.
func (d *deciding) keepLastGood() {
	from, to := d.ro.From, d.ro.To
	if from == to {
		return
	}
	if to == d.group.LastGood {
		d.doubt(from)
	}
	switch {
	case !d.group.Doubts(from):
		d.group.LastGood = from
	case d.group.LastGood == to:
		d.group.LastGood = Version{}
	}
}
