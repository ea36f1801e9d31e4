package rehearse

import (
	"bufio"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/rollout"
	"unitas/internal/fleet/say"
)

var update = flag.Bool("update", false, "rewrite the expected parts of the scenario files")

// TestScenarios plays testdata/*.txt. A file is a sequence of steps: comment
// lines, a command, "----", and what came of it up to the next blank line.
func TestScenarios(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txt")
	if err != nil || len(files) == 0 {
		t.Fatalf("no scenario files: %v", err)
	}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) { playFile(t, file) })
	}
}

func playFile(t *testing.T, file string) {
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	s := &scenario{t: t, fate: map[string]Behaviour{}, zoneLost: map[string]bool{}, zoneHung: map[string]bool{}, zoneBrief: map[string]bool{}}
	var out strings.Builder
	var wanted []string
	command, inExpected, said := "", false, false
	flush := func() {
		if command == "" {
			return
		}
		got := s.play(command)
		fmt.Fprintf(&out, "%s----\n", got)
		if want := strings.Join(wanted, ""); !*update && got != want {
			t.Errorf("%s: %s\ngot:\n%s\nwant:\n%s", file, command, got, want)
		}
		command, wanted, inExpected = "", nil, false
	}
	lines := bufio.NewScanner(strings.NewReader(string(raw)))
	var text strings.Builder
	for lines.Scan() {
		line := lines.Text()
		switch {
		case line == "----" && !inExpected:
			inExpected = true
			text.WriteString("----\n")
		case inExpected && line != "":
			wanted = append(wanted, line+"\n")
		case inExpected:
			out.Reset()
			flush()
			text.WriteString(strings.TrimSuffix(out.String(), "----\n") + "\n")
		case line == "" || strings.HasPrefix(line, "#"):
			said = said || line != ""
			text.WriteString(line + "\n")
		default:
			if strings.HasPrefix(line, "group ") && !said {
				t.Fatalf("%s: say before each case what it shows: %s", file, line)
			}
			said = said && !strings.HasPrefix(line, "group ")
			command = line
			text.WriteString(line + "\n")
		}
	}
	out.Reset()
	flush()
	text.WriteString(strings.TrimSuffix(out.String(), "----\n"))
	if *update {
		if err := os.WriteFile(file, []byte(text.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

var epoch = time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)

type scenario struct {
	t        *testing.T
	w        *World
	fate     map[string]Behaviour // by version
	zoneLost map[string]bool
	zoneHung map[string]bool // takes machines and never runs them
	// zoneBrief has its machines end after 35 s.
	zoneBrief map[string]bool
	printed   int
	burden    *burden
	refuse    int // so many launches more of a new version, every seventh
}

// named are the arguments with names that commands take; the settings of a group are
// read elsewhere.
var named = map[string][]string{
	"machines": {"boot", "well", "finish", "grace", "vanish", "refused"}, "rollout": {"waves", "above", "below", "soak", "order", "leave-out", "start", "hours", "pace", "supersede", "gate"}, "flap": {"every", "for"},
	"release": {"replace"}, "rest": {"for"}, "run": {}, "skip": {}, "show": {}, "resize": {}, "tell": {}, "answer": {}, "vanish": {}, "zone": {},
}

func (s *scenario) play(line string) string {
	words := strings.Fields(line)
	args := map[string]string{}
	defer func() {
		if cannot := recover(); cannot != nil {
			s.t.Fatalf("%s: %v", line, cannot)
		}
	}()
	for _, w := range words[1:] {
		if k, v, isNamed := strings.Cut(w, "="); isNamed {
			args[k] = v
			if may, some := named[words[0]]; some && !slices.Contains(may, k) {
				panic("it takes no " + k)
			}
		}
	}
	var err error
	switch words[0] {
	case "group": // whole=10s: so long after it was made
		s.burden = nil
		s.group(words[1], args)
		if args["whole"] != "" {
			s.w.Run(epoch.Add(span(args["whole"])))
		}
		s.printed = len(s.w.Journal)
		return ""
	case "machines": // machines timetable-web@1 boot=2s well=1s
		s.fate[words[1]] = Behaviour{Boot: span(args["boot"]), Well: span(args["well"]), Finish: span(args["finish"]), Grace: span(args["grace"]), Vanish: span(args["vanish"]), Refused: args["refused"] != ""}
		return ""
	case "run":
		s.w.Run(s.w.Now.Add(span(words[1])))
	case "show":
		return s.show()
	case "vanish":
		s.w.Vanish(words[1], "killed by signal 9")
	case "answer":
		s.w.Answer(words[1], words[2] == "good", words[3:]...)
	case "ill": // ill timetable-001 deep-look: by one check alone
		s.w.Answer(words[1], false, words[2])
	case "answers": // answers warm-cache=3s save-logs=2s:fail: from now on
		s.answers(args)
		return ""
	case "ticket": // ticket timetable-001 warm-cache pass
		err = s.w.AnswerTicket(words[1], number(args["launch"]), words[2], fleet.Answer(words[3]), args["note"])
	case "extend": // extend timetable-001 warm-cache 10s
		err = s.w.ExtendTicket(words[1], words[2], span(words[3]))
	case "flap": // flap timetable-001 every=5s for=1h: bad, good, bad …
		for at, bad := time.Duration(0), true; at < span(args["for"]); at, bad = at+span(args["every"]), !bad {
			s.w.At(s.w.Now.Add(at), func() { s.w.Answer(words[1], !bad) })
		}
	case "checks": // checks sailings-up,fares-up: the pools of the group ask these
		s.w.View.Group.Checks = strings.Split(words[1], ",")
		s.w.Decide()
	case "no-hook": // no-hook warm-cache: it is taken away
		err = s.change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.WithoutHook(words[1], "") })
	case "refuse": // refuse 6: so many of the launches of a new version, every seventh
		s.refuse = number(words[1])
		return ""
	case "until": // until 2: so many of the version that the rollout goes back to serve
		for range 3600 {
			if v := &s.w.View; v.Rollout == nil {
				break
			} else if _, n := s.w.count(v.Rollout.From); n >= number(words[1]) {
				break
			}
			s.w.Run(s.w.Now.Add(time.Second))
		}
		s.printed = len(s.w.Journal)
		return ""
	case "wanted", "gates":
		return s.tells(words[0])
	case "needs": // what waits for a person
		return strings.Join(say.Summarise(s.w.Clock(), s.w.View).Needs, "\n") + "\n"
	case "targets": // targets sailings-up: who gets the requests of a pool that asks it
		return s.targets(words[1])
	case "pin":
		in := s.w.Instance(words[1])
		if in == nil {
			return "no instance " + words[1] + "\n"
		}
		s.w.Tell(in.ID, fleet.CommandPin)
		s.printed = len(s.w.Journal)
	case "zone":
		s.zone(words[1], words[2])
	case "resize":
		err = s.change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) {
			return g.Change(func(g *fleet.Group) { g.Size = number(words[1]) }, "")
		})
	case "set": // set heal=machine heal-limit=50: other settings
		err = s.change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) {
			return g.Change(func(g *fleet.Group) { settings(g, args) }, "")
		})
	case "late": // late timetable-001: that its former machine ended is heard only now
		s.w.Late(words[1])
	case "rest": // rest timetable-001 for=1m: a picture of its files is taken
		s.w.Rest(words[1], span(args["for"]))
	case "freeze":
		err = s.change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.Freeze(strings.Join(words[1:], " ")) })
	case "thaw":
		err = s.change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.Thaw("") })
	case "heal":
		err = s.change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.HealAnyway(s.w.Now, "") })
	case "instance": // instance park timetable-003
		s.w.Tell(words[2], fleet.InstanceCommand(words[1]))
	case "template": // template timetable-web@2: for new launches
		err = s.change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) {
			return g.Change(func(g *fleet.Group) { g.Template = version(words[1]) }, "")
		})
	case "doubts": // what it ran before, and what it keeps away from
		g := &s.w.View.Group
		good := "none"
		if g.LastGood != (fleet.Version{}) {
			good = g.LastGood.String()
		}
		return fmt.Sprintf("the last good one is %s, and it doubts %v\n", good, g.Doubted)
	case "trust": // trust timetable-web@2: a person clears it
		err = s.change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) {
			if err := g.Trust([]fleet.Version{version(words[1])}); err != nil {
				return g, fleet.Entry{}, err
			}
			return g, fleet.Entry{Kind: "group.changed"}, nil
		})
	case "count": // count instance.ordered: how often it was journalled
		n := 0
		for _, l := range s.w.Journal {
			if l.Kind == words[1] {
				n += max(len(l.Instances), 1)
			}
		}
		return fmt.Sprintf("%d times\n", n)
	case "lines": // how many there are in the journal
		return fmt.Sprintf("%d lines\n", len(s.w.Journal))
	case "skip": // time passes and what is journalled is not shown
		s.w.Run(s.w.Now.Add(span(words[1])))
		s.printed = len(s.w.Journal)
		return ""
	case "unwatched": // the service is down for so long
		s.w.Now = s.w.Now.Add(span(words[1]))
		s.w.watched = s.w.Now
	case "away": // away 3h: the service is down for so long, and the world goes on
		s.w.Away = s.w.Now.Add(span(words[1]))
		s.w.At(s.w.Away, s.w.Restart)
		s.w.Run(s.w.Away)
	case "clock": // clock -5m: the clock is set
		d, err := time.ParseDuration(words[1])
		if err != nil {
			return err.Error() + "\n"
		}
		s.w.Skew += d
	case "delete":
		err = s.change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) {
			return g.Delete(fleet.Pinned(s.w.View.Instances)...)
		})
	case "release":
		s.w.Release(words[1], args["replace"] == "yes")
	case "zones":
		err = s.change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) {
			return g.Change(func(g *fleet.Group) { g.Zones = strings.Split(words[1], ",") }, "")
		})
	case "prices":
		s.w.View.Prices = map[string]float64{}
		for zone, price := range args {
			s.w.View.Prices[zone], err = strconv.ParseFloat(price, 64)
		}
	case "rollout":
		err = s.rollout(words[1], args)
	case "tell":
		if s.w.View.Rollout == nil {
			return "no rollout\n"
		}
		var r fleet.Rollout
		var e fleet.Entry
		r, e, err = s.w.View.Rollout.Tell(s.w.Now, fleet.Command(words[1]), "")
		if err == nil {
			s.w.View.Rollout = &r
			s.w.Journal = append(s.w.Journal, Line{s.w.Now, e})
		}
	default:
		if err = s.playRules(words, args); err == errRulesSaid {
			return s.thinks()
		}
	}
	if err != nil {
		return "refused: " + err.Error() + "\n"
	}
	return s.journal()
}

