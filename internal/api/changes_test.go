package api

import (
	"fmt"
	"hash/maphash"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"unitas/api/contract"
)

// TestChangesAddUp: whoever follows a list by what changed has what the list is, however
// seldom he asks and whoever asks beside him; and he is told no more than what is other.
func TestChangesAddUp(t *testing.T) {
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 1))
	t.Logf("the seed is %d", seed)
	f := newFollowed()
	list := f.of(followedList{group: "timetable"})
	world := map[string]string{}
	ask := func(since int64) contract.InstanceChanges {
		var items []contract.Instance
		var sums []uint64
		for _, id := range slices.Sorted(maps.Keys(world)) {
			items = append(items, contract.Instance{Id: id, Why: world[id], InFlight: len(id) % 2})
			sums = append(sums, maphash.String(f.seed, world[id]))
		}
		return list.compare(items, sums, since)
	}
	type follower struct {
		has  map[string]string
		mark string
	}
	followers := []*follower{{}, {}, {mark: "another-3"}}
	changed := 0
	for round := range 3000 {
		for range r.IntN(4) {
			id := fmt.Sprintf("timetable-%03d", r.IntN(40))
			if r.IntN(3) == 0 {
				delete(world, id)
			} else {
				world[id] = fmt.Sprint(r.IntN(5))
			}
			changed++
		}
		f1 := followers[r.IntN(len(followers))]
		out := ask(list.since(f1.mark))
		if out.Complete {
			f1.has = map[string]string{}
		}
		for _, in := range out.Items {
			f1.has[in.Id] = in.Why
		}
		for _, id := range out.Gone {
			delete(f1.has, id)
		}
		f1.mark = list.mark()
		if !maps.Equal(f1.has, world) {
			t.Fatalf("round %d: it has %v, and there is %v", round, f1.has, world)
		}
		if again := ask(list.since(f1.mark)); again.Complete || len(again.Items)+len(again.Gone) > 0 || list.mark() != f1.mark {
			t.Fatalf("round %d: nothing changed, and it is told %+v", round, again)
		}
	}
	if changed < 1000 {
		t.Errorf("only %d changes", changed)
	}
	// A mark of another process, of the future, and of before what is still known.
	for _, mark := range []string{"", "x", list.begun + "--1", list.begun + "-999999999", "another-1"} {
		if out := ask(list.since(mark)); !out.Complete || len(out.Items) != len(world) {
			t.Errorf("the mark %q: %+v", mark, out)
		}
	}
	early := list.last
	for i := range goneAt + 2 {
		world[fmt.Sprintf("fares-%d", i)] = "there"
	}
	ask(-1)
	for i := range goneAt + 2 {
		delete(world, fmt.Sprintf("fares-%d", i))
	}
	ask(-1)
	if out := ask(early); !out.Complete {
		t.Error("what went is forgotten, and who was not told of it is not told all")
	}
	// A mark is of its list alone: not of another, nor of one that was forgotten and begun again.
	first, second := f.of(followedList{group: "a"}), f.of(followedList{group: "b"})
	first.compare([]contract.Instance{{Id: "a-001"}}, []uint64{1}, -1)
	mark := first.mark()
	second.compare([]contract.Instance{{Id: "b-001"}}, []uint64{2}, -1)
	if out := second.compare([]contract.Instance{{Id: "b-001"}}, []uint64{2}, second.since(mark)); !out.Complete {
		t.Error("a mark of another list is taken for one of this")
	}
	delete(f.lists, followedList{group: "a"})
	again := f.of(followedList{group: "a"})
	again.compare([]contract.Instance{{Id: "a-002"}}, []uint64{3}, -1)
	if out := again.compare([]contract.Instance{{Id: "a-002"}}, []uint64{3}, again.since(mark)); !out.Complete {
		t.Error("a mark of a list that was forgotten is taken for one of its successor")
	}
	// Lists that nobody asks for lately give way.
	for i := range 10 * followedAt {
		f.of(followedList{group: fmt.Sprint(i)})
	}
	if len(f.lists) > followedAt {
		t.Errorf("%d lists are remembered", len(f.lists))
	}
}
