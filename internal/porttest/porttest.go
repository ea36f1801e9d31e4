// Package porttest finds addresses for servers of tests.
package porttest

import (
	"math/rand/v2"
	"net"
	"strconv"
	"testing"
)

// Ports that no connection is given by itself: those begin at 32768, unless somebody set
// that otherwise.
const first, last = 20_000, 32_000

// Free is an address of this host that nobody listens on, and that no connection takes by
// chance before a server does.
func Free(t testing.TB) string {
	t.Helper()
	for range 100 {
		address := net.JoinHostPort("127.0.0.1", strconv.Itoa(first+rand.IntN(last-first)))
		if l, err := net.Listen("tcp", address); err == nil {
			l.Close()
			return address
		}
	}
	t.Fatal("no port is free")
	return ""
}
