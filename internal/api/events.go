package api

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"unitas/internal/api/contract"
	"unitas/internal/store"
)

// hub reads the outbox once for all who watch.
type hub struct {
	store *store.Store
	woken chan struct{}

	mu       sync.Mutex
	watchers map[chan store.Event]bool
	ended    bool
}

// What a watcher may be behind before it is cut off to come back with the id
// of its last event, and how often other replicas' events are looked for.
const (
	watcherBuffer = 4096
	lookEvery     = time.Second
)

func newHub(s *store.Store) *hub {
	return &hub{store: s, woken: make(chan struct{}, 1), watchers: map[chan store.Event]bool{}}
}

func (h *hub) wake() {
	select {
	case h.woken <- struct{}{}:
	default:
	}
}

func (h *hub) run(ctx context.Context) {
	defer h.end()
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	last, err := h.store.LastEvent(ctx)
	known := err == nil
	for {
		select {
		case <-ctx.Done():
			return
		case <-h.woken:
		case <-tick.C:
		}
		if !known {
			id, err := h.store.LastEvent(ctx)
			if err != nil {
				continue
			}
			last, known = id, true
		}
		last = h.publish(ctx, last)
	}
}

func (h *hub) publish(ctx context.Context, last store.EventID) store.EventID {
	for {
		events, err := h.store.Events(ctx, last, 500)
		if err != nil || len(events) == 0 {
			return last
		}
		h.mu.Lock()
		for _, e := range events {
			for w := range h.watchers {
				select {
				case w <- e:
				default: // too far behind
					close(w)
					delete(h.watchers, w)
				}
			}
		}
		h.mu.Unlock()
		last = events[len(events)-1].ID
	}
}

func (h *hub) watch() chan store.Event {
	h.mu.Lock()
	defer h.mu.Unlock()
	w := make(chan store.Event, watcherBuffer)
	if h.ended {
		close(w)
		return w
	}
	h.watchers[w] = true
	return w
}

func (h *hub) leave(w chan store.Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.watchers, w)
}

func (h *hub) end() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.ended = true
	for w := range h.watchers {
		close(w)
		delete(h.watchers, w)
	}
}

// WatchEvents streams what changes.
func (s *Server) WatchEvents(ctx context.Context, r contract.WatchEventsRequestObject) (contract.WatchEventsResponseObject, error) {
	stream := eventStream{ctx: ctx, server: s}
	if r.Params.Group != nil {
		stream.group = *r.Params.Group
	}
	if r.Params.LastEventID != nil {
		id, err := store.ParseEventID(*r.Params.LastEventID)
		if err != nil {
			return nil, invalid("Last-Event-ID", "%s", err)
		}
		stream.after = &id
	}
	return stream, nil
}

// eventStream is an answer that does not end before its reader leaves.
type eventStream struct {
	ctx    context.Context
	server *Server
	group  string
	after  *store.EventID
}

// VisitWatchEventsResponse writes the stream.
func (e eventStream) VisitWatchEventsResponse(w http.ResponseWriter) error {
	events := e.server.hub.watch()
	defer e.server.hub.leave(events)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
	out := http.NewResponseController(w)
	if _, err := io.WriteString(w, "retry: 1000\n\n"); err != nil {
		return nil
	}
	if err := out.Flush(); err != nil {
		return nil
	}
	sent, err := e.missed(w)
	if err != nil || out.Flush() != nil {
		return nil
	}
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		var err error
		_ = out.SetWriteDeadline(time.Time{})
		select {
		case <-e.ctx.Done():
			return nil
		case <-beat.C:
			_ = out.SetWriteDeadline(time.Now().Add(answerTime))
			_, err = io.WriteString(w, ": still here\n\n")
		case ev, ok := <-events:
			if !ok {
				return nil
			}
			if !ev.ID.After(sent) {
				continue
			}
			_ = out.SetWriteDeadline(time.Now().Add(answerTime))
			err = e.write(w, ev)
		}
		if err != nil || out.Flush() != nil {
			return nil
		}
	}
}

// missed writes what came after the event that the reader saw last.
func (e eventStream) missed(w io.Writer) (sent store.EventID, err error) {
	if e.after == nil {
		return sent, nil
	}
	sent = *e.after
	for {
		events, err := e.server.Store.Events(e.ctx, sent, 500)
		if err != nil || len(events) == 0 {
			return sent, err
		}
		for _, ev := range events {
			if err := e.write(w, ev); err != nil {
				return sent, err
			}
		}
		sent = events[len(events)-1].ID
	}
}

func (e eventStream) write(w io.Writer, ev store.Event) error {
	if e.group != "" && ev.Group != e.group {
		return nil
	}
	_, err := fmt.Fprintf(w, "id: %s\nevent: %s\ndata: %s\n\n", ev.ID, ev.Kind, ev.Data)
	return err
}
