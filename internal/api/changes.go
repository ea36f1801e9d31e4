package api

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"hash/maphash"
	"slices"
	"strconv"
	"strings"
	"sync"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/store"
)

// What bounds the lists that are followed: how many are remembered, and how many gone
// names of each.
const (
	followedAt = 64
	goneAt     = 2000
)

// followed is what was told of lists before, by question. What is other since is found by
// comparing, so it is right for facts that no record has, too.
type followed struct {
	mu    sync.Mutex
	lists map[followedList]*toldList
	seed  maphash.Seed
}

// followedList is a question that is asked again and again.
type followedList struct {
	group string
	alone bool
}

// toldList is a list as it was told last. Who has the turn reads the list and compares; nobody
// who came later is told of an older one.
type toldList struct {
	turn  chan struct{}
	begun string // tells marks of this list from those of others, of other processes too
	last  int64  // its newest change
	items map[string]version
	gone  map[string]int64 // by name, at which change
	// least is the oldest mark from which what is gone is known.
	least int64
}

// version is how an instance was told, and at which change it became so.
type version struct {
	sum uint64
	at  int64
}

func newFollowed() followed {
	return followed{lists: map[followedList]*toldList{}, seed: maphash.MakeSeed()}
}

// of is what was told of a list; one that nobody asked for lately is forgotten for it.
func (f *followed) of(q followedList) *toldList {
	f.mu.Lock()
	defer f.mu.Unlock()
	t := f.lists[q]
	if t == nil {
		for other := range f.lists {
			if len(f.lists) < followedAt {
				break
			}
			delete(f.lists, other)
		}
		t = &toldList{turn: make(chan struct{}, 1), begun: rand.Text()[:8], items: map[string]version{}, gone: map[string]int64{}}
		f.lists[q] = t
	}
	return t
}

// mark is what to ask with the next time.
func (t *toldList) mark() string { return t.begun + "-" + strconv.FormatInt(t.last, 10) }

// since is the change that a mark is of; -1 when it is none of this list.
func (t *toldList) since(mark string) int64 {
	begun, number, _ := strings.Cut(mark, "-")
	n, err := strconv.ParseInt(number, 10, 64)
	if begun != t.begun || err != nil || n < 0 {
		return -1
	}
	return n
}

// compare notes what is other in the list, and returns what is since a change. The turn is
// the caller's.
func (t *toldList) compare(items []contract.Instance, sums []uint64, since int64) (out contract.InstanceChanges) {
	next := t.last + 1
	there := make(map[string]version, len(items))
	for i, in := range items {
		v, known := t.items[in.Id]
		if !known || v.sum != sums[i] {
			v = version{sums[i], next}
			t.last = next
		}
		there[in.Id] = v
		delete(t.gone, in.Id)
	}
	for id := range t.items {
		if _, is := there[id]; !is {
			t.gone[id], t.last = next, next
		}
	}
	t.items = there
	if len(t.gone) > goneAt {
		clear(t.gone)
		t.least = t.last
	}
	out = contract.InstanceChanges{Complete: since < t.least || since > t.last, Items: []contract.Instance{}, Gone: []string{}, InFlight: map[string]int{}}
	for _, in := range items {
		if in.InFlight > 0 {
			out.InFlight[in.Id] = in.InFlight
		}
		if out.Complete || there[in.Id].at > since {
			out.Items = append(out.Items, in)
		}
	}
	if !out.Complete {
		for id, at := range t.gone {
			if at > since {
				out.Gone = append(out.Gone, id)
			}
		}
		slices.Sort(out.Gone)
	}
	return out
}

// ListInstanceChanges tells what is other in a list since it was told last.
func (s *Server) ListInstanceChanges(ctx context.Context, r routes.ListInstanceChangesRequestObject) (routes.ListInstanceChangesResponseObject, error) {
	q := followedList{some(r.Params.Group, ""), given(r.Params.Alone)}
	t := s.followed.of(q)
	select {
	case t.turn <- struct{}{}:
		defer func() { <-t.turn }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	items, sums, err := s.allInstances(ctx, q)
	if err != nil {
		return nil, err
	}
	out := t.compare(items, sums, t.since(some(r.Params.Since, "")))
	out.Cursor = t.mark()
	return routes.ListInstanceChanges200JSONResponse(out), nil
}

// allInstances are the instances of a list that are there, each with a sum of all that is
// told of it but its requests in flight.
func (s *Server) allInstances(ctx context.Context, q followedList) (items []contract.Instance, sums []uint64, err error) {
	p := store.Page{Limit: 1000}
	for {
		page, err := s.readInstances(ctx, q.group, q.alone, false, p)
		if err != nil {
			return nil, nil, err
		}
		s.Control.AddFacts(page)
		for _, in := range page {
			item := s.instance(in)
			plain := item
			plain.InFlight = 0
			raw, err := json.Marshal(plain)
			if err != nil {
				return nil, nil, err
			}
			items, sums = append(items, item), append(sums, maphash.Bytes(s.followed.seed, raw))
		}
		if len(page) < p.Limit {
			return items, sums, nil
		}
		last := page[len(page)-1]
		p.After = versionKey(last.Group, last.Serial)
	}
}
