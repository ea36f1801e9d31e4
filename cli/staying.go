package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"unitas/api/contract"
	"unitas/client"
)

// stayWithGroup follows a group until Ctrl-C; with a wanted size, until as many serve
// where they should and nothing else is under way.
func (a *app) stayWithGroup(ctx context.Context, name string, p patience, wanted *int) error {
	return a.live(ctx, p, func() (sight, error) {
		g, err := a.readGroup(ctx, name)
		if err != nil {
			return sight{}, err
		}
		s := sight{picture: g.picture(), sentence: g.Summary.Sentence, value: g.Group}
		if wanted != nil {
			s.done, s.bad = g.whole(), g.hopeless(*wanted)
		}
		return s, nil
	})
}

// whole reports whether as many serve as should, where they should.
func (v groupView) whole() bool {
	return v.Summary.Serving == v.Size && v.Summary.ComingUp == 0 && v.Summary.GoingOut == 0 &&
		!slices.ContainsFunc(v.instances, func(in contract.Instance) bool { return !slices.Contains(v.Zones, in.Zone) })
}

// failedTooOften is after how many launches in a row nobody need wait for a place.
const failedTooOften = 3

// hopeless says why the size that was wanted will not be served without somebody's doing,
// or "".
func (v groupView) hopeless(wanted int) string {
	if v.whole() && v.Size == wanted {
		return ""
	}
	for _, s := range v.Slots {
		if s.Failures >= failedTooOften {
			return fmt.Sprintf("one slot of %s failed %d times in a row, the last %s; see why with: unitas group failures %s", v.Name, s.Failures, strings.Join(s.Failed, ", "), v.Name)
		}
	}
	switch {
	case v.Deleting:
		return fmt.Sprintf("%s is being deleted", v.Name)
	case v.Size != wanted:
		return fmt.Sprintf("the size of %s is %d by now, and not %d; see why with: unitas why %s", v.Name, v.Size, wanted, v.Name)
	case v.Frozen != "":
		return fmt.Sprintf("%s is frozen (%s), so nothing is launched or stopped; thaw it with: unitas group thaw %s", v.Name, v.Frozen, v.Name)
	case v.HealingStoppedAt != nil && v.Summary.ComingUp == 0 && v.Summary.GoingOut == 0:
		return fmt.Sprintf("healing of %s is stopped; go on with: unitas group heal %s", v.Name, v.Name)
	}
	return ""
}

// stayUntilGone follows instances to their end, and their groups until they are whole again.
func (a *app) stayUntilGone(ctx context.Context, retired []contract.Instance, p patience) error {
	sizes := map[string]int{}
	return a.live(ctx, p, func() (sight, error) {
		s, err := a.lookAt(ctx, retired, comes{state: contract.InstanceStateGone})
		if err != nil || !s.done {
			return s, err
		}
		for _, in := range retired {
			if in.Group == "" {
				continue
			}
			g, err := a.readGroup(ctx, in.Group)
			if err != nil {
				return sight{}, err
			}
			if _, seen := sizes[in.Group]; !seen {
				sizes[in.Group] = g.Size
			}
			s.picture, s.sentence, s.value = g.picture(), g.Summary.Sentence, g.Group
			if s.done, s.bad = g.whole(), g.hopeless(sizes[in.Group]); !s.done {
				break
			}
		}
		return s, nil
	})
}

// stayUntil follows instances until all have come to a state.
func (a *app) stayUntil(ctx context.Context, told []contract.Instance, p patience, to comes) error {
	return a.live(ctx, p, func() (sight, error) { return a.lookAt(ctx, told, to) })
}

// lookAt looks at instances that are to come to something.
func (a *app) lookAt(ctx context.Context, told []contract.Instance, to comes) (sight, error) {
	s, there := sight{}, 0
	var all []contract.Instance
	for _, was := range told {
		in, _, err := ask[contract.Instance](a, func(c *client.Client) (*http.Response, error) { return c.GetInstance(ctx, was.Id) })
		if err != nil {
			return sight{}, err
		}
		all = append(all, in)
		s.sentence = fmt.Sprintf("%s is %s, because %s.", in.Id, in.State, in.Why)
		switch {
		case in.State == to.state && (!to.fresh || in.Launch > was.Launch):
			there++
		case in.State == contract.InstanceStateGone || in.State == contract.InstanceStateLost:
			s.bad = fmt.Sprintf("%s is %s: %s", in.Id, in.State, in.Why)
		}
	}
	if len(all) == 1 {
		s.value, s.picture = all[0], instancePicture(all[0])
	} else {
		s.value, s.picture = all, instanceTable(all)
		s.sentence = fmt.Sprintf("%d of %d are %s; %s", there, len(all), to.state, s.sentence)
	}
	s.done = there == len(all)
	return s, nil
}
