package control

// VerdictChanged is what the prober calls.
var VerdictChanged = (*Control).verdictChanged
