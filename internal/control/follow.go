package control

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"unitas/internal/caught"
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
		if isShared(t.Kind) {
			ctx, cancel := context.WithTimeout(context.Background(), store.Patience)
			c.objectChanged(ctx, t.Kind, t.Name)
			cancel()
		}
	}
}

// isShared reports whether an object is of no group.
func isShared(kind string) bool {
	return kind == store.OfPool || kind == store.OfCheck || kind == store.OfListener
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
	case isShared(e.Kind):
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

// objectChanged takes over a pool, a check or a listener that is another now.
func (c *Control) objectChanged(ctx context.Context, kind, name string) {
	switch kind {
	case store.OfCheck:
		c.library.forgetCheck(name)
		c.reloadAll()
		return
	case store.OfListener:
		if err := c.loadListeners(ctx); err != nil {
			c.readAgain(kind, name, err)
		}
		return
	}
	p, err := c.Store.Pool(ctx, name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		c.desk.dropPool(name)
	case err != nil:
		c.readAgain(kind, name, err)
	default:
		c.poolChanged(p)
	}
}

// readAgain reads an object later that could not be read.
func (c *Control) readAgain(kind, name string, err error) {
	if errors.Is(err, context.Canceled) { // we are ending
		return
	}
	c.Log.Warn("what was changed was not read; it is tried again", kind, name, "error", err)
	time.AfterFunc(retryAfter, caught.Func("reading what changed", func() { c.wrote([]store.Touched{{Kind: kind, Name: name}}) }))
}

// poolChanged makes the balancer do what a new or changed pool says, and has its
// groups judged by its check.
func (c *Control) poolChanged(p store.Pool) {
	before, had := c.desk.setPool(p)
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

// loadListeners takes over all listeners, the newest whoever reads them.
func (c *Control) loadListeners(ctx context.Context) error {
	c.loading.Lock()
	defer c.loading.Unlock()
	all, err := c.Store.Listeners(ctx)
	if err != nil {
		return fmt.Errorf("load the listeners: %w", err)
	}
	c.desk.setListeners(all)
	return nil
}

// loadAll takes over all pools and listeners, and has all groups looked at.
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
	if err := c.loadListeners(ctx); err != nil {
		return err
	}
	c.reloadAll()
	return nil
}
