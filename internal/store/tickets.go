package store

import (
	"context"
	"errors"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/fleet"
)

// Delivery is one attempt to tell somebody of a ticket: a message that was sent, or a
// command that was run.
type Delivery struct {
	Number   int64
	Group    string
	Instance string
	Launch   int
	Hook     string
	Kind     string // webhook or command
	At       time.Time
	Took     time.Duration
	// Status is that of the answer, or the exit status; 0 or -1 when there is none.
	Status int
	// Heard is set when it need not be sent again.
	Heard bool
	// Answered is set when the answer to the ticket came back with it.
	Answered bool
	CameBack string // the answer, what the command wrote, or why there is neither
	SentBy   string // the person who had it sent again; "" for the service
}

type deliveryRow struct {
	Number    int64
	GroupName string
	Instance  string
	Launch    int
	Hook      string
	Kind      string
	At        time.Time
	TookMs    int64
	Status    int
	Heard     bool
	Answered  bool
	CameBack  string
	SentBy    string
}

var (
	deliveryColumns = columnsOf[deliveryRow]()
	insertDelivery  = deliveryColumns.but("number").insert("deliveries")
)

func (r deliveryRow) delivery() Delivery {
	return Delivery{Number: r.Number, Group: r.GroupName, Instance: r.Instance, Launch: r.Launch, Hook: r.Hook, Kind: r.Kind, At: r.At.UTC(),
		Took: fromMillis(r.TookMs), Status: r.Status, Heard: r.Heard, Answered: r.Answered, CameBack: r.CameBack, SentBy: r.SentBy}
}

// AddDelivery records an attempt; the records of the group are as before.
func (s *Store) AddDelivery(ctx context.Context, d Delivery) error {
	_, err := s.q.Exec(ctx, insertDelivery, values(deliveryRow{GroupName: d.Group, Instance: d.Instance, Launch: d.Launch, Hook: d.Hook, Kind: d.Kind,
		At: d.At, TookMs: millis(d.Took), Status: d.Status, Heard: d.Heard, Answered: d.Answered, CameBack: d.CameBack, SentBy: d.SentBy}))
	return err
}

// Deliveries lists those of a group, newest first; of one hook or instance when it is named.
func (s *Store) Deliveries(ctx context.Context, group, hook, instance string, p Page) ([]Delivery, error) {
	before := int64(1) << 62
	if len(p.After) == 1 {
		before, _ = strconv.ParseInt(p.After[0], 10, 64)
	}
	rows, err := many[deliveryRow](ctx, s.q, `select `+deliveryColumns.list("")+` from deliveries
		where group_name = $1 and ($2 = '' or hook = $2) and ($3 = '' or instance = $3) and number < $4 order by number desc limit $5`, group, hook, instance, before, p.Limit)
	out := make([]Delivery, len(rows))
	for i, r := range rows {
		out[i] = r.delivery()
	}
	return out, err
}

// Heard reports whether somebody was told of a ticket already, and is to answer it. Where the
// answer came back at once, and the ticket is open all the same, it was lost with the service that
// had it: he is told again.
func (s *Store) Heard(ctx context.Context, group, instance, hook string, launch int) (yes bool, err error) {
	err = s.q.QueryRow(ctx, `select exists (select 1 from deliveries where group_name = $1 and instance = $2 and hook = $3 and launch = $4 and heard and not answered and sent_by = '')`,
		group, instance, hook, launch).Scan(&yes)
	return yes, err
}

// HookSecret is what messages of a hook are signed with.
func (s Reader) HookSecret(ctx context.Context, group, hook string) (secret string, err error) {
	err = s.q.QueryRow(ctx, `select secret from hook_secrets where group_name = $1 and hook = $2`, group, hook).Scan(&secret)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return secret, err
}

// SetHookSecret sets it; "" takes it away.
func (tx *Tx) SetHookSecret(ctx context.Context, group, hook, secret string) error {
	if secret == "" {
		_, err := tx.Exec(ctx, `delete from hook_secrets where group_name = $1 and hook = $2`, group, hook)
		return err
	}
	_, err := tx.Exec(ctx, `insert into hook_secrets (group_name, hook, secret) values ($1, $2, $3)
		on conflict (group_name, hook) do update set secret = excluded.secret, created_at = now()`, group, hook, secret)
	return err
}

// Ticketed lists instances that have tickets, by group and number: those that are held now,
// or all that are recorded.
func (s *Store) Ticketed(ctx context.Context, group string, all bool, p Page) ([]Instance, error) {
	after, serial := "", 0
	if len(p.After) == 2 {
		after = p.After[0]
		serial, _ = strconv.Atoi(p.After[1])
	}
	which := `state in ('held', 'held-out')`
	if all {
		which = `tickets <> '[]'`
	}
	return instances(many[instanceRow](ctx, s.q, `select `+instanceColumns+` from instances
		where ($1 = '' or group_name = $1) and `+which+` and (group_name, serial) > ($2, $3) order by group_name, serial limit $4`, group, after, serial, p.Limit))
}

// holdsKept is by how many instances it is told how long hooks usually hold.
const holdsKept = 50

// HoldTimes returns for each hook of a group, newest last, for how long it held instances
// until it was answered.
func (s *Store) HoldTimes(ctx context.Context, group string) (map[string][]time.Duration, error) {
	tickets, err := many[struct{ Tickets []fleet.Ticket }](ctx, s.q, `select tickets from instances where group_name = $1 and tickets <> '[]' order by since desc limit $2`, group, holdsKept)
	out := map[string][]time.Duration{}
	for i := len(tickets) - 1; i >= 0; i-- {
		for _, t := range tickets[i].Tickets {
			if t.Answered() {
				out[t.Hook] = append(out[t.Hook], t.Closed.Sub(t.Opened))
			}
		}
	}
	return out, err
}
