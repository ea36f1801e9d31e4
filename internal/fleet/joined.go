package fleet

import "slices"

// journal gathers the entries of one decision, equal ones together.
type journal struct {
	kinds []kind
	lines []line // in the order in which they were added
}

// kind is what is said of one or many.
type kind struct {
	Entry
	of []member
}

// member is one of whom it is said.
type member struct {
	instance, zone string
	numbers        Numbers
}

// line is one entry: a kind and which of its members.
type line struct{ kind, member int }

// More than joinOver entries of which all the same is to be said are one. The last
// joinBack kinds are looked at for one that is the same.
const (
	joinOver = 8
	joinBack = 8
)

func (j *journal) add(e Entry) {
	if e.Instance != "" && len(e.Instances) == 0 {
		for k := len(j.kinds) - 1; k >= 0 && k >= len(j.kinds)-joinBack; k-- {
			if j.kinds[k].sameAs(&e) {
				j.lines = append(j.lines, line{k, len(j.kinds[k].of)})
				j.kinds[k].of = append(j.kinds[k].of, member{e.Instance, e.Zone, e.Numbers})
				return
			}
		}
	}
	j.lines = append(j.lines, line{len(j.kinds), 0})
	j.kinds = append(j.kinds, kind{e, []member{{e.Instance, e.Zone, e.Numbers}}})
}

// sameAs reports whether the same is to be said of another instance.
func (k *kind) sameAs(o *Entry) bool {
	return k.Kind == o.Kind && k.Instance != "" && len(k.Instances) == 0 && k.Was == o.Was && k.Version == o.Version && k.Cause.Is(o.Cause)
}

// entries are those that were added, with one for many equal ones in the place of the
// first.
func (j *journal) entries() []Entry {
	if len(j.lines) == 0 {
		return nil
	}
	out := make([]Entry, 0, min(len(j.lines), joinOver*len(j.kinds)))
	for _, l := range j.lines {
		k := &j.kinds[l.kind]
		e := k.Entry
		if len(k.of) <= joinOver {
			m := k.of[l.member]
			e.Instance, e.Zone, e.Numbers = m.instance, m.zone, m.numbers
			out = append(out, e)
			continue
		}
		if l.member > 0 {
			continue
		}
		e.Instance, e.Zone, e.Instances = "", "", make([]string, len(k.of))
		for n, m := range k.of {
			e.Instances[n] = m.instance
			if !slices.Equal(m.numbers, e.Numbers) {
				e.Numbers = nil // of each another
			}
		}
		out = append(out, e)
	}
	return out
}
