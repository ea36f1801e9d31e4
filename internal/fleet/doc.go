// Package fleet decides what a group of instances needs next.
//
// Everything hard about the job is a decision: is this instance ill, who is
// replaced next, may the wave go on, which zone gets the next one. All of it
// is one function,
//
//	decision := fleet.Decide(now, view)
//
// of one group as it is known and the time it is. There is no clock, no I/O,
// no goroutine and no randomness in here, so the live service, the rehearsal
// and the tests run the same code, and any moment can be replayed.
//
// The caller owns the loop:
//
//  1. gather a [View]: the records, and the facts that drivers and probes report;
//  2. call [Decide];
//  3. write the changed records and the journal entries in one transaction;
//  4. carry out what is owed for them ([Instance.Unpaid]), each idempotent by instance id;
//  5. look again when a fact changes or at [Decision.Again].
//
// Records are written before the world is touched, and what the world is owed
// follows from the records alone ([Instance.Owed]); so a service killed at any
// instruction goes on where its records stand.
//
// Its words: a fact is what a driver, a check or the balancer reports, as opposed to a record; owed is
// what the world is still to be done to for an instance in its state, unpaid what of that is still to
// be done. The ledger is the look at every instance, kept from one decision to the next; an instance
// is unsteady when there is more to it than that it serves. A stage is how a group stood when a rollout
// began; a wave is filled when all that it should replace is replaced, and given up with its rollout.
// A trial is one launch at a time in a zone that failed again and again. To shift is to move the times
// of records by as much as a clock was set. The effects of a change are what it makes happen first.
package fleet
