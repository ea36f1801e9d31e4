package control

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"unitas/internal/store"
)

// How a replica comes to know of changes: its own at once, when they are written, and
// those of others by the feed.

// wrote takes in what was changed through this replica's store.
func (c *Control) wrote(touched []store.Touched) {
	for _, t := range touched {
		if t.Kind == store.OfGroup && !t.Decided {
			c.groupChanged(t.Name)
		}
		if t.Kind == store.OfPool || t.Kind == store.OfCheck {
			ctx, cancel := context.WithTimeout(context.Background(), store.Patience)
			c.objectChanged(ctx, t.Kind, t.Name)
			cancel()
		}
	}
}

// follow takes in what others change, until the context ends.
func (c *Control) follow(ctx context.Context, events chan store.Event) {
	for {
		select {
		case <-ctx.Done():
			c.Feed.Leave(events)
			return
		case e, ok := <-events:
			if ok {
				c.heard(ctx, e)
			} else {
				events = c.catchUp(ctx)
			}
		}
	}
}

// catchUp follows anew after it was too far behind, and looks at everything.
func (c *Control) catchUp(ctx context.Context) (events chan store.Event) {
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(retryAfter):
		}
		events = c.Feed.Follow()
		err := c.loadAll(ctx)
		if err == nil {
			return events
		}
		c.Feed.Leave(events)
		c.warn("", "the changes of other services were not all read; it is tried again", err)
	}
}

func (c *Control) heard(ctx context.Context, e store.Event) {
	mine := e.Origin == c.Self.ID
	switch {
	case e.Kind == store.OfQuiet && !mine:
		var q store.Quiet
		if err := json.Unmarshal(e.Data, &q); err != nil {
			c.Log.Warn("the word of another service is not understood", "error", err)
			return
		}
		if k := c.roster.owning(q.Instance); k != nil {
			k.tell(ofOther{id: q.Instance, replica: e.Origin, since: q.Since})
		}
	case e.Kind == store.OfLease:
		c.lookAtLeases()
		c.elsewhere.look(e.Name)
	case e.Kind == store.OfGroup && !mine:
		c.groupChanged(e.Name)
	case e.Kind == store.OfPool || e.Kind == store.OfCheck:
		c.objectChanged(ctx, e.Kind, e.Name)
	}
}

// groupChanged has the records of a group read by whoever keeps it here, or its targets
// taken over.
func (c *Control) groupChanged(name string) {
	if k := c.roster.of(name); k != nil {
		k.reloadNow()
		return
	}
	c.elsewhere.look(name)
	c.lookAtLeases()
}

// objectChanged takes over a pool or a check that is another now.
func (c *Control) objectChanged(ctx context.Context, kind, name string) {
	if kind == store.OfCheck {
		c.library.forgetCheck(name)
		c.reloadAll()
		return
	}
	p, err := c.Store.Pool(ctx, name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		c.desk.dropPool(name)
	case err != nil:
		if ctx.Err() == nil {
			c.Log.Warn("a changed pool was not read; it is tried again", "pool", name, "error", err)
			time.AfterFunc(retryAfter, func() { c.objectChanged(ctx, kind, name) })
		}
	default:
		c.poolChanged(p)
	}
}

// poolChanged makes the balancer do what a new or changed pool says, and has its
// groups judged by its check.
func (c *Control) poolChanged(p store.Pool) {
	before, had := c.desk.setPool(p)
	c.desk.listen(p.Name)
	if had && before.Check != p.Check {
		c.reloadAll()
	}
}

func (c *Control) reloadAll() {
	for _, k := range c.roster.all() {
		k.reloadNow()
	}
	c.elsewhere.lookAtAll()
}

// loadAll takes over all pools, and has all groups looked at.
func (c *Control) loadAll(ctx context.Context) error {
	page := store.Page{Limit: 1000}
	there := map[string]bool{}
	for {
		pools, err := c.Store.Pools(ctx, page)
		if err != nil {
			return fmt.Errorf("load the pools: %w", err)
		}
		for _, p := range pools {
			there[p.Name] = true
			c.poolChanged(p)
		}
		if len(pools) < page.Limit {
			break
		}
		page.After = store.Cursor{pools[len(pools)-1].Name}
	}
	for _, name := range c.desk.names() {
		if !there[name] {
			c.desk.dropPool(name)
		}
	}
	c.reloadAll()
	return nil
}
