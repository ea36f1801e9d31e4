package main

// meetings are faults where two parts of the core meet: each part goes on being right alone.
var meetings = []fault{
	// Sizes, and who is asked, seen and sized at the same time.
	{"who settles is missing from a total", "metric/metric.go", "o == Total && serving > n {", "false {"},
	{"what hides is enough to shrink on", "scaling/judge.go", "if v.AtLeast { // that", "if false { // that"},
	{"what hid is calm", "scaling/judge.go", "|| r.Metric.Hides(p.Value) {", "{"},
	{"a clock that was ahead has calendars sleep", "scaling/bounds.go", "if s.Occurred.After(now.Add(time.Minute)) {", "if false {"},
	{"a bound gives nothing back", "scale.go", "if by != \"\" {\n\t\t\td.keepState", "if false {\n\t\t\td.keepState"},
	{"a span that ends under another is for good", "scale.go", "if over, laid := d.laidOver(r.Name); laid {", "if over, laid := d.laidOver(r.Name); laid && false {"},
	{"a span takes back what a person set", "scale.go", "case d.group.SizedBy == \"\":\n\t\treturn s", "case false:\n\t\treturn s"},
	{"a span takes back what a rule made larger", "scale.go", "under = max(under, d.group.Size)", "_ = under"},
	{"a size let go under a span comes back", "commands.go", "if s := &g.RuleStates[k]; s.Before > 1 {", "if s := &g.RuleStates[k]; false {"},
	{"a release passes a calendar's bound", "commands.go", "g.Size-1 < g.bounds().Min:", "g.Size-1 < g.Min:"},
	{"requests to nobody are no load", "internal/control/sampler.go", "if m.group.Size > 0 || m.serving > 0 || !m.goesBy(metric.Requests) {", "if true {"},
	{"requests to nobody load who serves", "internal/control/sampler.go", "if m.group.Size > 0 || m.serving > 0 ||", "if"},
	{"a load of nobody's is none", "internal/store/metrics.go", "max(s.Serving, 1)", "s.Serving"},
	{"who is not taken is not counted", "internal/balancer/builtin/account.go", "p.untaken.Add(1)", ""},
}
