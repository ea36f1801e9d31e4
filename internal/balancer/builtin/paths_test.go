package builtin

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// TestPathsAreBounded: the heaviest are told apart whoever came first, all others are one, and
// nothing is counted twice or not at all; long ones are cut.
func TestPathsAreBounded(t *testing.T) {
	var p paths
	now := time.Now()
	for n := range 100 { // somebody looks for what might be there
		p.add(fmt.Sprintf("/scan/%d", n), 404, now)
	}
	for n := range 1000 {
		p.add(fmt.Sprintf("/scan/more/%d", n), 404, now)
		p.add("/sailings", 500+n%2*3, now)
		p.add("/berths", 200, now)
	}
	p.add("/sailings", 0, now)
	all := p.read()
	if len(all) != mostPaths+1 {
		t.Fatalf("%d paths are kept", len(all))
	}
	told := map[string][6]int64{}
	var sum int64
	for _, one := range all {
		told[one.Path] = one.Status
		sum += one.Requests()
	}
	if told["/sailings"] != [6]int64{1, 0, 0, 0, 0, 1000} || told["/berths"] != [6]int64{0, 0, 1000} {
		t.Errorf("the real ones are told as %v and %v", told["/sailings"], told["/berths"])
	}
	if sum != 3101 || told[""][4] < 1000 {
		t.Errorf("%d requests are told of 3101, %v of no path", sum, told[""])
	}
	// What was heavy long ago gives way to what is now.
	for minute := range 60 {
		for n := range 100 {
			p.add(fmt.Sprintf("/new/%d", n%29), 200, now.Add(time.Duration(minute)*time.Minute))
		}
	}
	late := now.Add(61 * time.Minute)
	for n := range 40 {
		p.add(fmt.Sprintf("/later/%d", n%3), 200, late)
	}
	names := ""
	for _, one := range p.read() {
		names += one.Path + " "
	}
	if strings.Contains(names, "/sailings") || !strings.Contains(names, "/new/28 ") || !strings.Contains(names, "/later/") {
		t.Errorf("an hour later it tells of %s", names)
	}
	var long paths
	long.add("/"+strings.Repeat("x", 10_000), 404, now)
	if got := long.read(); len(got) != 1 || len(got[0].Path) != longestPath {
		t.Errorf("a long one is kept as %d bytes", len(got[0].Path))
	}
}
