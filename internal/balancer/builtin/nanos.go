package builtin

import "time"

// began is some moment of this process.
var began = time.Now()

// nanos is a time in ns, which goes as evenly as the monotonic clock whatever the host's is
// set to; near those since the epoch.
func nanos(t time.Time) int64 { return began.UnixNano() + int64(t.Sub(began)) }