func (s *scenario) group(name string, args map[string]string) {
	checks := []string{"sailings-up"}
	if args["checks"] != "" {
		checks = strings.Split(args["checks"], ",")
	}
	g := fleet.Group{Name: name, Checks: checks}
	settings(&g, args)
	s.w = New(epoch, fleet.View{Group: g}, func(in fleet.Instance) Behaviour {
		b, ok := s.fate[in.Version.String()]
		if !ok {
			b = Behaviour{Boot: 2 * time.Second, Well: time.Second}
		}
		if b.Refused = b.Refused || s.zoneLost[in.Zone]; s.refuse > 0 && in.Version.N > 1 && in.Serial%7 == 0 {
			b.Refused = true
			s.refuse--
		}
		if s.zoneHung[in.Zone] {
			b.Boot = -1
		}
		if s.zoneBrief[in.Zone] {
			b.Vanish = 35 * time.Second
		}
		return b
	})
}

func (s *scenario) answers(args map[string]string) {
	s.w.Answers = func(_ fleet.Instance, t fleet.Ticket) Answering {
		after, what, _ := strings.Cut(args[t.Hook], ":")
		if after == "" {
			after = "never"
		}
		return Answering{After: span(after), Fails: what == "fail"}
	}
}

func (s *scenario) zone(name, what string) {
	s.zoneLost[name], s.zoneHung[name], s.zoneBrief[name] = what == "lost", what == "hangs", what == "brief"
	if what == "brief" { // and those that are there do, soon
		for k, in := range s.w.View.Instances {
			if in.Zone == name {
				s.w.In(time.Duration(30+k)*time.Second, func() { s.w.Vanish(in.ID, "killed by signal 9") })
			}
		}
	}
	if what != "lost" {
		return
	}
	for _, in := range s.w.View.Instances {
		if in.Zone == name {
			s.w.Vanish(in.ID, "its zone is lost")
		}
	}
}

