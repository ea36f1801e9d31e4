package drill

import "sync"

// lanes let what is about one instance or zone go one after the other.
type lanes struct {
	mu   sync.Mutex
	held map[string]*lane
}

type lane struct {
	sync.Mutex
	users int
}

func (d *Drill) lane() string { return d.Region + "/" + d.Zone + "/" + d.Instance }

// take waits for a lane and returns what gives it back.
func (l *lanes) take(name string) (back func()) {
	l.mu.Lock()
	mine := l.held[name]
	if mine == nil {
		mine = &lane{}
		l.held[name] = mine
	}
	mine.users++
	l.mu.Unlock()
	mine.Lock()
	return func() {
		mine.Unlock()
		l.mu.Lock()
		defer l.mu.Unlock()
		if mine.users--; mine.users == 0 {
			delete(l.held, name)
		}
	}
}
