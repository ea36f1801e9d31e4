package rehearse

import (
	"strconv"
	"strings"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/placement"
)

// settings sets those that are named.
func settings(g *fleet.Group, args map[string]string) {
	for name, text := range args {
		switch name {
		case "size":
			g.Size = number(text)
		case "min":
			g.Min = number(text)
		case "max":
			g.Max = number(text)
		case "template":
			g.Template = version(text)
		case "zones":
			g.Zones = strings.Split(text, ",")
		case "heal":
			g.Heal = fleet.Heal(text)
		case "heal-limit":
			g.HealLimit = number(text)
		case "shed":
			g.Shed = fleet.Shed(text)
		case "spread":
			g.Spread = placement.Spread(text)
		case "above":
			g.Above = number(text)
		case "settle":
			g.Settle = span(text)
		case "drain":
			g.Drain = span(text)
		case "pin-new":
			g.PinNew = text == "yes"
		case "hooks": // name:at:deadline:otherwise, with + before all when they hold at once
			g.Hooks, g.HooksAtOnce = nil, strings.HasPrefix(text, "+")
			for _, one := range strings.FieldsFunc(text, func(c rune) bool { return c == ',' || c == '+' }) {
				f := strings.Split(one, ":")
				g.Hooks = append(g.Hooks, fleet.Hook{Name: f[0], At: fleet.HookPoint(f[1]), Deadline: span(f[2]), MaxDeadline: 4 * span(f[2]), Otherwise: fleet.Answer(f[3])})
			}
		case "checks", "whole": // not of the core
		default:
			panic("no such setting: " + name)
		}
	}
}

func number(text string) int {
	n, err := strconv.Atoi(text)
	if err != nil && text != "" {
		panic(err)
	}
	return n
}

func span(text string) time.Duration {
	if text == "" {
		return 0
	}
	if text == "never" {
		return -1
	}
	d, err := time.ParseDuration(text)
	if err != nil {
		panic(err)
	}
	return d
}

func version(text string) fleet.Version {
	name, n, _ := strings.Cut(text, "@")
	return fleet.Version{Name: name, N: number(n)}
}
