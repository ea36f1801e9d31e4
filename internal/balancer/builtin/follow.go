package builtin

import (
	"context"

	"unitas/internal/caught"
)

// followed is a call that is given up when its caller goes away.
type followed = interface{ GiveUp() }

// Follow has a call given up once the request's caller goes away, where the connection tells that by
// itself: it costs a request less than to follow its context. It reports whether that is so.
func (x *exchange) Follow(ctx context.Context, c followed) bool {
	return x.body == nil && x.in.ProtoMajor == 1 && !x.link.secure && ctx == x.in.Context() && x.link.lined.follow(ctx, c)
}

// Unfollow ends that, and reports whether the call was not given up before.
func (x *exchange) Unfollow() bool { return x.link.lined.unfollow() != nil }

func (l *linked) follow(ctx context.Context, c followed) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.dead || ctx.Err() != nil {
		return false
	}
	l.call, l.ctx = c, ctx
	return true
}

func (l *linked) unfollow() (c followed) {
	l.mu.Lock()
	defer l.mu.Unlock()
	c, l.call, l.ctx = l.call, nil, nil
	return c
}

// dies notes that nothing comes any more, of which the server ends the request's context next: with
// that the call under way is given up, so that whoever waits for it knows why.
func (l *linked) dies() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.dead = true
	if ctx := l.ctx; ctx != nil {
		caught.Go("giving a request up", func() {
			<-ctx.Done()
			if c := l.unfollow(); c != nil {
				c.GiveUp()
			}
		})
	}
}
