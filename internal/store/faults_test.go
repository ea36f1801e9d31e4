package store_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strings"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"

	"unitas/internal/store"
)

// TestFaults: what is the database's trouble, the disk's, the request's, and nobody's.
func TestFaults(t *testing.T) {
	pg := func(code string) error {
		return fmt.Errorf("commit: %w", &pgconn.PgError{Code: code, Message: "it says no"})
	}
	for _, c := range []struct {
		name string
		err  error
		want store.Failure
	}{
		{"none", nil, store.Other},
		{"a file that is not there", &fs.PathError{Op: "open", Path: "boot.log", Err: syscall.ENOENT}, store.Other},
		{"a file that may not be read", &fs.PathError{Op: "open", Path: "boot.log", Err: syscall.EACCES}, store.Other},
		{"a full disk", &fs.PathError{Op: "write", Path: "incoming-1", Err: syscall.ENOSPC}, store.DiskFull},
		{"a quota", fmt.Errorf("store a blob: %w", syscall.EDQUOT), store.DiskFull},
		{"the database's disk", pg("53100"), store.DiskFull},
		{"nobody listens", &net.OpError{Op: "dial", Err: syscall.ECONNREFUSED}, store.Unreachable},
		{"it takes too long", fmt.Errorf("load: %w", context.DeadlineExceeded), store.Unreachable},
		{"it shuts down", pg("57P01"), store.Unreachable},
		{"too many connections", pg("53300"), store.Unreachable},
		{"a row is locked for too long", pg("55P03"), store.Unreachable},
		{"a NUL", pg("22021"), store.BadValue},
		{"a NUL in JSON", pg("22P05"), store.BadValue},
		{"beyond the column", pg("22003"), store.BadValue},
		{"a rule is broken", pg("23514"), store.Other},
		{"nobody waits any more", context.Canceled, store.Other},
		{"something else", errors.New("something else"), store.Other},
	} {
		if got := store.FaultOf(c.err); got != c.want {
			t.Errorf("%s is %d, want %d", c.name, got, c.want)
		}
	}
	if why := store.Explain(pg("23514")); !strings.Contains(why, "it says no (23514)") {
		t.Errorf("it is explained as %q", why)
	}
	if why := store.Explain(syscall.ENOSPC); why != "the disk of the database is full" {
		t.Errorf("it is explained as %q", why)
	}
}
