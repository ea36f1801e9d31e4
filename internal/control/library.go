package control

import (
	"context"
	"fmt"
	"sync"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/store"
)

// library remembers what many groups read alike.
type library struct {
	store *store.Store

	mu        sync.Mutex
	templates map[fleet.Version]store.Template
	checks    map[string]health.Check
	changes   int // of checks, so that what was read before one is not remembered
}

func newLibrary(s *store.Store) *library {
	return &library{store: s, templates: map[fleet.Version]store.Template{}, checks: map[string]health.Check{}}
}

// mostRemembered is how many template versions are remembered.
const mostRemembered = 10_000

// template reads a template version; they never change, so once is enough.
func (l *library) template(ctx context.Context, v fleet.Version) (store.Template, error) {
	l.mu.Lock()
	t, ok := l.templates[v]
	l.mu.Unlock()
	if ok {
		return t, nil
	}
	t, err := l.store.Template(ctx, v)
	if err == nil {
		l.mu.Lock()
		defer l.mu.Unlock()
		if len(l.templates) >= mostRemembered {
			clear(l.templates)
		}
		l.templates[v] = t
	}
	return t, err
}

// ports are where instances of the versions take requests, and sizes what they are given.
func (l *library) ports(ctx context.Context, versions []fleet.Version) (map[fleet.Version]int, map[fleet.Version]size, error) {
	ports, sizes := map[fleet.Version]int{}, map[fleet.Version]size{}
	for _, v := range versions {
		if _, known := ports[v]; known {
			continue
		}
		t, err := l.template(ctx, v)
		if err != nil {
			return nil, nil, fmt.Errorf("load the template %s: %w", v, err)
		}
		ports[v], sizes[v] = t.Port, size{t.CPUs, t.MemoryBytes, t.ImageDigest}
	}
	return ports, sizes, nil
}

// versionsOf are those that a group may launch or send requests to.
func versionsOf(l store.Loaded) []fleet.Version {
	versions := []fleet.Version{l.Group.Template}
	if l.Rollout != nil {
		versions = append(versions, l.Rollout.From, l.Rollout.To)
	}
	for i := range l.Instances {
		versions = append(versions, l.Instances[i].Version)
	}
	return versions
}

// check reads a check, once until it is another.
func (l *library) check(ctx context.Context, name string) (health.Check, error) {
	l.mu.Lock()
	check, ok := l.checks[name]
	before := l.changes
	l.mu.Unlock()
	if ok {
		return check, nil
	}
	row, err := l.store.Check(ctx, name)
	if err == nil {
		l.mu.Lock()
		defer l.mu.Unlock()
		if l.changes == before {
			l.checks[name] = row.Check
		}
	}
	return row.Check, err
}

// forgetCheck has a check read anew.
func (l *library) forgetCheck(name string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.changes++
	delete(l.checks, name)
}
