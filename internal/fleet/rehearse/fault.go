package rehearse

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"unitas/internal/fleet/words"
)

// Fault is something that goes wrong in a rehearsal.
type Fault struct {
	Kind FaultKind
	Zone string
	// After is when machines of the new version end, For how long the service is down.
	After, For time.Duration
	// Times is by how much boots take longer; Share is that of failed requests, 0 to 1.
	Times, Share float64
	// Wave is in which wave it begins, from 1, and At when, after the begin; 0 of both is at once.
	Wave int
	At   time.Duration
}

// FaultKind is what goes wrong.
type FaultKind string

// The faults: a zone's machines vanish and it takes no others; the new version never becomes
// healthy; or ends soon after it served; machines take longer to come up; the new version
// fails requests; the service is down for a time.
const (
	ZoneGoes     FaultKind = "zone"
	NewUnhealthy FaultKind = "new-version-unhealthy"
	NewCrashes   FaultKind = "new-version-crashes-after"
	SlowBoots    FaultKind = "slow-boots"
	NewErrors    FaultKind = "errors"
	ServiceDown  FaultKind = "service-down"
)

// Faults tells how each is written.
const Faults = "zone=ZONE, new-version-unhealthy, new-version-crashes-after=20s, slow-boots=3x, errors=2% or service-down=10m, a zone and service-down with @wave2 or @30s after it"

// ParseFault reads one as people write it: zone=mid-pier@wave2.
func ParseFault(text string, zones []string) (f Fault, err error) {
	text, when, timed := strings.Cut(text, "@")
	kind, value, _ := strings.Cut(text, "=")
	f.Kind = FaultKind(kind)
	wrong := fmt.Errorf("%q is no fault; give %s", words.Plain(text, 80), Faults)
	switch f.Kind {
	case ZoneGoes:
		f.Zone = value
		for _, z := range zones {
			if z == value {
				wrong = nil
			}
		}
		if wrong != nil {
			return f, fmt.Errorf("%q is no zone of the group; it has %s", words.Plain(value, 80), strings.Join(zones, ", "))
		}
	case NewUnhealthy:
		if value != "" {
			return f, wrong
		}
	case NewCrashes:
		f.After, err = time.ParseDuration(value)
		err = within(err, f.After >= time.Millisecond && f.After <= 24*time.Hour, wrong)
	case ServiceDown:
		f.For, err = time.ParseDuration(value)
		err = within(err, f.For >= time.Second && f.For <= 24*time.Hour, wrong)
	case SlowBoots:
		f.Times, err = strconv.ParseFloat(strings.TrimSuffix(value, "x"), 64)
		err = within(err, f.Times >= 1 && f.Times <= 100, wrong)
	case NewErrors:
		f.Share, err = strconv.ParseFloat(strings.TrimSuffix(value, "%"), 64)
		err = within(err, f.Share > 0 && f.Share <= 100 && strings.HasSuffix(value, "%"), wrong)
		f.Share /= 100
	default:
		return f, wrong
	}
	if err != nil || !timed {
		return f, err
	}
	if f.Kind != ZoneGoes && f.Kind != ServiceDown {
		return f, fmt.Errorf("%s is so from the beginning; leave @%s out", kind, words.Plain(when, 40))
	}
	if n, isWave := strings.CutPrefix(when, "wave"); isWave {
		f.Wave, err = strconv.Atoi(n)
		return f, within(err, f.Wave >= 1 && f.Wave <= 20, fmt.Errorf("%q is no wave; give @wave1 to @wave20", words.Plain(when, 40)))
	}
	f.At, err = time.ParseDuration(when)
	return f, within(err, f.At >= 0 && f.At <= 24*time.Hour, fmt.Errorf("%q is neither a wave nor a time; give @wave2 or @30s", words.Plain(when, 40)))
}

func within(err error, so bool, wrong error) error {
	if err != nil || !so {
		return wrong
	}
	return nil
}

// strikes says what begins.
func (f Fault) strikes() string {
	switch f.Kind {
	case ServiceDown:
		return fmt.Sprintf("The service is down for %s, and nobody watches.", words.Span(f.For))
	case NewUnhealthy:
		return "Instances of the new version never become healthy, from the beginning."
	case NewCrashes:
		return fmt.Sprintf("Instances of the new version end %s after they served, from the beginning.", words.Span(f.After))
	case SlowBoots:
		return fmt.Sprintf("Machines take %g times as long to come up, from the beginning.", f.Times)
	case NewErrors:
		return fmt.Sprintf("%s %% of what the new version answers fail, from the beginning.", words.Percent(100*f.Share))
	}
	return fmt.Sprintf("The zone %s goes: its machines vanish, and it takes no others.", f.Zone)
}
