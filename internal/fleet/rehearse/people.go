package rehearse

import (
	"time"

	"unitas/internal/fleet"
)

// Change has a person change the group, when that may be.
func (w *World) Change(f func(fleet.Group) (fleet.Group, fleet.Entry, error)) error {
	g, e, err := f(w.View.Group)
	if err == nil {
		switch was := w.View.Group.Frozen; {
		case was == "" && g.Frozen != "":
			w.froze = w.Now
		case was != "" && g.Frozen == "": // as the live service has it
			w.watched, w.left = w.Now, w.froze
			w.freezes = append(w.freezes, [2]time.Time{w.froze, w.Now})
		}
		w.View.Group = g
		w.note(e)
	}
	return err
}

// Rest has a person put an instance to rest, when that may be: it finishes its
// requests, its machine halts for the time, and is woken.
func (w *World) Rest(id string, halted time.Duration) {
	in, m := w.Instance(id), w.Machines[id]
	if in == nil || m == nil {
		return
	}
	rests, e, err := w.View.Group.RestInstance(w.Clock(), *in, w.View.Rollout != nil)
	if err != nil {
		return
	}
	w.edit(id, func(in *fleet.Instance) { *in = rests })
	w.note(e)
	w.carryOut(fleet.Rest, w.Instance(id))
	var wake func()
	wake = func() {
		if w.Now.Before(w.Away) { // who takes the picture is away too
			w.At(w.Away.Add(time.Millisecond), wake)
			return
		}
		if in := w.Instance(id); in != nil && in.State == fleet.Resting && !m.Gone {
			w.edit(id, func(in *fleet.Instance) {
				in.HearMachine(fleet.Machine{State: fleet.MachineWoken, Launch: m.Launch})
			})
			w.wellAgain(id, m)
		}
	}
	w.In(min(m.Finish, w.View.Group.Drain)+halted, wake)
}

// wellAgain has a machine that nobody asked for a while found healthy, unless it is ill.
func (w *World) wellAgain(id string, m *Machine) {
	if m.Well >= 0 && len(m.Bad) == 0 {
		w.In(m.Well, func() {
			if len(m.Bad) == 0 {
				w.answer(m, id, true)
			}
		})
	}
}

// Tell has a person tell an instance something, when that may be.
func (w *World) Tell(id string, c fleet.InstanceCommand) {
	in, m := w.Instance(id), w.Machines[id]
	if in == nil {
		return
	}
	told, e, err := w.View.Group.TellInstance(w.Clock(), *in, c, "")
	if err != nil {
		return
	}
	if told.Owed() != in.Owed() {
		told.Traffic = fleet.Traffic{}
	}
	w.edit(id, func(in *fleet.Instance) { *in = told })
	w.note(e)
	if c == fleet.CommandPark {
		w.shut(in, m)
	}
	w.catchUp(id)
	if c == fleet.CommandUnpark && m != nil {
		w.wellAgain(id, m)
	}
}

// Release has a person let an instance go, when that may be: its machine runs on
// and is nobody's business any more.
func (w *World) Release(id string, replace bool) {
	in := w.Instance(id)
	if in == nil {
		return
	}
	g, _, e, err := w.View.Group.Release(w.Clock(), *in, replace, "")
	if err != nil {
		return
	}
	w.View.Group = g
	w.drop(func(o *fleet.Instance) bool { return o.ID == id })
	delete(w.Machines, id)
	w.note(e)
}
