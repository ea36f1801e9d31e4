package control

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// presenceLooked is how many beginnings and ends, of all replicas, are looked through.
const presenceLooked = 50

// SayBegun writes into the journal that this replica begins, and whether the one before
// it under its name had stopped.
func (c *Control) SayBegun(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, renewLimit)
	defer cancel()
	said, err := c.Store.Journal(ctx, store.JournalQuery{Kinds: []string{"service.begun", "service.stopped"}, Page: store.Page{Limit: presenceLooked}})
	if err != nil {
		return err
	}
	cause := "somebody started it"
	k := slices.IndexFunc(said, func(e store.Entry) bool { return e.Cause.About == c.Self.ID })
	if k >= 0 && said[k].Kind == "service.begun" {
		cause = fmt.Sprintf("somebody started it; the one before began at %s and ended without a word", words.Moment(said[k].At))
	} else if k >= 0 {
		cause = fmt.Sprintf("somebody started it; it had stopped at %s", words.Moment(said[k].At))
	}
	return c.sayPresence(ctx, "service.begun", "begins, version "+cmp.Or(c.Self.Version, "unknown"), cause)
}

// SayStopped writes into the journal that this replica stops, and why.
func (c *Control) SayStopped(why string) error {
	ctx, cancel := context.WithTimeout(context.Background(), renewLimit)
	defer cancel()
	return c.sayPresence(ctx, "service.stopped", "stops; instances go on running", why)
}

// sayPresence tells of this replica; the cause is about it, so that it is found again.
func (c *Control) sayPresence(ctx context.Context, kind, does, why string) error {
	cause := fleet.Because(why)
	cause.About = c.Self.ID
	return c.Store.Record(ctx, c.Clock.Now(), store.Service, "", fleet.Entry{
		Kind: kind, Text: fmt.Sprintf("The service %s %s.", cmp.Or(c.Self.Name, c.Self.ID), does), Cause: cause,
	})
}
