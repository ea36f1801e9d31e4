package pgtest

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"
)

// TestKilledTestsLeaveNothing kills a process of tests beside its cluster: the cluster and
// its directory go.
func TestKilledTestsLeaveNothing(t *testing.T) {
	if os.Getenv("UNITAS_TO_BE_KILLED") != "" {
		c, err := Cluster(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		fmt.Printf("%s\n", c.dir)
		select {}
	}
	cmd := exec.Command(os.Args[0], "-test.run", "^TestKilledTestsLeaveNothing$")
	cmd.Env = append(os.Environ(), "UNITAS_TO_BE_KILLED=yes")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stderr = new(strings.Builder) // a pipe, which ends when nobody of its house is left
	cmd.WaitDelay = 30 * time.Second
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	read := bufio.NewScanner(out)
	read.Scan()
	dir := read.Text()
	pid, err := os.ReadFile(dir + "/pg/cluster/postmaster.pid")
	first, _, _ := strings.Cut(string(pid), "\n")
	if _, running := os.Stat("/proc/" + first); err != nil || running != nil {
		t.Errorf("in %q there is no PostgreSQL that runs: %v, %v", dir, err, running)
	}
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); errors.Is(err, exec.ErrWaitDelay) {
		t.Error("somebody of its house is left")
	}
	for _, path := range []string{dir, "/proc/" + first} {
		if _, err := os.Stat(path); !os.IsNotExist(err) {
			t.Errorf("%s is left behind: %v", path, err)
		}
	}
}
