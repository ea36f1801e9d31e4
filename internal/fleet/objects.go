package fleet

import (
	"strconv"
	"time"

	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/placement"
	"unitas/internal/fleet/rollout"
	"unitas/internal/fleet/scaling"
)

// Version names one numbered version of a template or image: "timetable-web@4".
type Version struct {
	Name string
	N    int
}

func (v Version) String() string { return v.Name + "@" + strconv.Itoa(v.N) }

// Group is the record of one group: what people set, and the service's book.
type Group struct {
	Name string
	// Alone is a group that is one instance, launched by a person: it bears the
	// group's name, nothing takes its place, and the group ends with it.
	Alone bool
	// Checks are those of the group's pools: all must find an instance healthy
	// before it serves.
	Checks []string
	// Watched is as in [View], for who judges an instance by the group alone.
	Watched time.Time
	Settings
	Book
}

// Settings are what people set. Decisions change none of them but Template, at the
// end of a rollout.
type Settings struct {
	Size, Min, Max int // Min <= Size <= Max
	Template       Version
	// Zones in the fixed order in which they are shown and filled.
	Zones []string
	// Pools send requests to its instances.
	Pools []string
	Heal  Heal
	// HealLimit is the share of the size, in percent, of instances that the healing
	// check finds unhealthy, or that are being replaced for it, above which healing
	// stops and asks for a person; at least one is always healed. 0 is as 100.
	HealLimit int
	// Shed says who goes first when the group shrinks; balance between zones comes
	// before it.
	Shed Shed
	// Spread says how zones are filled.
	Spread placement.Spread
	// Above is how many instances more than the size there may be, outside of a
	// rollout, so that a new one serves before the one that it replaces goes.
	Above int
	// PinNew pins every new instance.
	PinNew bool
	Labels map[string]string
	// Settle is how long after boot an instance may take to become healthy.
	Settle time.Duration
	// Drain is how long an instance may finish its requests.
	Drain time.Duration
	// Hooks hold its instances, in this order or, with HooksAtOnce, all of a point at once.
	Hooks       []Hook
	HooksAtOnce bool
	// Rules change its size.
	Rules []scaling.Rule
	// Scrape is where its instances tell metrics of their own: [PORT]/PATH; "" is /metrics at
	// the port of the template.
	Scrape string
	// Course is the one that its rollouts go by unless another is named; "" for none.
	Course string
	// Frozen says why nothing automatic happens to the group; "" when it does.
	Frozen string
	// HealPermit lets what turned unhealthy before it be healed whatever the limit.
	HealPermit time.Time
	// Deleting is set once a person asked for the group's end; it only ever
	// turns true.
	Deleting bool
}

// Book is what the service keeps about a group.
type Book struct {
	// NextSerial numbers the next instance; it only grows.
	NextSerial int
	// Setbacks are the zones in which launches back off.
	Setbacks []Setback
	// Slots are those in which instances fail or are missing, until one has proven
	// itself there; by number.
	Slots []Slot
	// HealStopped is since when healing waits for a person; zero when it does not.
	HealStopped time.Time
	// LastGood is the version that the group ran before its present one; zero when that is
	// the first.
	LastGood Version
	// Doubted are the versions that the group was kept or taken back from, the latest last: a gate, an
	// illness or too many failures held the rollout to it, or it went back. They are until a rollout to
	// them is done, or a person clears them.
	Doubted []Version
	// RuleStates are what is kept of the rules that acted.
	RuleStates []scaling.State
	// Bound are the bounds while spans of calendars last that set others; nil when none does.
	Bound *scaling.Bounds
	// SizedBy is the rule that set the size last; "" when a person did.
	SizedBy string
}

// Heal says what makes an instance be replaced: HealOff, HealMachine, HealTraffic (its pools
// set it aside again and again for how it answers), or the name of a check.
type Heal string

// The values of Heal that are not the name of a check.
const (
	HealOff     Heal = "off"
	HealMachine Heal = "machine"
	HealTraffic Heal = "traffic"
)

// Check is the name of the healing check, or "" when there is none.
func (h Heal) Check() string {
	if h == HealOff || h == HealMachine {
		return ""
	}
	return string(h)
}

// Shed is an order of removal.
type Shed string

// The orders: those on an outdated version first and then the oldest, the oldest
// first, or the newest first. The zero value is ShedOutdated.
const (
	ShedOutdated Shed = "outdated"
	ShedOldest   Shed = "oldest"
	ShedNewest   Shed = "newest"
)

