package pgtest

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
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
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer cmd.Wait()
	defer cmd.Process.Kill()
	read := bufio.NewScanner(out)
	if !read.Scan() {
		t.Fatal("the child said nothing")
	}
	dir := read.Text()
	pid, err := os.ReadFile(dir + "/pg/cluster/postmaster.pid")
	if err != nil {
		t.Fatal(err)
	}
	var postmaster int
	fmt.Sscan(string(pid), &postmaster)
	if _, err := os.Stat(fmt.Sprintf("/proc/%d", postmaster)); err != nil {
		t.Fatalf("no PostgreSQL %d runs: %v", postmaster, err)
	}
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{dir, fmt.Sprintf("/proc/%d", postmaster)} {
		for deadline := time.Now().Add(10 * time.Second); ; {
			_, err := os.Stat(path)
			if os.IsNotExist(err) {
				break
			}
			if time.Now().After(deadline) {
				t.Fatalf("%s is left behind", path)
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
}
