package scaling

import (
	"slices"
	"time"
)

// Stack is what the spans of calendars lie over: under all of them is the size that was before, which is kept. Of
// those that set a size the one that began last counts, and bounds lie over all sizes.
type Stack struct {
	Now  time.Time
	Size int // as it is
	// Grown is set when a rule on a metric set the size last: what it made larger stays.
	Grown bool
	// Had are the bounds as they were noted last, and Are those of now.
	Had, Are Bounds
	Rules    []Rule
	Times    map[string]Times
	States   []State
}

// Move is another size, and why: a span that begins sets it; one that is over gives back what lies under it; or the
// bounds of now leave no other, for the calendar By or, where that is "", the group's own.
type Move struct {
	Size int
	By   string
	Why  MoveWhy
}

// MoveWhy is one of those.
type MoveWhy string

// Why a stack wants another size.
const (
	Begun   MoveWhy = "begun"
	Over    MoveWhy = "over"
	Bounded MoveWhy = "bounded"
)

// layer is a span that lasts, with what is kept of it.
type layer struct {
	rule  *Rule
	state State
	fresh bool // it begins with this look
}

// Settle returns the sizes that the stack asks for, one after another, and what is to be kept of its spans.
func (s Stack) Settle() (moves []Move, states []State) {
	lasting, kept, ended := s.layers()
	var top *layer
	for k := range lasting {
		if l := &lasting[k]; l.rule.Size != nil && !l.state.LetGo {
			top = l
		}
	}
	size := s.Size
	move := func(to int, by string, why MoveWhy) {
		if to == size {
			return
		}
		if kept == 0 {
			kept = size + 1
		}
		size = to
		moves = append(moves, Move{to, by, why})
	}
	under := kept - 1
	if top != nil {
		under = *top.rule.Size
	}
	switch by := s.Had.Binds(under); {
	case top != nil && top.fresh:
		move(s.Are.Clamp(under), top.rule.Name, Begun)
	case top == nil && kept == 0: // nothing lies over another
	case ended != "":
		move(s.back(under), ended, Over)
	case s.Had.Clamp(under) != s.Are.Clamp(under) && by != "":
		move(s.back(under), by, Over)
	}
	move(s.Are.Clamp(size), s.Are.Binds(size), Bounded)
	for _, l := range lasting {
		bound := l.rule.Size == nil && (l.state.Sets || slices.ContainsFunc(moves, func(m Move) bool { return m.Why == Bounded && m.By == l.rule.Name }))
		l.state.Before, l.state.Sets = kept, bound || (top != nil && l.rule == top.rule)
		states = append(states, l.state)
	}
	for _, st := range s.States { // what is over is forgotten
		if !slices.ContainsFunc(lasting, func(l layer) bool { return l.rule.Name == st.Name }) {
			st.Before, st.Sets, st.LetGo = 0, false, false
			states = append(states, st)
		}
	}
	return moves, states
}

// back is what is given back where so many lie under what is over.
func (s Stack) back(under int) int {
	if s.Grown {
		under = max(under, s.Size)
	}
	return s.Are.Clamp(under)
}

// layers are the spans that last, in the order in which they began, what is kept under them, and one, and a span
// that set the size, or bounded it, and is over.
func (s Stack) layers() (lasting []layer, kept int, ended string) {
	for k := range s.Rules {
		r := &s.Rules[k]
		if _, lasts := r.Lasts(s.Now, s.Times[r.Name]); !lasts {
			continue
		}
		l := layer{rule: r, state: stateOf(s.States, r.Name)}
		if l.fresh = r.Begins(s.Now, l.state, s.Times[r.Name]); l.fresh {
			l.state.Occurred, l.state.LetGo = s.Times[r.Name].Last, false
		}
		lasting = append(lasting, l)
	}
	slices.SortStableFunc(lasting, func(a, b layer) int { return a.state.Occurred.Compare(b.state.Occurred) })
	first := time.Time{}
	for _, st := range s.States {
		if st.Before > 0 && (kept == 0 || st.Occurred.Before(first)) { // v0.1.0 kept what lay under each
			kept, first = st.Before, st.Occurred
		}
		if st.Sets && !slices.ContainsFunc(lasting, func(l layer) bool { return l.rule.Name == st.Name }) {
			ended = st.Name
		}
	}
	return lasting, kept, ended
}

func stateOf(all []State, name string) State {
	for _, s := range all {
		if s.Name == name {
			return s
		}
	}
	return State{Name: name}
}
