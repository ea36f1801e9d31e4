package process

import (
	"bytes"
	"io"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"unitas/internal/machine"
)

// sitting is a terminal in a test, with all that it has shown.
type sitting struct {
	machine.Terminal
	t     *testing.T
	shown bytes.Buffer
}

// until reads until the screen has shown the words.
func (s *sitting) until(words string) {
	s.t.Helper()
	buffer := make([]byte, 4096)
	for !strings.Contains(s.shown.String(), words) {
		n, err := s.Read(buffer)
		s.shown.Write(buffer[:n])
		if err != nil && !strings.Contains(s.shown.String(), words) {
			s.t.Fatalf("the terminal ended (%v) without %q; it showed %q", err, words, s.shown.String())
		}
	}
	s.shown.Reset()
}

func (s *sitting) types(text string) {
	s.t.Helper()
	if _, err := io.WriteString(s.Terminal, text); err != nil {
		s.t.Fatal(err)
	}
}

// TestShell: a shell is before a terminal of its size, among the files and as the user of
// the workload; its end is told, and nothing of it is left.
func TestShell(t *testing.T) {
	y := newYard(t)
	y.launch("timetable-001", "echo up; exec sleep 600")
	y.log("timetable-001", "up\n")
	open := func(command ...string) *sitting {
		t.Helper()
		term, err := y.Shell("timetable-001", machine.Opening{Command: command, Variables: map[string]string{"PS1": "here$ "}, Columns: 91, Rows: 31})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(term.End)
		limit := time.AfterFunc(30*time.Second, term.End)
		t.Cleanup(func() { limit.Stop() })
		return &sitting{Terminal: term, t: t}
	}

	s := open("sh")
	s.until("here$ ")
	s.types("stty size; test -t 0 && echo a-$((6*7)); ls -1; echo $UNITAS_INSTANCE-is\n")
	s.until("31 91\r\na-42\r\nrun\r\nunitas.yaml\r\ntimetable-001-is\r\n")
	if os.Geteuid() == 0 {
		s.types("echo user-$(id -u)-$(stat -c %u $(tty))\n")
		user := strconv.Itoa(y.Block.User(8))
		s.until("user-" + user + "-" + user + "\r\n")
	}
	if err := s.Resize(120, 40); err != nil {
		t.Fatal(err)
	}
	s.types("stty size\n")
	s.until("40 120\r\n")
	// Ctrl-C reaches what runs before the terminal, and not the shell. What runs says itself that
	// it does: the shell's own words come before the terminal is the other's.
	s.types("sh -c 'echo wait-$((1+1)); exec sleep 600'\n")
	s.until("wait-2\r\n")
	s.types("\x03")
	s.until("here$ ")
	s.types("exit 3\n")
	if how := s.Wait(); how.Status != 3 || how.Why != "" {
		t.Errorf("%+v", how)
	}
	s.until("exit 3")
	if n, err := s.Read(make([]byte, 1)); err != io.EOF {
		t.Errorf("after its end it reads %d bytes, %v", n, err)
	}

	// One that is ended ends with its jobs, which are groups of their own.
	s = open("sh")
	s.until("here$ ")
	s.types("sleep 601 & sleep 602 & echo left-$((1+1))\n")
	s.until("left-2\r\n")
	// And those that begin others all the time.
	s.types("for i in 1 2 3; do (while :; do sleep 603 & sleep 0.001; done) & done; echo busy-$((1+1))\n")
	s.until("busy-2\r\n")
	for len(marked(y.dir("timetable-001"))) < 40 {
		<-time.After(time.Millisecond)
	}
	s.End()
	if how := s.Wait(); how.Status != -1 || !strings.Contains(how.Why, "killed by signal 9") {
		t.Errorf("%+v", how)
	}
	limit := time.Now().Add(10 * time.Second)
	for len(marked(y.dir("timetable-001"))) > 1 {
		if time.Now().After(limit) {
			t.Fatal("jobs of the shell are left on the machine")
		}
		<-time.After(time.Millisecond)
	}

	// It ends with the machine.
	s = open("sh")
	s.until("here$ ")
	if err := y.Stop(t.Context(), "timetable-001", time.Second); err != nil {
		t.Fatal(err)
	}
	if how := s.Wait(); how.Status != -1 {
		t.Errorf("%+v", how)
	}

	if _, err := y.Shell("timetable-001", machine.Opening{Command: []string{"sh"}, Columns: 80, Rows: 24}); err == nil {
		t.Error("a shell is open on a machine that is gone")
	}
	y.launch("timetable-002", "exec sleep 600")
	if _, err := y.Shell("timetable-002", machine.Opening{Command: []string{"no-such"}, Columns: 80, Rows: 24}); err == nil || !strings.Contains(err.Error(), "start no-such") {
		t.Errorf("a program that is not there: %v", err)
	}
}
