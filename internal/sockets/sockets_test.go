package sockets

import (
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"unitas/internal/porttest"
)

var quiet = slog.New(slog.DiscardHandler)

func share(t *testing.T, dir, name string) *Sockets {
	t.Helper()
	s, err := Share(dir, name, quiet)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func listen(t *testing.T, s *Sockets, address string) net.Listener {
	t.Helper()
	l, err := s.Listen(address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	return l
}

// TestNobodyIsLost: callers that wait in the queue of a service that ends are answered by
// another, and so are all that come after.
func TestNobodyIsLost(t *testing.T) {
	dir, address := t.TempDir(), porttest.Free(t)
	first := listen(t, share(t, dir, "one"), address)
	second := listen(t, share(t, dir, "two"), address)
	var waiting []net.Conn
	for range 20 { // nobody takes them yet
		c, err := net.DialTimeout("tcp", address, 5*time.Second)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		waiting = append(waiting, c)
	}
	if err := first.Close(); err != nil {
		t.Fatal(err)
	}
	go func() {
		_ = http.Serve(second, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "second") }))
	}()
	for _, c := range waiting {
		_ = c.SetDeadline(time.Now().Add(10 * time.Second))
		fmt.Fprint(c, "GET / HTTP/1.0\r\n\r\n")
		answer, err := io.ReadAll(c)
		if err != nil || !strings.Contains(string(answer), "second") {
			t.Fatalf("a caller that waited got %q: %v", answer, err)
		}
	}
	third := listen(t, share(t, dir, "three"), address) // from the second
	if err := second.Close(); err != nil {
		t.Fatal(err)
	}
	c, err := net.DialTimeout("tcp", address, 5*time.Second)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if taken, err := third.Accept(); err != nil {
		t.Error(err)
	} else {
		taken.Close()
	}
}

// TestBothTakeCallers: one socket, and each of two services gets some.
func TestBothTakeCallers(t *testing.T) {
	dir, address := t.TempDir(), porttest.Free(t)
	var mu sync.Mutex
	by := map[string]int{}
	for _, name := range []string{"one", "two"} {
		l := listen(t, share(t, dir, name), address)
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				mu.Lock()
				by[name]++
				mu.Unlock()
				c.Close()
			}
		}()
	}
	limit := time.After(20 * time.Second)
	for {
		c, err := net.DialTimeout("tcp", address, 5*time.Second)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = c.Read(make([]byte, 1))
		c.Close()
		mu.Lock()
		both := by["one"] > 0 && by["two"] > 0
		mu.Unlock()
		if both {
			return
		}
		select {
		case <-limit:
			t.Fatalf("the callers went %v", by)
		default:
		}
	}
}

// TestWhatIsNobodysIsRefused: an address that somebody else has, or that one service has
// who shares with nobody, stays refused.
func TestWhatIsNobodysIsRefused(t *testing.T) {
	dir := t.TempDir()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if _, err := share(t, dir, "one").Listen(l.Addr().String()); !errors.Is(err, syscall.EADDRINUSE) {
		t.Errorf("it answered %v", err)
	}
	alone, err := Alone(quiet)
	if err != nil {
		t.Fatal(err)
	}
	had := listen(t, alone, porttest.Free(t))
	if _, err := share(t, dir, "two").Listen(had.Addr().String()); !errors.Is(err, syscall.EADDRINUSE) {
		t.Errorf("it answered %v", err)
	}
}

// TestADeadDoorIsPassedOver: a service that was killed leaves its door behind.
func TestADeadDoorIsPassedOver(t *testing.T) {
	dir, address := t.TempDir(), porttest.Free(t)
	if err := os.WriteFile(dir+"/killed", nil, 0o600); err != nil {
		t.Fatal(err)
	}
	listen(t, share(t, dir, "one"), address)
	listen(t, share(t, dir, "killed"), address) // started again under its name
}

// TestGivenByWhoStartsIt has the test start itself with a socket, by LISTEN_FDS.
func TestGivenByWhoStartsIt(t *testing.T) {
	if address := os.Getenv("UNITAS_TEST_ADDRESS"); address != "" {
		os.Setenv("LISTEN_PID", fmt.Sprint(os.Getpid()))
		s, err := Alone(quiet)
		if err != nil {
			t.Fatal(err)
		}
		c, err := listen(t, s, address).Accept()
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprint(c, "ahoy")
		c.Close()
		return
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	f, err := l.(*net.TCPListener).File()
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(os.Args[0], "-test.run=TestGivenByWhoStartsIt$", "-test.timeout=30s")
	cmd.ExtraFiles = []*os.File{f}
	cmd.Env = append(os.Environ(), "LISTEN_FDS=1", "UNITAS_TEST_ADDRESS="+l.Addr().String())
	cmd.Stdout, cmd.Stderr = os.Stderr, os.Stderr
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	l.Close()
	f.Close()
	c, err := net.DialTimeout("tcp", l.Addr().String(), 10*time.Second)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(20 * time.Second))
	if heard, err := io.ReadAll(c); err != nil || string(heard) != "ahoy" {
		t.Errorf("the service said %q: %v", heard, err)
	}
	if err := cmd.Wait(); err != nil {
		t.Error(err)
	}
}
