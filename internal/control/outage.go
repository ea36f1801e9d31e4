package control

import (
	"context"
	"errors"
	"fmt"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// outage is since when the database does not answer, by the renewal of the lease, and how long it did not
// the last time, until that is written down. It belongs to whoever renews.
type outage struct {
	since time.Time
	owed  time.Duration
}

// look takes in how a renewal went.
func (o *outage) look(err error) {
	switch {
	case err == nil && !o.since.IsZero():
		o.owed += time.Since(o.since)
		o.since = time.Time{}
	case err != nil && o.since.IsZero() && !errors.Is(err, store.ErrOutdated):
		o.since = time.Now()
	}
}

// sayBack writes into the journal that the database had not answered, and for how long: when it answers
// again, since before nobody can write.
func (c *Control) sayBack(ctx context.Context) {
	if c.away.owed == 0 {
		return
	}
	text := fmt.Sprintf("The database did not answer for %s; meanwhile nothing was decided, and what served went on.", words.Span(c.away.owed.Round(time.Second/10)))
	if c.others.any() {
		text = fmt.Sprintf("The database did not answer the service %s for %s; meanwhile it decided nothing, and what served went on.", c.Self.Name, words.Span(c.away.owed.Round(time.Second/10)))
	}
	if err := c.Store.Record(ctx, c.Clock.Now(), store.Service, "", fleet.Entry{Kind: "database.back", Text: text, Cause: fleet.Because("its lease could not be renewed")}); err != nil {
		c.warn("", "that the database was away was not written; it is tried again", err)
		return
	}
	c.away.owed = 0
}
