package builtin

import (
	"crypto/sha256"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"
)

// TestWhatPasses: requests and bytes of bodies are counted both ways, and how long answers took
// from the first time on that it is asked.
func TestWhatPasses(t *testing.T) {
	slow := false
	var worked, waited []float64 // ms, as the target measured slow ones, and the caller all
	work := make([]byte, 8<<20)
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		if slow {
			start := time.Now()
			_ = sha256.Sum256(work)
			worked = append(worked, time.Since(start).Seconds()*1000)
		}
		fmt.Fprint(w, strings.Repeat("s", 1000))
	})
	if _, known := f.Passed("nobody"); known {
		t.Error("of what is no target it is known")
	}
	before, known := f.Passed("timetable-0")
	if !known || before.Requests != 0 {
		t.Errorf("at first %+v passed", before)
	}
	before, _ = f.Passed("timetable-0") // from now on it counts how long
	for k := range 20 {
		slow = k >= 15
		start := time.Now()
		if status, body := f.get(t, "POST", strings.Repeat("a", 500)); status != 200 || len(body) != 1000 {
			t.Fatalf("answered %d with %d bytes", status, len(body))
		}
		waited = append(waited, time.Since(start).Seconds()*1000)
	}
	after, _ := f.Passed("timetable-0")
	if after.Requests != 20 || after.BytesIn != 20*500 || after.BytesOut != 20*1000 {
		t.Errorf("%d requests, %d bytes in, %d out", after.Requests, after.BytesIn, after.BytesOut)
	}
	// Of 20 it is the second slowest, told by the end of its bucket, a quarter of a doubling wide.
	slices.Sort(worked)
	least, most := worked[len(worked)-2], slices.Max(waited)*1.2
	if ms, known := after.Share(before, 0.95); !known || ms < least || ms > most {
		t.Errorf("95 of 100 within %g ms, %v; it took %g to %g ms", ms, known, least, most)
	}
	if _, known := after.Share(after, 0.95); known {
		t.Error("of no answers it is known how long they took")
	}
}