// change is a person's change of the group.
func (s *scenario) change(f func(fleet.Group) (fleet.Group, fleet.Entry, error)) error {
	return s.w.Change(f)
}

func (s *scenario) rollout(to string, args map[string]string) error {
	waves, err := rollout.ParseWaves(args["waves"])
	if err != nil {
		return err
	}
	ro := fleet.Rollout{RolloutBook: fleet.RolloutBook{ID: 1}, RolloutSettings: fleet.RolloutSettings{To: version(to), Waves: waves, Above: number(args["above"]), Below: number(args["below"]), Soak: span(args["soak"])}}
	ro.Order, ro.AtOnce, ro.Hours = fleet.Order(args["order"]), args["pace"] == "at-once", fleet.Hours(args["hours"])
	if args["leave-out"] != "" {
		ro.Exclude = strings.Split(args["leave-out"], ",")
	}
	if args["start"] != "" {
		ro.StartAt = s.w.Now.Add(span(args["start"]))
	}
	if kind, floor, some := strings.Cut(args["gate"], ":"); some {
		ro.Gates = []gate.Gate{{Kind: gate.Kind(kind), Floor: float64(number(floor)), OnBroken: gate.Hold, OnUndecided: gate.GoOn}}
	}
	var over *fleet.Rollout
	if old := s.w.View.Rollout; args["supersede"] != "" && old != nil {
		_, e := old.Supersede(s.w.Now, ro.To)
		over = old
		s.w.Journal = append(s.w.Journal, Line{s.w.Now, e})
	}
	r, e, err := fleet.Begin(s.w.Now, s.w.View.Group, s.w.View.Instances, ro, over)
	if err == nil {
		s.w.View.Rollout = &r
		s.w.Journal = append(s.w.Journal, Line{s.w.Now, e})
	}
	return err
}

