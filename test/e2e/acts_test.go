package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"unitas/api/contract"
	"unitas/client"
)

// TestActsOnMany: each of several takes an act or says why not, whatever becomes of the others;
// one that has another machine than was looked at is not stopped for what its last one did.
func TestActsOnMany(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(3)
	s.whole(4)
	tell := func(c contract.InstancesCommand) (contract.InstancesTold, error) {
		told, _, err := client.Read[contract.InstancesTold](s.api.TellInstances(ctx, nil, c))
		return told, err
	}
	show := func(id string) contract.Instance {
		t.Helper()
		return must[contract.Instance](t)(client.Read[contract.Instance](s.api.GetInstance(ctx, id)))
	}

	// The database fails for the second: the first and the third are told all the same.
	db, err := pgx.Connect(ctx, s.database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(ctx)
	fails := func(id string) {
		t.Helper()
		if _, err := db.Exec(ctx, `create or replace function no() returns trigger language plpgsql as $$ begin raise exception 'a fault of a test'; end $$;
			drop trigger if exists no on instances;
			create trigger no before update on instances for each row when (new.id = '`+id+`' and new.pinned) execute function no()`); err != nil {
			t.Fatal(err)
		}
	}
	all := []string{"timetable-001", "timetable-002", "timetable-003"}
	fails("timetable-002")
	told, err := tell(contract.InstancesCommand{Instances: all, Command: contract.InstancesCommandCommandPin})
	if err != nil || len(told.Taken) != 2 || len(told.Refused) != 1 {
		t.Fatalf("%+v, %v", told, err)
	}
	if r := told.Refused[0]; r.Instance != "timetable-002" || r.Why != "timetable-002 could not be told; the log of the service says why." {
		t.Errorf("the second is refused with %+v", r)
	}
	for id, want := range map[string]bool{"timetable-001": true, "timetable-002": false, "timetable-003": true} {
		if is := show(id).Pinned; is != want {
			t.Errorf("%s is pinned: %t", id, is)
		}
	}
	// A fault before any took it is one of the whole request.
	_, err = tell(contract.InstancesCommand{Instances: []string{"timetable-002"}, Command: contract.InstancesCommandCommandPin})
	if err == nil || strings.Contains(err.Error(), "a fault of a test") {
		t.Errorf("a fault of the database is answered %v", err)
	}
	if _, err := db.Exec(ctx, `drop trigger no on instances`); err != nil {
		t.Fatal(err)
	}
	if _, err := tell(contract.InstancesCommand{Instances: all, Command: contract.InstancesCommandCommandUnpin}); err != nil {
		t.Fatal(err)
	}

	// Another machine under the same name.
	looked := map[string]int{"timetable-001": show("timetable-001").Launch, "timetable-003": show("timetable-003").Launch}
	if told, err = tell(contract.InstancesCommand{Instances: []string{"timetable-001"}, Command: contract.InstancesCommandCommandRecreate, Launches: &looked}); err != nil || len(told.Taken) != 1 {
		t.Fatalf("%+v, %v", told, err)
	}
	s.eventually("its turn has come", func() error {
		if in := show("timetable-001"); in.Launch != 2 {
			return fmt.Errorf("it has its machine number %d", in.Launch)
		}
		return nil
	})
	s.whole(4)
	for _, c := range []contract.InstancesCommandCommand{contract.InstancesCommandCommandRetire, contract.InstancesCommandCommandRelease} {
		told, err = tell(contract.InstancesCommand{Instances: []string{"timetable-001"}, Command: c, Launches: &looked})
		if err != nil || len(told.Refused) != 1 || !strings.Contains(told.Refused[0].Why, "another machine by now than the one that was looked at: its number 2, and not 1; look again") {
			t.Errorf("%s of the machine before: %+v, %v", c, told, err)
		}
	}
	if in := show("timetable-001"); in.State != contract.InstanceStateServing {
		t.Errorf("it is %s", in.State)
	}
	if told, err = tell(contract.InstancesCommand{Instances: []string{"timetable-003"}, Command: contract.InstancesCommandCommandRetire, Launches: &looked}); err != nil || len(told.Taken) != 1 {
		t.Errorf("the same machine: %+v, %v", told, err)
	}
}
