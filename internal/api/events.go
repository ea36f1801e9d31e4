package api

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"time"

	"unitas/internal/api/routes"
	"unitas/internal/store"
)

// WatchEvents streams what changes.
func (s *Server) WatchEvents(ctx context.Context, r routes.WatchEventsRequestObject) (routes.WatchEventsResponseObject, error) {
	stream := eventStream{ctx: ctx, server: s}
	if r.Params.Group != nil {
		stream.group = *r.Params.Group
	}
	if r.Params.LastEventID != nil {
		id, err := store.ParseEventID(*r.Params.LastEventID)
		if err != nil {
			return nil, invalid("Last-Event-ID", "%s", err)
		}
		last, err := s.Store.LastEvent(ctx)
		if err != nil {
			return nil, err
		}
		if id <= last { // one of another database, or of an older form, is none of ours: the stream begins now
			stream.after = &id
		}
	}
	return stream, nil
}

// eventStream is an answer that does not end before its reader leaves.
type eventStream struct {
	ctx    context.Context
	server *Server
	group  string
	after  *int64
}

// VisitWatchEventsResponse writes the stream.
func (e eventStream) VisitWatchEventsResponse(w http.ResponseWriter) error {
	events := e.server.Feed.Follow()
	defer e.server.Feed.Leave(events)
	var sent int64
	if e.after == nil { // it begins now: what was written before is past
		sent, _ = e.server.Store.CatchUp(e.ctx) // without it some of that may come as well
	}
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
	if e.after != nil {
		var err error
		if sent, err = e.missed(w); err != nil || out.Flush() != nil {
			return nil
		}
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
			if ev.Number <= sent {
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
func (e eventStream) missed(w io.Writer) (sent int64, err error) {
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
		sent = events[len(events)-1].Number
	}
}

func (e eventStream) write(w io.Writer, ev store.Event) error {
	if ev.Kind != store.OfJournal || (e.group != "" && ev.Name != e.group) {
		return nil
	}
	_, err := fmt.Fprintf(w, "id: %s\nevent: %s\ndata: %s\n\n", store.EventID(ev.Number), ev.Kind, ev.Data)
	return err
}
