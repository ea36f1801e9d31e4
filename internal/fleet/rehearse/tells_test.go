package rehearse

import (
	"fmt"
	"strings"

	"unitas/internal/fleet"
	"unitas/internal/fleet/say"
)

// tells is what a scenario shows besides the group: what decisions go by, or what the gates of the rollout say.
func (s *scenario) tells(what string) string {
	if what == "wanted" {
		w := fleet.Wants(s.w.Clock(), s.w.View)
		text, waits := say.Wanted(s.w.Clock(), s.w.View, w)
		for _, v := range w.Versions {
			text += fmt.Sprintf("\n%s: %d there, %d serve, %d stay, %d wanted:", v.Version, v.Counted, v.Serving, v.Stay, v.Wanted)
			for _, z := range v.Zones {
				text += fmt.Sprintf(" %s %d of %d", z.Zone, z.Counted, z.Wanted)
			}
		}
		return strings.Join(append([]string{text}, waits...), "\n") + "\n"
	}
	text := ""
	for _, g := range s.w.View.Gates(s.w.Clock()) {
		text += fmt.Sprintf("%s: %s, %g, at least %g of %g\n", say.Gate(g), g.State(1), g.Value, g.Floor-g.Eased, g.Floor)
	}
	return text
}
