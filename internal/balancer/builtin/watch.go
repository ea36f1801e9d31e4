package builtin

import (
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/caught"
)

// watch ends what nobody said anything on for too long.
type watch struct {
	idle  time.Duration
	last  atomic.Int64 // see nanos
	end   func()
	once  sync.Once
	timer *time.Timer
}

// newWatch ends what it watches when it is not seen for so long; of 0 never.
func newWatch(idle time.Duration, end func()) *watch {
	w := &watch{idle: idle, end: end}
	w.seen()
	if idle > 0 {
		w.timer = time.AfterFunc(idle, caught.Func("the quiet of a connection", w.look))
	}
	return w
}

func (w *watch) seen() { w.last.Store(nanos(time.Now())) }

func (w *watch) look() {
	left := w.idle - time.Duration(nanos(time.Now())-w.last.Load())
	if left <= 0 {
		w.cut()
		return
	}
	w.timer.Reset(left)
}

// cut ends it now.
func (w *watch) cut() { w.once.Do(w.end) }

func (w *watch) stop() {
	if w.timer != nil {
		w.timer.Stop()
	}
}