func (s *scenario) targets(check string) string {
	ids := []string{"requests go to"}
	for i := range s.w.View.Instances {
		if in := &s.w.View.Instances[i]; in.TakesRequests(check) {
			ids = append(ids, in.ID)
		}
	}
	if len(ids) == 1 {
		ids = append(ids, "nobody")
	}
	return strings.Join(ids, " ") + "\n"
}

// journal prints what was journalled since it was last printed.
func (s *scenario) journal() string {
	var b strings.Builder
	for _, l := range s.w.Journal[s.printed:] {
		subject := l.Instance
		switch n := len(l.Instances); {
		case subject == "" && n > 0 && strings.HasPrefix(l.Kind, "instance."):
			subject = fmt.Sprintf("%d from %s to %s", n, l.Instances[0], l.Instances[n-1])
		case subject == "":
			subject = s.w.View.Group.Name
		}
		fmt.Fprintf(&b, "%6s  %s %s: %s\n", l.At.Sub(epoch), subject, l.Kind, say.Because(l.Cause))
	}
	s.printed = len(s.w.Journal)
	return b.String()
}

// show prints the sentence and a row of slips for each zone.
func (s *scenario) show() string {
	var b strings.Builder
	fmt.Fprintln(&b, say.Summarise(s.w.Now, s.w.View).Sentence)
	for _, zone := range s.w.View.Group.Zones {
		fmt.Fprintf(&b, "%-10s", zone)
		for i := range s.w.View.Instances {
			if in := &s.w.View.Instances[i]; in.Zone == zone {
				b.WriteString(" " + say.Slip(in, s.w.View.Group.IsOverdue(s.w.Clock(), in)))
			}
		}
		b.WriteString("\n")
	}
	return b.String()
}

func TestSameWorldSameJournal(t *testing.T) {
	one, two := playPlan(t, 7).Journal, playPlan(t, 7).Journal
	if !slices.EqualFunc(one, two, func(a, b Line) bool { return fmt.Sprint(a) == fmt.Sprint(b) }) {
		t.Error("the same plan gave two different journals")
	}
}