// Setback is the back-off of launches in one zone. An instance that serves
// ends it.
type Setback struct {
	Zone  string
	Count int       // failures since the zone last brought an instance up
	Of    Version   // of the one that failed last
	Last  time.Time // when the last one was counted
	Until time.Time // no launch here before
	Why   string    `json:",omitempty"` // what its machine could not be started for, "" when it could
	// Brief counts the instances of the zone that served and failed before they had proven themselves,
	// since one has; BriefLast is when the last one did.
	Brief     int       `json:",omitempty"`
	BriefLast time.Time `json:",omitzero"`
}

// Longest and shortest wait after failures to bring up an instance in a zone.
const (
	FirstBackoff = time.Second
	LastBackoff  = time.Minute
)

// Purpose is what an instance was launched for.
type Purpose string

// The purposes: there were fewer than the size; to take the place of one that was
// ill; to balance zones; for a rollout; a person launched it.
const (
	ForSize    Purpose = "size"
	ForHealing Purpose = "healing"
	ForBalance Purpose = "balance"
	ForRollout Purpose = "rollout"
	ForPerson  Purpose = "person"
)

// Instance is the record of one instance and what is known of it now.
type Instance struct {
	ID     string
	Serial int
	// Slot is the place of the group in which it stands: the serial of the first
	// that stood there. Two stand in one while the one replaces the other.
	Slot    int
	Purpose Purpose
	// Launch counts its machines, from 1: a fresh one is another launch.
	Launch  int
	Zone    string
	Version Version
	State   State
	Since   time.Time // entered State
	Ordered time.Time
	Up      time.Time // its machine ran; zero before
	Served  time.Time // first entered Serving; zero before
	Pinned  bool
	// Awaits is set while a person's wish for a fresh machine waits for its turn: it serves on.
	Awaits bool
	// Renew is set while a person has its machine replaced by a fresh one: it
	// goes its way out and is ordered anew under its name.
	Renew bool
	// Cause is what brought it into its state.
	Cause Cause
	// Reports are the verdicts of the group's checks, one for each, in any
	// state from Settling on.
	Reports []health.Report

	// Tickets are those of its present launch, by hook; at most one is of a name.
	Tickets []Ticket

	// Machine is what the driver last said of its machine.
	Machine Machine
	// Traffic is what the balancer last said of its target.
	Traffic Traffic
}

// MachineState is what a machine driver knows of the machine of an instance.
type MachineState string

// What a driver may say of a machine.
const (
	MachineUnknown  MachineState = ""         // not asked for, or not heard of yet
	MachineStarting MachineState = "starting" // accepted
	MachineRunning  MachineState = "running"
	MachineRefused  MachineState = "refused" // the driver could not start it
	MachineStopped  MachineState = "stopped" // it ended or vanished; leftovers may be there
	MachineWoken    MachineState = "woken"   // it was halted on purpose, and runs again
	MachineCleared  MachineState = "cleared" // stopped on request and nothing is left
)

// Machine is a fact about the machine of an instance.
type Machine struct {
	State  MachineState
	Why    string // for refused and stopped: what happened, in words
	Launch int    // of which launch it speaks; 0 when the driver does not know
}

// Traffic is a fact about the targets of an instance. Closed says that none of them gets
// new requests and that it is known how many are in flight; until then it is unknown.
type Traffic struct {
	// Closed is true once every pool has stopped sending it new requests.
	Closed   bool
	InFlight int
}

// Report returns what the named check says of the instance.
func (i *Instance) Report(check string) health.Report {
	for _, r := range i.Reports {
		if r.Check == check {
			return r
		}
	}
	return health.Report{Check: check, Verdict: health.Unknown}
}

// RolloutState is where a rollout is; which way it goes is apart from it.
type RolloutState string

// The states of a rollout; the last three end it. One that is reverting moves back.
const (
	Moving    RolloutState = "moving"
	Soaking   RolloutState = "soaking"
	Held      RolloutState = "held"
	Reverting RolloutState = "reverting"
	Done      RolloutState = "done"
	Reverted  RolloutState = "reverted"
	Abandoned RolloutState = "abandoned"
)

// Ended reports whether nothing more will happen to the rollout.
func (s RolloutState) Ended() bool { return s == Done || s == Reverted || s == Abandoned }

// Rollout is the record of one staged replacement: what people asked for, and the service's book.
type Rollout struct {
	RolloutSettings
	RolloutBook
}

// RolloutSettings are what people ask of a rollout. Decisions change none of them but what gates have seen, and Below
// of one that replaces all at once, until it begins to.
type RolloutSettings struct {
	To    Version
	Waves rollout.Waves
	// Above and Below are how many instances more and fewer than the group's
	// size there may be meanwhile; their sum is at least 1.
	Above, Below int
	Soak         time.Duration
	Manner
	// Gates are the conditions that must hold, with what was seen when it last changed.
	Gates []gate.Gate
}

