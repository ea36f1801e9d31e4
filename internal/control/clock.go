package control

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// How often is looked whether the clock of the host was set.
const lookAtClock = time.Second

// watchClock follows the clock of the host where somebody set it, and says so, until the
// context ends. What a keeper waits for lasts as long as before.
func (c *Control) watchClock(ctx context.Context) {
	tick := time.NewTicker(lookAtClock)
	defer tick.Stop()
	var owed time.Duration
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if by := c.Clock.Look(); by != 0 {
			owed += by
			c.metrics.clockSet.Inc()
			c.Log.Warn("the clock of this host was set; waits last as long as before", "by", by)
			for _, k := range c.roster.all() {
				k.tell(ofClock{})
			}
		}
		if owed != 0 && c.sayClock(ctx, owed) == nil {
			owed = 0
		}
	}
}

// sayClock writes into the journal that the clock was set.
func (c *Control) sayClock(ctx context.Context, by time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, renewLimit)
	defer cancel()
	way := "forward"
	if by < 0 {
		way = "back"
	}
	return c.Store.Record(ctx, c.Clock.Now(), store.Service, "", fleet.Entry{
		Kind: "service.clock-set", Text: fmt.Sprintf("The clock of the host of %s went %s by %s.", cmp.Or(c.Self.Name, c.Self.ID), way, words.Span(by.Abs().Round(time.Second))),
		Cause: fleet.Because("somebody set it, or the host slept; settles, drains and soaks last as long as before"),
	})
}

// now is the time by the clock that the records of the group are by, as the database keeps it.
func (k *keeper) now() time.Time {
	return k.ctl.Clock.At(k.ctl.Clock.Moment(), k.offset).Truncate(time.Microsecond)
}

// followClock moves the times of the records where the clock was set meanwhile. Until that is
// written all goes by the clock as it was.
func (k *keeper) followClock(ctx context.Context) error {
	offset := k.ctl.Clock.Offset()
	if offset == k.offset {
		return nil
	}
	k.keepLedger()
	d := k.shifted(offset - k.offset)
	return k.commit(ctx, k.ctl.Clock.Now(), offset, &d)
}

func (k *keeper) shifted(by time.Duration) fleet.Decision {
	view := k.view
	view.Group, view.Rollout = k.group.Group, nil
	if k.rollout != nil {
		view.Rollout = &k.rollout.Rollout
	}
	return view.Shift(by)
}
