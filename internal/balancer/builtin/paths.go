package builtin

import (
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"unitas/internal/balancer"
)

// mostPaths is how many paths of a version are told apart; the others are one, "".
const mostPaths = 30

// longestPath is how much of a path is kept, in bytes.
const longestPath = 120

// paths count the answers of a version by where the requests went. Those that are told apart are
// the heaviest of late: when there are too many, a new one takes the place of the lightest, with
// its weight and one more (the space-saving sketch of Metwally, Agrawal and El Abbadi, 2005), and
// weights fade. So what is asked for often is kept whatever is asked for once.
type paths struct {
	mu    sync.Mutex
	all   map[string]*pathCount
	faded time.Time
}

type pathCount struct {
	status [6]int64
	weight float64
}

// Weights are a half after fadesIn.
const (
	fadesIn    = 5 * time.Minute
	fadesEvery = time.Minute
)

func (p *paths) add(path string, status int, at time.Time) {
	if len(path) > longestPath {
		path = path[:longestPath]
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.fade(at)
	of := p.all[path]
	if of == nil {
		of = p.make(path)
	}
	of.weight++
	of.status[min(status/100, 5)]++
}

// make has a path told apart. What it takes the place of is one of the others from now on.
func (p *paths) make(path string) *pathCount {
	if p.all == nil {
		p.all = map[string]*pathCount{}
	}
	of := &pathCount{}
	if rest := p.all[""]; len(p.all) >= mostPaths+1 || (rest == nil && len(p.all) >= mostPaths) {
		lightest := ""
		for name, c := range p.all {
			if name != "" && (lightest == "" || c.weight < p.all[lightest].weight) {
				lightest = name
			}
		}
		if rest == nil {
			rest = &pathCount{}
			p.all[""] = rest
		}
		gone := p.all[lightest]
		for class, n := range gone.status {
			rest.status[class] += n
		}
		of.weight = gone.weight
		delete(p.all, lightest)
	}
	p.all[strings.Clone(path)] = of // the whole request would be kept with it
	return of
}

func (p *paths) fade(at time.Time) {
	if p.faded.IsZero() {
		p.faded = at
	}
	if gone := at.Sub(p.faded); gone >= fadesEvery {
		p.faded = at
		for _, c := range p.all {
			c.weight *= math.Exp2(-float64(gone) / float64(fadesIn))
		}
	}
}

// read returns the paths, those with the most requests first.
func (p *paths) read() []balancer.PathStats {
	p.mu.Lock()
	defer p.mu.Unlock()
	var all []balancer.PathStats
	for path, of := range p.all {
		all = append(all, balancer.PathStats{Path: path, Status: of.status})
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
