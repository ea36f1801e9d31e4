package conns

import (
	"context"
	"net"
	"net/http"
	"sync/atomic"
	"time"
)

// Count counts the connections of a server, by its ConnState.
type Count struct{ n atomic.Int64 }

// State takes in what became of a connection.
func (c *Count) State(_ net.Conn, s http.ConnState) {
	switch s {
	case http.StateNew:
		c.n.Add(1)
	case http.StateClosed, http.StateHijacked:
		c.n.Add(-1)
	}
}

// askedWithin is how long a connection that was just taken may take to ask something.
const askedWithin = time.Second

// Finish ends a server whose listeners are closed, once whatever it took is answered or
// the context ends. A shutdown alone drops what is asked on a connection that was taken
// just before it (it closes it without an answer), so it comes last.
func Finish(ctx context.Context, s *http.Server, open *Count) {
	s.SetKeepAlivesEnabled(false) // every answer is the last of its connection
	over := time.After(askedWithin)
	look := time.NewTicker(time.Millisecond)
	defer look.Stop()
	for waits := true; waits && open.n.Load() > 0; {
		select {
		case <-look.C:
		case <-over:
			waits = false
		case <-ctx.Done():
			waits = false
		}
	}
	if s.Shutdown(ctx) != nil {
		s.Close()
	}
}