// RolloutBook is what the service keeps about a rollout.
type RolloutBook struct {
	ID   int64
	From Version
	// Before is what ran beside From when it began, and served.
	Before []VersionCount
	// Sized is the group's size when it began, which Below was chosen for.
	Sized int
	State RolloutState
	// Back is set once it goes back to From: it reverts, or is held on the way.
	Back  bool
	Since time.Time // entered State
	Cause Cause     // what brought it into State
	// Turned is why it goes or went back, and is kept when it has.
	Turned Cause
	// Wave is the index of the present wave. All before it are complete.
	Wave int
	// Times has an entry for each wave that has begun.
	Times []WaveTime
	// Resumed is when the rollout began or was last told to proceed: what went
	// wrong before that is answered and does not hold it again.
	Resumed time.Time
	// Stumbles counts how often machines of the present wave failed to start or ended
	// by themselves; several of one zone at one moment are once.
	Stumbles int
	// Lowest is how many served at the lowest so far; -1 when that was not kept.
	Lowest  int
	Started time.Time
	Ended   time.Time
}

// destination is the version that the group is being brought to.
func (r *Rollout) destination() Version {
	if r.Back {
		return r.From
	}
	return r.To
}

// mayMiss is how many less than the size may serve: what Below was of the size when the
// rollout began, and at least one where nothing could be replaced otherwise.
func (r *Rollout) mayMiss(size int) int {
	if r.AtOnce { // also of those that came since
		return size
	}
	below := r.Below
	if size < r.Sized {
		below = r.Below * size / r.Sized
		if below == 0 && r.Above == 0 {
			below = 1
		}
	}
	return min(below, size)
}

// Between is how many of a group of a size serve at least while the rollout goes on, where it takes some away
// itself, and how many are there at most.
func (r *Rollout) Between(size int) (least, most int) { return size - r.mayMiss(size), size + r.Above }

// StumbleLimit is how many machines of one wave may fail at the least before the
// rollout holds itself; fewer are taken for accidents and tried again.
const StumbleLimit = rollout.FewestToHold

// WaveTime is when a wave began, when the last of its instances was replaced,
// and when its soak was over. Zero times are still to come. Waived tells that a person had it go on
// though a gate had seen too little: that gate holds it no more.
type WaveTime struct {
	Began, Filled, Passed time.Time
	Waived                bool `json:",omitempty"`
}

// View is one group with everything known of it.
type View struct {
	Group     Group
	Instances []Instance
	// Rollout is the group's live rollout, or nil.
	Rollout *Rollout
	// Usual is how long instances of this template took from order to serving
	// (median of what was observed), and Slow how long the slowest twentieth took
	// at least (95th percentile); 0 when none was seen.
	Usual, Slow time.Duration
	// Holds are how long each hook of the group usually holds an instance.
	Holds map[string]Usual
	// Sizing is what the rules go by.
	Sizing Sizing
	// Prices are what an instance of the group's template costs for an hour in
	// each zone; nil when nothing is known.
	Prices map[string]float64
	// Location is where the hours of the rollout are those of the day; UTC when nil.
	Location *time.Location
	// Watched is since when the group is watched without a gap; zero is for always.
	Watched time.Time
	// Seen is what the gates of the rollout have seen until now, one for each; nil for as
	// much as its record says.
	Seen []gate.Comparison
	// Ledger is of these instances, nil when nobody keeps one.
	Ledger *Ledger
	// Stuck says why no decision about the group can be written now; "" when they can.
	Stuck string
}

// Usual is how long something took: the median of what was observed, and what the slowest
// twentieth took at least (95th percentile).
type Usual struct{ Median, Slow time.Duration }

// Decision is what a group needs now.
type Decision struct {
	// Changed are the instances whose records change, new ones included. What the world
	// is owed follows from them; see [Instance.Unpaid].
	Changed []*Instance
	// Group and Rollout are the records after the decision, nil when unchanged.
	Group   *Group
	Rollout *Rollout
	// Finished is set when a deleted group has nothing left.
	Finished bool
	Entries  []Entry
	// Again is when to look again if no fact changes before; zero means never.
	Again time.Time
}

// Quiet reports whether the decision changes nothing.
func (d *Decision) Quiet() bool {
	return len(d.Changed) == 0 && d.Group == nil && d.Rollout == nil && !d.Finished && len(d.Entries) == 0
}

// Entry is one line of the journal before it is written.
type Entry struct {
	Kind string // what changed and how: "instance.serving", "rollout.held"
	// Instance is whom it is about; Instances when they are many, of whom all the
	// same is to be said.
	Instance  string
	Instances []string
	Version   Version // of the instance, or what the rollout goes to
	Zone      string
	Was       string // the state or verdict before
	Rollout   int64
	Cause     Cause
	Numbers   Numbers // that were measured, besides those of the cause
	// Text says what happened, when that is no decision of the core's.
	Text string
}
