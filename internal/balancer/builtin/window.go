package builtin

import (
	"math"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
)

// window counts answers by time, so that the last 1, 5 and 15 minutes can be
// told at any moment: six slots of 10 s for the first, fifteen of a minute for the
// others. What is in part too old counts as whole, so a window reaches back up
// to one slot further than its name.
type window struct {
	mu     sync.Mutex
	fine   [6]slot
	coarse [15]slot
}

const (
	fineSlot   = 10 * time.Second
	coarseSlot = time.Minute
)

// buckets of latency: each is a quarter of a doubling wide, from 0.05 ms to
// about 200 s, so a percentile is right within a tenth.
const buckets = 88

const firstBucketMS = 0.05

// histogram counts answers by bucket.
type histogram [buckets]atomic.Uint64

type slot struct {
	at     int64 // the number of the slot since the epoch
	status [6]uint32
	first  uint8    // the bucket of the first of took
	took   []uint32 // by bucket, from the lowest to the highest that was needed
}

// count adds one to a bucket.
func (s *slot) count(bucket int) {
	switch last := int(s.first) + len(s.took); {
	case len(s.took) == 0:
		s.first, s.took = uint8(bucket), append(s.took, 0)
	case bucket < int(s.first):
		s.took = append(make([]uint32, int(s.first)-bucket), s.took...)
		s.first = uint8(bucket)
	case bucket >= last:
		s.took = append(s.took, make([]uint32, bucket-last+1)...)
	}
	s.took[bucket-int(s.first)]++
}

// add counts an answer; status 0 is none at all.
func (w *window) add(now time.Time, status int, took time.Duration) {
	class := min(status/100, 5)
	bucket := bucketOf(took)
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, s := range []*slot{slotAt(w.fine[:], now, fineSlot), slotAt(w.coarse[:], now, coarseSlot)} {
		s.status[class]++
		if class > 0 {
			s.count(bucket)
		}
	}
}

// slotAt is the slot of a time, emptied of what it held a round ago.
func slotAt(ring []slot, now time.Time, length time.Duration) *slot {
	n := nanos(now) / int64(length)
	s := &ring[n%int64(len(ring))]
	if s.at != n {
		*s = slot{at: n, took: s.took[:0]}
	}
	return s
}

func bucketOf(took time.Duration) int {
	ms := float64(took) / float64(time.Millisecond)
	if ms <= firstBucketMS {
		return 0
	}
	return min(int(4*math.Log2(ms/firstBucketMS)), buckets-1)
}

// middle is the geometric middle of a bucket in ms.
func middle(bucket int) float64 {
	return firstBucketMS * math.Exp2((float64(bucket)+0.5)/4)
}

// read returns the windows of 1, 5 and 15 minutes.
func (w *window) read(now time.Time) []balancer.Window {
	w.mu.Lock()
	defer w.mu.Unlock()
	return []balancer.Window{
		sum(w.fine[:], now, fineSlot, 1),
		sum(w.coarse[:], now, coarseSlot, 5),
		sum(w.coarse[:], now, coarseSlot, 15),
	}
}

func sum(ring []slot, now time.Time, length time.Duration, minutes int) balancer.Window {
	newest := nanos(now) / int64(length)
	oldest := newest - int64(time.Duration(minutes)*time.Minute/length) + 1
	out := balancer.Window{Minutes: minutes}
	var took [buckets]int64
	var answered int64
	for i := range ring {
		s := &ring[i]
		if s.at < oldest || s.at > newest {
			continue
		}
		for class, n := range s.status {
			out.Status[class] += int64(n)
			out.Requests += int64(n)
		}
		for b, n := range s.took {
			took[int(s.first)+b] += int64(n)
			answered += int64(n)
		}
	}
	// Nearest rank (the smallest value that at least the share q do not exceed).
	at := func(q float64) float64 {
		rank := int64(math.Ceil(q * float64(answered)))
		var seen int64
		for b, n := range took {
			if seen += n; seen >= rank && n > 0 {
				return middle(b)
			}
		}
		return 0
	}
	if answered > 0 {
		out.Median, out.P95, out.P99 = at(0.5), at(0.95), at(0.99)
	}
	return out
}
