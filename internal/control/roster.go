package control

import (
	"maps"
	"slices"
	"sync"
)

// roster is which keeper keeps which group, and which of them answers for an instance.
type roster struct {
	mu      sync.RWMutex
	keepers map[string]*keeper // by group
	owner   map[string]*keeper // by instance
}

func newRoster() *roster {
	return &roster{keepers: map[string]*keeper{}, owner: map[string]*keeper{}}
}

// of is the keeper of a group, nil when it is not kept here.
func (r *roster) of(group string) *keeper {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.keepers[group]
}

// owning is the keeper that answers for an instance, nil when none does here.
func (r *roster) owning(instance string) *keeper {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.owner[instance]
}

func (r *roster) all() []*keeper {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.Collect(maps.Values(r.keepers))
}

func (r *roster) add(k *keeper) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.keepers[k.name] = k
}

// own notes which keeper answers for instances.
func (r *roster) own(k *keeper, ids ...string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, id := range ids {
		r.owner[id] = k
	}
}

// disown ends that a keeper answers for instances, and returns those for which it did:
// one that was released may have another by now.
func (r *roster) disown(k *keeper, ids ...string) (mine []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, id := range ids {
		if r.owner[id] == k {
			delete(r.owner, id)
			mine = append(mine, id)
		}
	}
	return mine
}

// drop takes a keeper off the books.
func (r *roster) drop(k *keeper) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.keepers[k.name] == k {
		delete(r.keepers, k.name)
	}
}
