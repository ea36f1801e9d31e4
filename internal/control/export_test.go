package control

// Err has the keeper of a group meet a fault of the service's own.
func (c *Control) Err(group string) { c.keeper(group).tell(func(*keeper) { panic("a fault") }) }

// VerdictChanged is what the prober calls.
var VerdictChanged = (*Control).verdictChanged
