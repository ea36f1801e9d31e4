package template

import (
	"fmt"
	"strings"
	"testing"
)

func sample() Spec {
	s := Spec{Image: "timetable", ImageVersion: 2, Port: 8080, CPUs: 1, MemoryBytes: 256 << 20, DiskBytes: 1 << 30, Addresses: 1,
		UserData: "#!/bin/sh\necho a\n", Environment: map[string]string{"SEASON": "spring"}, Labels: map[string]string{"service": "timetable"}}
	s.Complete()
	return s
}

func TestDiff(t *testing.T) {
	a, b := sample(), sample()
	if d := Diff(a, b); len(d) != 0 {
		t.Errorf("the same differ in %v", d)
	}
	b.ImageVersion, b.MemoryBytes, b.UserData = 3, 512<<20, "#!/bin/sh\necho b\n"
	b.Environment = map[string]string{"SEASON": "summer", "LIMIT": "9"}
	b.Labels = nil
	b.Ports = append(b.Ports, Port{9090, "tcp", []string{"10.0.0.0/8"}})
	var got []string
	for _, c := range Diff(a, b) {
		got = append(got, fmt.Sprintf("%s: %s → %s", c.Field, c.Was, c.Now))
	}
	want := []string{"image: timetable@2 → timetable@3", "memory: 256 MiB → 512 MiB", "environment SEASON: spring → summer", "label service: timetable → ",
		"user data: 2 lines, 17 bytes → 2 lines, 17 bytes", "open port 9090/tcp:  → from 10.0.0.0/8", "environment LIMIT:  → 9"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("they differ in\n%s", strings.Join(got, "\n"))
	}
}

func TestValidateNamesAllFaults(t *testing.T) {
	s := sample()
	s.Ports = []Port{{8080, "tcp", []string{"10.0.0.1/8", "everywhere"}}, {8080, "tcp", []string{}}}
	s.Environment = map[string]string{"1A": "x", "UNITAS_X": "y", "Z": "a\x00"}
	s.Labels = map[string]string{"a b": "c"}
	var fields []string
	for _, f := range s.Validate() {
		fields = append(fields, f.Field)
	}
	want := "ports/0/sources/0 ports/0/sources/1 ports/1 ports/1/sources environment/1A environment/UNITAS_X environment/Z labels/a b"
	if got := strings.Join(fields, " "); got != want {
		t.Errorf("the faults are in %s", got)
	}
	good := sample()
	if faults := good.Validate(); len(faults) > 0 {
		t.Errorf("the sample is refused: %v", faults)
	}
}

func TestAdvice(t *testing.T) {
	s := sample()
	if a := s.Advise(Around{HaveImage: []string{"harbour"}, Groups: []Group{{"timetable", []string{"harbour"}}}, Checks: []Check{{"sailings-up", 8080}}, Used: 200 << 20}); len(a) > 0 {
		t.Errorf("a good template is advised against: %v", a)
	}
	s.Ports = []Port{{9090, "tcp", []string{"0.0.0.0/0"}}}
	s.MemoryBytes = 64 << 20
	all := s.Advise(Around{HaveImage: []string{"harbour"}, Groups: []Group{{"timetable", []string{"harbour", "headland"}}}, Checks: []Check{{"sailings-up", 8080}},
		Used: 100<<20 + 1, Instance: "timetable-003"})
	for i, want := range []string{"The check sailings-up asks port 8080, which the template does not open",
		"The group timetable launches in headland, and timetable@2 is not there; copy it with: unitas image copy timetable@2 --to headland",
		"timetable-003 used up to 101 MiB, and this gives 64 MiB.", "The workload listens on 8080", "open to everyone (0.0.0.0/0)"} {
		if i >= len(all) || !strings.Contains(all[i].Text, want) {
			t.Errorf("advice %d is not %q: %v", i, want, all)
		}
	}
}
