package places

import (
	"strings"
	"testing"
)

func TestParse(t *testing.T) {
	p, err := Parse([]byte(`
regions:
  - {name: harbour, zones: [east-pier, mid-pier, west-pier]}
  - {name: headland, zones: [north-slip, south-slip], images: /srv/headland}
`), "/data")
	if err != nil {
		t.Fatal(err)
	}
	if len(p.Zones()) != 5 || p.Home().Images != "/data/images/harbour" || p[1].Images != "/srv/headland" {
		t.Errorf("the places are %+v", p)
	}
	if r, ok := p.Of("south-slip"); !ok || r.Name != "headland" {
		t.Errorf("south-slip lies in %v", r)
	}
	if _, ok := p.Of("dry-dock"); ok {
		t.Error("a zone that is not there lies somewhere")
	}
	for text, says := range map[string]string{
		"regions: []":                            "no region",
		"region: []":                             "unknown field",
		"regions: [{name: Harbour, zones: [a]}]": `"Harbour" is not a name`,
		"regions: [{name: a, zones: []}]":        "has no zone",
		"regions: [{name: a, zones: [x]}, {name: b, zones: [x]}]":                       "x is named twice",
		"regions: [{name: a, zones: [x]}, {name: a, zones: [y]}]":                       "region a is named twice",
		"regions: [{name: a, zones: [x_y]}]":                                            "regions/0/zones/0",
		"regions: [{name: a, zones: [x], images: i}, {name: b, zones: [y], images: i}]": "directory of a already",
	} {
		if _, err := Parse([]byte(text), "/data"); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want %q", text, err, says)
		}
	}
}
