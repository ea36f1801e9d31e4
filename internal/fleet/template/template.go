// Package template says what an instance template may say, what two versions
// differ in, and what will hurt though it is allowed.
package template

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"unitas/internal/fleet/words"
)

// Local is who may come in unless somebody else is named: this machine.
const Local = "127.0.0.0/8"

// Port is a port that an instance opens, and who may come in by it.
type Port struct {
	Port     int      `json:"port"`
	Protocol string   `json:"protocol"` // tcp or udp
	Sources  []string `json:"sources"`  // address ranges, such as 10.0.0.0/8
}

// String writes a port as people give it: 8080/tcp from 10.0.0.0/8.
func (p Port) String() string {
	return fmt.Sprintf("%d/%s from %s", p.Port, p.Protocol, strings.Join(p.Sources, " and "))
}

// Spec is everything that one launch needs.
type Spec struct {
	Image        string
	ImageVersion int
	Port         int     // that the workload listens on
	CPUs         float64 `db:"cpus"`
	MemoryBytes  int64
	DiskBytes    int64
	Processes    int // and threads that one instance may have at once
	Addresses    int // how many network addresses
	Ports        []Port
	PricePerHour float64
	// ZonePrices are those of zones in which it costs something else.
	ZonePrices    map[string]float64
	Interruptible bool // its machine may be taken away at short notice
	UserData      string
	Environment   map[string]string
	Labels        map[string]string
}

// Flaw is one field that cannot be as it is.
type Flaw struct{ Field, Text string }

// Complete fills in what follows from the rest: the workload's port is open to
// this machine unless ports are given.
func (s *Spec) Complete() {
	if s.Ports == nil {
		s.Ports = []Port{{Port: s.Port, Protocol: "tcp", Sources: []string{Local}}}
	}
	for i := range s.Ports {
		if s.Ports[i].Protocol == "" {
			s.Ports[i].Protocol = "tcp"
		}
		if s.Ports[i].Sources == nil {
			s.Ports[i].Sources = []string{Local}
		}
	}
}

