package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5/pgconn"
)

// Failure is what kind of trouble an error of the store is.
type Failure int

// The kinds: none of the others; the database does not answer; its disk is full; it
// cannot keep a value as it is (a NUL, a number beyond its column).
const (
	Other Failure = iota
	Unreachable
	DiskFull
	BadValue
)

// badValues are the SQLSTATEs of values that no column can hold.
var badValues = []string{"22001", "22003", "22021", "22P02", "22P03", "22P05", "22008", "22007"}

// FaultOf tells the kind of an error.
func FaultOf(err error) Failure {
	var connect *pgconn.ConnectError
	var pg *pgconn.PgError
	var network *net.OpError
	switch {
	case err == nil:
		return Other
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return DiskFull
	case errors.As(err, &pg):
		switch {
		case pg.Code == "53100":
			return DiskFull
		case slices.Contains(badValues, pg.Code):
			return BadValue
		case strings.HasPrefix(pg.Code, "57"), strings.HasPrefix(pg.Code, "08"), strings.HasPrefix(pg.Code, "53"), pg.Code == "55P03":
			return Unreachable
		}
		return Other
	case errors.As(err, &connect), errors.Is(err, context.DeadlineExceeded), errors.As(err, &network), errors.Is(err, net.ErrClosed),
		errors.Is(err, io.ErrUnexpectedEOF), pgconn.SafeToRetry(err):
		return Unreachable
	case strings.Contains(err.Error(), "greater than maximum value for"), strings.Contains(err.Error(), "out of range"):
		return BadValue // the driver says so before it sends it, and has no type for it
	}
	return Other
}

// Explain says in words why nothing could be written.
func Explain(err error) string {
	var pg *pgconn.PgError
	switch FaultOf(err) {
	case Unreachable:
		return "the database does not answer"
	case DiskFull:
		return "the disk of the database is full"
	}
	if errors.As(err, &pg) {
		return fmt.Sprintf("the database refuses them: %s (%s)", pg.Message, pg.Code)
	}
	return err.Error()
}
