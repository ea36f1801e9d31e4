package control

import (
	"slices"

	"unitas/internal/balancer"
	"unitas/internal/store"
)

// When the listeners open: not before the targets of all groups are known.

// await names the groups whose targets are to be known before the listeners open.
func (d *desk) await(byPool map[string][]string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for pool, groups := range byPool {
		c := d.counter(pool)
		for _, group := range groups {
			if _, told := c.targets[group]; told {
				continue
			}
			if d.awaited[pool] == nil {
				d.awaited[pool] = map[string]bool{}
			}
			d.awaited[pool][group] = true
		}
		d.changed(c)
	}
	d.isKnown()
}

// toldOf notes that the targets of a group are known. The lock is held.
func (d *desk) toldOf(pool, group string) {
	if !d.awaited[pool][group] {
		return
	}
	if delete(d.awaited[pool], group); len(d.awaited[pool]) == 0 {
		delete(d.awaited, pool)
		if c := d.pools[pool]; c != nil {
			d.changed(c)
		}
	}
	d.isKnown()
}

func (d *desk) isKnown() {
	if len(d.awaited) > 0 {
		return
	}
	select {
	case <-d.known:
	default:
		close(d.known)
	}
}

// settled reports whether the balancer knows all that it is to know.
func (d *desk) settled() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, c := range d.pools {
		if c.there && c.done < c.asked {
			return false
		}
	}
	return true
}

// openAll opens all listeners. What still comes to a pool whose targets are not known
// waits there for a moment.
func (d *desk) openAll() {
	d.mu.Lock()
	d.opened = true
	d.mu.Unlock()
	d.listen()
}

// setListeners makes the listeners those given.
func (d *desk) setListeners(all []store.Listener) {
	d.mu.Lock()
	d.listeners = all
	d.mu.Unlock()
	d.listen()
}

// listen makes the listeners those that there are to be, once they may open.
func (d *desk) listen() {
	d.listening.Lock()
	defer d.listening.Unlock()
	d.mu.Lock()
	wanted, opened := d.listeners, d.opened // the newest, whoever waited
	d.mu.Unlock()
	if !opened {
		return
	}
	all := make([]balancer.Listener, len(wanted))
	for i, l := range wanted {
		all[i].Listener = l.Listener
		for _, name := range l.Certificates {
			chain, key := d.certificates.Files(name, l.Key)
			all[i].Pairs = append(all[i].Pairs, balancer.Pair{Name: name, Chain: chain, Key: key})
		}
	}
	d.balancer.Listen(all)
}

// reopen tries again the listeners that could not be opened.
func (d *desk) reopen() {
	if slices.ContainsFunc(d.balancer.Listening(), func(l balancer.ListenerStats) bool { return l.Trouble != "" }) {
		d.listen()
	}
}