// Validate returns all faults at once, none when the spec can be launched.
func (s *Spec) Validate() []Flaw {
	var all []Flaw
	fault := func(field, format string, args ...any) {
		all = append(all, Flaw{field, fmt.Sprintf(format, args...)})
	}
	seen := map[string]bool{}
	for i, p := range s.Ports {
		at := "ports/" + strconv.Itoa(i)
		key := fmt.Sprintf("%d/%s", p.Port, p.Protocol)
		if seen[key] {
			fault(at, "the port %s is opened twice; give it once with all its sources", key)
		}
		seen[key] = true
		if len(p.Sources) == 0 {
			fault(at+"/sources", "the port %s is open to nobody; name a source or leave it out", key)
		}
		for k, source := range p.Sources {
			if prefix, err := netip.ParsePrefix(source); err != nil {
				fault(fmt.Sprintf("%s/sources/%d", at, k), "%q is not a range of addresses, such as 10.0.0.0/8", source)
			} else if prefix != prefix.Masked() {
				fault(fmt.Sprintf("%s/sources/%d", at, k), "%q has bits after its prefix; did you mean %s?", source, prefix.Masked())
			}
		}
	}
	for _, zone := range sortedKeys(s.ZonePrices) {
		if p := s.ZonePrices[zone]; p < 0 || p > 100_000 {
			fault("zone_prices/"+zone, "the price in %s is %g; give 0 to 100000", zone, p)
		}
	}
	for _, name := range sortedKeys(s.Environment) {
		if !variableName(name) {
			fault("environment/"+name, "%q is not the name of a variable: letters, digits and _, not beginning with a digit, and not UNITAS_…", name)
		}
		if strings.ContainsRune(s.Environment[name], 0) {
			fault("environment/"+name, "the value of %s has a zero byte", name)
		}
	}
	for _, name := range sortedKeys(s.Labels) {
		if !labelName(name) {
			fault("labels/"+name, "%q is not the name of a label: letters, digits, - _ . and /, 63 at most", name)
		}
	}
	return all
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func variableName(name string) bool {
	for i, r := range name {
		letter := r == '_' || (r >= 'A' && r <= 'Z') || (r >= 'a' && r <= 'z')
		if !letter && (i == 0 || r < '0' || r > '9') {
			return false
		}
	}
	return name != "" && !strings.HasPrefix(name, "UNITAS_")
}

func labelName(name string) bool {
	for _, r := range name {
		if (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && !strings.ContainsRune("-_./", r) {
			return false
		}
	}
	return name != "" && len(name) <= 63
}

// Change is one field that is different.
type Change struct{ Field, Was, Now string }

// field is one line of a template, in words.
type field struct{ name, value string }

func (s *Spec) fields() []field {
	all := []field{
		{"image", fmt.Sprintf("%s@%d", s.Image, s.ImageVersion)},
		{"port", strconv.Itoa(s.Port)},
		{"cpus", number(s.CPUs)},
		{"memory", words.Bytes(s.MemoryBytes)},
		{"disk", words.Bytes(s.DiskBytes)},
		{"processes", strconv.Itoa(s.Processes)},
		{"addresses", strconv.Itoa(s.Addresses)},
	}
	for _, p := range s.Ports {
		all = append(all, field{fmt.Sprintf("open port %d/%s", p.Port, p.Protocol), "from " + strings.Join(p.Sources, " and ")})
	}
	all = append(all, field{"price per hour", number(s.PricePerHour)})
	for _, zone := range sortedKeys(s.ZonePrices) {
		all = append(all, field{"price per hour in " + zone, number(s.ZonePrices[zone])})
	}
	all = append(all, field{"interruptible", map[bool]string{true: "yes", false: "no"}[s.Interruptible]})
	for _, name := range sortedKeys(s.Environment) {
		all = append(all, field{"environment " + name, s.Environment[name]})
	}
	for _, name := range sortedKeys(s.Labels) {
		all = append(all, field{"label " + name, s.Labels[name]})
	}
	return append(all, field{"user data", UserDataWords(s.UserData)})
}

// UserDataWords says how long user data is, for a line of a table.
func UserDataWords(text string) string {
	if text == "" {
		return "none"
	}
	lines := strings.Count(strings.TrimSuffix(text, "\n"), "\n") + 1
	if lines == 1 {
		return fmt.Sprintf("1 line, %d bytes", len(text))
	}
	return fmt.Sprintf("%d lines, %d bytes", lines, len(text))
}

func number(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }

// Diff returns what is different in b, in a fixed order. A field that one of
// them does not have is "" there.
func Diff(a, b Spec) []Change {
	was, now := a.fields(), b.fields()
	changes := []Change{}
	find := func(in []field, name string) (string, bool) {
		for _, f := range in {
			if f.name == name {
				return f.value, true
			}
		}
		return "", false
	}
	for _, f := range was {
		to, _ := find(now, f.name)
		if f.value != to || (f.name == "user data" && a.UserData != b.UserData) {
			changes = append(changes, Change{f.name, f.value, to})
		}
	}
	for _, f := range now {
		if _, had := find(was, f.name); !had {
			changes = append(changes, Change{f.name, "", f.value})
		}
	}
	return changes
}

// Around is what a template version would be used among.
type Around struct {
	// Regions that there are, and those that have the image.
	HaveImage []string
	// Groups that launch any version of the template now.
	Groups []Group
	// Checks of those groups.
	Checks []Check
	// Used is the most memory that one instance of an earlier version was seen
	// to use, and Instance which; 0 when none was seen.
	Used     int64
	Instance string
}

// Group is a group that launches the template.
type Group struct {
	Name    string
	Regions []string
}

// Check is a health check that asks the template's instances.
type Check struct {
	Name string
	Port int
}

// Advice is a warning about a field that is allowed and will hurt.
type Advice struct{ Field, Text string }

// Advise returns what will hurt, most urgent first.
func (s *Spec) Advise(w Around) []Advice {
	all := []Advice{}
	advise := func(field, format string, args ...any) {
		all = append(all, Advice{field, fmt.Sprintf(format, args...)})
	}
	for _, c := range w.Checks {
		if !slices.ContainsFunc(s.Ports, func(p Port) bool { return p.Port == c.Port && p.Protocol == "tcp" }) {
			advise("ports", "The check %s asks port %d, which the template does not open: no instance would become healthy.", c.Name, c.Port)
		}
	}
	for _, g := range w.Groups {
		for _, region := range g.Regions {
			if !slices.Contains(w.HaveImage, region) {
				advise("image", "The group %s launches in %s, and %s@%d is not there; copy it with: unitas image copy %s@%d --to %s",
					g.Name, region, s.Image, s.ImageVersion, s.Image, s.ImageVersion, region)
			}
		}
	}
	if w.Used > s.MemoryBytes {
		advise("memory", "%s used up to %s, and this gives %s.", w.Instance, words.Bytes(roundUp(w.Used)), words.Bytes(s.MemoryBytes))
	}
	if len(s.Ports) > 0 && !slices.ContainsFunc(s.Ports, func(p Port) bool { return p.Port == s.Port }) {
		advise("ports", "The workload listens on %d, which is not among the open ports.", s.Port)
	}
	for _, p := range s.Ports {
		for _, source := range p.Sources {
			if prefix, err := netip.ParsePrefix(source); err == nil && prefix.Bits() == 0 {
				advise("ports", "The port %d/%s is open to everyone (%s); name the ranges that need it.", p.Port, p.Protocol, source)
			}
		}
	}
	return all
}

// roundUp to whole MiB, as nobody reads kilobytes of memory.
func roundUp(n int64) int64 { return (n + 1<<20 - 1) >> 20 << 20 }
