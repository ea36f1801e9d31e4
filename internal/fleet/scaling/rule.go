// Package scaling decides how large a group should be, by rules that people set.
package scaling

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"time"

	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/words"
)

// Kind is how a rule goes about it.
type Kind string

// The kinds: a metric that stays past a line for a time changes the size by a step; a metric
// is kept near a value; at certain times the size or its bounds are others.
const (
	Trip     Kind = "trip"
	Steady   Kind = "steady"
	Calendar Kind = "calendar"
)

// Rule is one rule of a group. Which fields count is by its kind.
type Rule struct {
	Name string `json:"name"`
	Kind Kind   `json:"kind"`
	// Off has the rule ask for nothing; what it would ask is shown.
	Off bool `json:"off,omitempty"`
	// Since is when it was last set: a calendar acts on no time before that.
	Since time.Time `json:"since"`

	// Metric and Aggregate are what trip and steady rules go by.
	Metric    metric.Name `json:"metric,omitempty"`
	Aggregate metric.Over `json:"over,omitempty"`
	// Cooldown is how long after it acted it may not act again.
	Cooldown time.Duration `json:"cooldown,omitempty"`

	// Thresholds are those of a trip rule.
	Thresholds []Line `json:"lines,omitempty"`

	// KeepAt is what a steady rule keeps the metric near; of a total, for one instance.
	KeepAt float64 `json:"target,omitempty"`
	// Band is how far off, in percent of KeepAt, nothing happens.
	Band float64 `json:"band,omitempty"`
	// Calm is how long a lower need must have lasted before it shrinks.
	Calm time.Duration `json:"calm,omitempty"`
	// ShrinkRate is how much of the size, in percent, it takes away within a minute at most; at
	// least one instance.
	ShrinkRate float64 `json:"pace,omitempty"`
	GrowOnly   bool    `json:"grow_only,omitempty"`
	// Forecast has it grow early to what the same hour of the week needed.
	Forecast bool `json:"foresee,omitempty"`

	// When are the times of a calendar rule, TimeZone that by whose clock they are, and Duration
	// how long each lasts; 0 is from then on.
	When     string        `json:"when,omitempty"`
	TimeZone string        `json:"in,omitempty"`
	Duration time.Duration `json:"span,omitempty"`
	// Min, Max and Size are what they are then; nil leaves one as it is.
	Min  *int `json:"min,omitempty"`
	Max  *int `json:"max,omitempty"`
	Size *int `json:"size,omitempty"`
}

// Usual settings, where nothing is said.
const (
	UsualBand     = 10.0
	UsualCalm     = 5 * time.Minute
	UsualPace     = 20.0
	UsualCooldown = time.Minute
	// LongestFor bounds for how long a metric may have to stay, and with it what is kept.
	LongestFor  = 6 * time.Hour
	LongestSpan = 366 * 24 * time.Hour
	MostLines   = 8
	MostRules   = 16
)

// Line is one threshold of a trip rule: the metric above (or below) At for For changes the size
// by Step.
type Line struct {
	Below bool          `json:"below,omitempty"`
	At    float64       `json:"at"`
	For   time.Duration `json:"for"`
	Step  Step          `json:"step"`
}

// Step is by how much the size changes: +2, -1, +50%, -25%, or to a number: =8.
type Step string

var stepPattern = regexp.MustCompile(`^([+-])([0-9]{1,5})(%?)$|^=([0-9]{1,5})$`)

// Check returns an error for what is no step.
func (s Step) Check() error {
	m := stepPattern.FindStringSubmatch(string(s))
	if m == nil || (m[2] != "" && atoi(m[2]) == 0) || (m[3] != "" && atoi(m[2]) > 1000) {
		return fmt.Errorf("%q is no step; give a count such as +2 or -1, a share such as +50%%, or a size such as =8", words.Plain(string(s), 40))
	}
	return nil
}

// From is the size that a group of a size gets: shares are rounded away from zero, and are
// at least one.
func (s Step) From(size int) int {
	m := stepPattern.FindStringSubmatch(string(s))
	if m == nil {
		return size
	}
	if m[4] != "" {
		return atoi(m[4])
	}
	by := atoi(m[2])
	if m[3] != "" {
		by = max(1, int(math.Ceil(float64(size)*float64(by)/100)))
	}
	if m[1] == "-" {
		by = -by
	}
	return max(0, size+by)
}

func atoi(s string) int {
	n, _ := strconv.Atoi(s)
	return n
}

var linePattern = regexp.MustCompile(`^\s*(above|below)\s+(-?[0-9]+(?:\.[0-9]+)?)\s*%?\s+for\s+([0-9][0-9a-z.]*)\s*:\s*(\S+)\s*$`)

// ParseLine reads a threshold as people write it: "above 70 for 2m: +1".
func ParseLine(text string) (Line, error) {
	m := linePattern.FindStringSubmatch(text)
	if m == nil {
		return Line{}, fmt.Errorf("%q is no threshold; write it such as: above 70 for 2m: +1, or: below 30 for 10m: -25%%", words.Plain(text, 80))
	}
	at, _ := strconv.ParseFloat(m[2], 64)
	lasts, err := time.ParseDuration(m[3])
	if err != nil {
		return Line{}, fmt.Errorf("%q is no time; give one such as 90s or 5m", m[3])
	}
	l := Line{Below: m[1] == "below", At: at, For: lasts, Step: Step(m[4])}
	return l, l.check()
}

func (l Line) String() string {
	way := "above"
	if l.Below {
		way = "below"
	}
	return fmt.Sprintf("%s %s for %s: %s", way, metric.Short(l.At), shortest(l.For), l.Step)
}

// shortest is a duration without zero parts at its end.
func shortest(d time.Duration) string {
	switch {
	case d > 0 && d%time.Hour == 0:
		return fmt.Sprintf("%dh", d/time.Hour)
	case d > 0 && d%time.Minute == 0:
		return fmt.Sprintf("%dm", d/time.Minute)
	}
	return d.String()
}

func (l Line) check() error {
	if err := l.Step.Check(); err != nil {
		return err
	}
	grows := l.Step[0] == '+'
	switch {
	case l.For < 2*metric.Every:
		return fmt.Errorf("for %s is too short to be measured in; give at least %s", l.For, 2*metric.Every)
	case l.For > LongestFor:
		return fmt.Errorf("for %s is too long; give at most %s", l.For, shortest(LongestFor))
	case l.Step[0] != '=' && grows == l.Below:
		return fmt.Errorf("a threshold %q: above one a group grows (+), below one it shrinks (-)", l)
	}
	return nil
}
