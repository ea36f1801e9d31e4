package control

// Err has the keeper of a group meet a fault of the service's own.
func (c *Control) Err(group string) { c.roster.of(group).tell(ofFault{}) }

// VerdictChanged is what the prober calls.
var VerdictChanged = (*Control).verdictChanged

// Known is how many groups are under control.
func (c *Control) Known() (n int) {
	for _, k := range c.roster.all() {
		if k.shown.Load() != nil {
			n++
		}
	}
	return n
}
