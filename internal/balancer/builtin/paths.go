package builtin

import (
	"slices"
	"strings"
	"sync"

	"unitas/internal/balancer"
)

// mostPaths is how many paths of a version are told apart; the others are one, "".
const mostPaths = 30

// longestPath is how much of a path is kept, in bytes.
const longestPath = 120

// paths count the answers of a version by where the requests went.
type paths struct {
	mu  sync.Mutex
	all map[string]*[6]int64
}

func (p *paths) add(path string, status int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	of := p.all[path]
	if of == nil {
		if len(p.all) >= mostPaths {
			path = ""
		} else if len(path) > longestPath {
			path = path[:longestPath]
		}
		if of = p.all[path]; of == nil {
			if p.all == nil {
				p.all = map[string]*[6]int64{}
			}
			of = &[6]int64{}
			p.all[strings.Clone(path)] = of // the whole request would be kept with it
		}
	}
	of[min(status/100, 5)]++
}

// read returns the paths, those with the most requests first.
func (p *paths) read() []balancer.PathStats {
	p.mu.Lock()
	defer p.mu.Unlock()
	var all []balancer.PathStats
	for path, status := range p.all {
		all = append(all, balancer.PathStats{Path: path, Status: *status})
	}
	slices.SortFunc(all, func(a, b balancer.PathStats) int {
		if n := int(b.Requests() - a.Requests()); n != 0 {
			return n
		}
		return strings.Compare(a.Path, b.Path)
	})
	return all
}

// version is what all targets of one template version answered.
type version struct {
	window
	paths paths
}

// Paths tells what a version answered in a pool since it came, by where requests went.
func (b *Balancer) Paths(pool, version string) []balancer.PathStats {
	b.mu.Lock()
	p := b.pools[pool]
	b.mu.Unlock()
	if p == nil {
		return nil
	}
	p.mu.Lock()
	v := p.versions[version]
	p.mu.Unlock()
	if v == nil {
		return nil
	}
	return v.paths.read()
}
