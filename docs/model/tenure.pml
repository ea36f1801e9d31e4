/*
 * The protocol of leases, records and driver calls: two replicas, one group, one
 * instance that is to run, be recreated once, and run again. At every step a replica may
 * be paused past its lease, be killed and start again, and lose the answer of a commit or
 * of a driver call. See README.md beside this file for how it is read.
 *
 * What the database and the driver do at once is atomic; nothing else is.
 */

#define REPLICAS 2
#define NOBODY   255

/* The record of the instance: what the world is owed. */
#define LAUNCH 1 /* a machine of launch number `launch` is owed */
#define CLEAR  2 /* its machine is to be stopped and cleared */
#define RUNS   3 /* nothing is owed */

byte holder = NOBODY;   /* who has the lease, by the database */
byte epoch  = 0;        /* of the lease: only grows */
byte owed   = LAUNCH;   /* the record */
byte launch = 1;        /* the record: the number of the machine */
byte gen    = 0;        /* of the record: counts every write */
bool asked  = false;    /* a person asked for a fresh machine, and it was recorded */

/* The driver. */
byte fence    = 0;      /* no order under an older epoch is accepted */
byte machines = 0;      /* how many machines bear the instance's id */
byte runs     = 0;      /* the launch number of the one that runs; 0 for none */

/* Of each replica, in its own memory: lost when it is killed. */
byte myEpoch[REPLICAS];
byte knownGen[REPLICAS];
byte knownOwed[REPLICAS];
byte knownLaunch[REPLICAS];
byte faults = 0;        /* so many crashes, pauses and lost answers are tried */

#ifndef FAULTS
#define FAULTS 3
#endif

/* What holds it together, each of which is left out once to see that it is missed. */
#ifndef FENCED
#define FENCED 1  /* the driver refuses an order under an old epoch */
#endif
#ifndef GUARDED
#define GUARDED 1 /* the database refuses a commit under an old epoch */
#endif
#ifndef COUNTED
#define COUNTED 1 /* and one against an old generation */
#endif
#ifndef IDEMPOTENT
#define IDEMPOTENT 1 /* a machine that is there is not started again */
#endif

/* The lease is taken when nobody has it, or from one that was paused past its end. */
inline take(me) {
	atomic {
		if
		:: holder == NOBODY
		:: holder != NOBODY && faults < FAULTS -> faults++
		fi;
		holder = me; epoch++;
		myEpoch[me] = epoch
	}
	atomic { /* the driver hears of it before anything is asked of it */
		if
		:: fence < myEpoch[me] -> fence = myEpoch[me]
		:: else -> skip
		fi
	}
}

/* All of the record is read at one moment. */
inline load(me) {
	atomic { knownGen[me] = gen; knownOwed[me] = owed; knownLaunch[me] = launch }
}

/* A commit names the epoch and the generation: the database refuses an old one. */
inline commit(me, nextOwed, nextLaunch, done) {
	atomic {
		if
		:: (!GUARDED || (holder == me && epoch == myEpoch[me])) && (!COUNTED || gen == knownGen[me]) && gen < 20 ->
			owed = nextOwed; launch = nextLaunch; gen++; done = true
		:: else -> done = false
		fi
	}
	if
	:: done -> load(me)
	:: done && faults < FAULTS -> faults++; done = false /* written, and the answer is lost */
	:: !done -> skip
	fi
}

proctype Replica(byte me) {
	bool done;
	byte act, which;
again:
	if
	:: take(me)
	fi;
	load(me);
	do
	:: holder != me || epoch != myEpoch[me] -> /* compared from time to time: it ends */
		goto again
	:: atomic { faults < FAULTS -> faults++; holder = NOBODY; myEpoch[me] = 0; knownGen[me] = 0 } -> goto again /* killed, and its lease ran out */
	:: knownOwed[me] == LAUNCH ->
		/* Record, act, record: what is asked of the driver is owed by the record as it
		   was read. Between here and there the replica may be paused for ever so long. */
		which = knownLaunch[me]; act = myEpoch[me];
		atomic { /* the driver holds the machine, looks at the fence, and acts */
			if
			:: FENCED && act < fence -> act = 0 /* refused: another has the lease by now */
			:: else ->
				if
				:: machines == 0 || !IDEMPOTENT -> machines++; runs = which
				:: IDEMPOTENT && machines > 0 && runs == which -> skip /* it is there already */
				:: IDEMPOTENT && machines > 0 && runs != which -> assert(false) /* of a former launch: the driver would refuse */
				fi
			fi
		};
		if
		:: act != 0 -> commit(me, RUNS, knownLaunch[me], done); if :: !done -> load(me) :: else -> skip fi
		:: act != 0 && faults < FAULTS -> faults++ /* the driver's answer is lost: it is asked again */
		:: act == 0 -> load(me)
		fi
	:: knownOwed[me] == CLEAR ->
		act = myEpoch[me];
		atomic {
			if
			:: FENCED && act < fence -> act = 0
			:: else -> machines = 0; runs = 0
			fi
		};
		if
		:: act != 0 -> commit(me, LAUNCH, knownLaunch[me] + 1, done); if :: !done -> load(me) :: else -> skip fi
		:: act != 0 && faults < FAULTS -> faults++
		:: act == 0 -> load(me)
		fi
	:: knownOwed[me] == RUNS && gen != knownGen[me] -> load(me) /* told of a change */
	:: knownOwed[me] == RUNS && asked && owed == RUNS && gen == knownGen[me] -> /* the goal; nothing to do before the lease is another's */
		(holder != me || epoch != myEpoch[me] || gen != knownGen[me])
	od
}

/* A person asks for a fresh machine, once, by whichever replica: the record is changed. */
proctype Person() {
	atomic { gen < 20 -> owed = CLEAR; gen++; asked = true } /* at any moment, also while it is launched */
}

/* What must never be: two machines of one instance. */
active proctype Watch() {
	assert(machines <= 1)
}

/* Every fair run ends at the goal: the fresh machine runs, and nothing is owed. */
ltl goal { <>[] (asked && launch == 2 && owed == RUNS && machines == 1 && runs == launch) }
ltl one  { [] (machines <= 1) }
/* The record never says that a machine runs that was never started for it. */
ltl told { [] (owed == RUNS -> (machines == 1 && runs == launch)) }

init {
	atomic {
		run Replica(0);
		run Replica(1);
		run Person()
	}
}
