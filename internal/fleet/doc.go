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
package fleet
