// Package places says where machines run: regions, each with its zones and a
// store of images.
package places

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"sigs.k8s.io/yaml"
)

// Region is one region.
type Region struct {
	Name string `json:"name"`
	// Zones in the order in which they are filled.
	Zones []string `json:"zones"`
	// Images is the directory of the region's image store; below the service's
	// data directory when it is not absolute or not given.
	Images string `json:"images,omitempty"`
}

// Places are all regions; the first is where images come in unless told otherwise.
type Places []Region

var name = regexp.MustCompile(`^[a-z](?:[a-z0-9-]{0,61}[a-z0-9])?$`)

// mostZones is how many zones there may be altogether; each needs addresses of
// its own.
const mostZones = 128

// Parse reads the places from YAML: a list of regions under "regions". Image
// directories are resolved against data.
func Parse(raw []byte, data string) (Places, error) {
	var file struct {
		Regions Places `json:"regions"`
	}
	if err := yaml.UnmarshalStrict(raw, &file); err != nil {
		return nil, fmt.Errorf("the places cannot be read: %w", err)
	}
	return New(file.Regions, data)
}

// New checks places and fills in the directories.
func New(p Places, data string) (Places, error) {
	if len(p) == 0 {
		return nil, fmt.Errorf("there is no region; give at least one under regions")
	}
	seen, dirs := map[string]string{}, map[string]string{}
	for i, r := range p {
		if !name.MatchString(r.Name) {
			return nil, fmt.Errorf("regions/%d/name: %q is not a name: lower-case letters, digits and hyphens", i, r.Name)
		}
		if len(r.Zones) == 0 {
			return nil, fmt.Errorf("regions/%d/zones: the region %s has no zone", i, r.Name)
		}
		for _, n := range append([]string{"region " + r.Name}, r.Zones...) {
			if other, twice := seen[n]; twice {
				return nil, fmt.Errorf("regions/%d: %s is named twice, also in %s", i, n, other)
			}
			seen[n] = r.Name
		}
		for k, z := range r.Zones {
			if !name.MatchString(z) {
				return nil, fmt.Errorf("regions/%d/zones/%d: %q is not a name: lower-case letters, digits and hyphens", i, k, z)
			}
		}
		if r.Images == "" {
			r.Images = filepath.Join("images", r.Name)
		}
		if !filepath.IsAbs(r.Images) {
			r.Images = filepath.Join(data, r.Images)
		}
		if other, twice := dirs[filepath.Clean(r.Images)]; twice {
			return nil, fmt.Errorf("regions/%d/images: %s is the directory of %s already", i, r.Images, other)
		}
		dirs[filepath.Clean(r.Images)] = r.Name
		p[i] = r
	}
	if n := len(p.Zones()); n > mostZones {
		return nil, fmt.Errorf("there are %d zones; give at most %d", n, mostZones)
	}
	return p, nil
}

// Zones are those of all regions, in order.
func (p Places) Zones() []string {
	var all []string
	for _, r := range p {
		all = append(all, r.Zones...)
	}
	return all
}

// Home is the region in which images come in unless told otherwise.
func (p Places) Home() Region { return p[0] }

// Region returns the region of a name.
func (p Places) Region(name string) (Region, bool) {
	i := slices.IndexFunc(p, func(r Region) bool { return r.Name == name })
	if i < 0 {
		return Region{}, false
	}
	return p[i], true
}

// Of returns the region that a zone lies in.
func (p Places) Of(zone string) (Region, bool) {
	i := slices.IndexFunc(p, func(r Region) bool { return slices.Contains(r.Zones, zone) })
	if i < 0 {
		return Region{}, false
	}
	return p[i], true
}

// Names are the regions' names, for people.
func (p Places) Names() string {
	all := make([]string, len(p))
	for i, r := range p {
		all[i] = r.Name
	}
	return strings.Join(all, ", ")
}
