package control

import "unitas/internal/balancer"

// When the listeners of pools open: not before the targets of all groups are known.

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
	for _, name := range d.names() {
		d.listen(name)
	}
}

// listen makes the listeners of a pool those that it says, once they may open.
func (d *desk) listen(name string) {
	d.mu.Lock()
	c, opened := d.pools[name], d.opened
	d.mu.Unlock()
	if c == nil || !c.there || !opened {
		return
	}
	c.listening.Lock()
	defer c.listening.Unlock()
	p, ok := d.pool(name) // the newest, whoever waited
	if !ok {
		return
	}
	listeners := make([]balancer.Listener, len(p.Listeners))
	for i, l := range p.Listeners {
		chain, key := d.certificates.Files(l.Certificate, l.Key)
		listeners[i] = balancer.Listener{Address: l.Address, Certificate: chain, Key: key}
	}
	d.balancer.Listen(name, listeners)
}

// reopen tries again the listeners that could not be opened.
func (d *desk) reopen() {
	for _, name := range d.names() {
		if s, ok := d.balancer.Stats(name); ok && s.Troubled() {
			d.listen(name)
		}
	}
}
