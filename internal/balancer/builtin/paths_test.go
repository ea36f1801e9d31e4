package builtin

import (
	"fmt"
	"strings"
	"testing"
)

// TestPathsAreBounded: the first are told apart, and all others are one; long ones are cut.
func TestPathsAreBounded(t *testing.T) {
	var p paths
	for n := range 1000 {
		p.add(fmt.Sprintf("/sailings/%d", n), 200)
		p.add("/sailings/0", 500+n%2*3)
	}
	p.add("/sailings/0", 0)
	all := p.read()
	if len(all) != mostPaths+1 {
		t.Fatalf("%d paths are kept", len(all))
	}
	if all[0].Path != "/sailings/0" || all[0].Status != [6]int64{1, 0, 1, 0, 0, 1000} || all[0].Requests() != 1002 {
		t.Errorf("the first is %+v", all[0])
	}
	var sum int64
	for _, one := range all {
		sum += one.Requests()
	}
	if sum != 2001 {
		t.Errorf("%d requests are told of 2001", sum)
	}
	var long paths
	long.add("/"+strings.Repeat("x", 10_000), 404)
	if got := long.read(); len(got) != 1 || len(got[0].Path) != longestPath {
		t.Errorf("a long one is kept as %d bytes", len(got[0].Path))
	}
}
