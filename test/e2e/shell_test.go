package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"

	"unitas/api/contract"
	"unitas/client"
)

// seat is a terminal of the service with somebody before it.
type seat struct {
	*client.Terminal
	mu    sync.Mutex
	shown bytes.Buffer
	over  chan struct{}
	how   contract.ShellEnd
	err   error
}

func (s *seat) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.shown.Write(p)
}

// screen is what was shown since it was asked last.
func (s *seat) screen(words string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !strings.Contains(s.shown.String(), words) {
		return fmt.Errorf("the screen shows %q and not %q", s.shown.String(), words)
	}
	s.shown.Reset()
	return nil
}

func (s *service) opens(id string, body contract.NewShell) contract.Shell {
	s.t.Helper()
	return must[contract.Shell](s.t)(client.Read[contract.Shell](s.api.OpenShell(ctx, id, body)))
}

func (s *service) sit(id string, body contract.NewShell) *seat {
	s.t.Helper()
	opened := s.opens(id, body)
	term, err := s.api.Terminal(ctx, opened.Stream)
	if err != nil {
		s.t.Fatal(err)
	}
	limit, cancel := context.WithTimeout(ctx, time.Minute)
	s.t.Cleanup(cancel)
	at := &seat{Terminal: term, over: make(chan struct{})}
	go func() {
		defer close(at.over)
		at.how, at.err = term.Show(limit, at)
	}()
	return at
}

// TestShell: a terminal is before a shell of its instance and its size; how it ends, of
// itself or by the service, is told to who sits there and to the journal.
func TestShell(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	text := func(v string) *string { return &v }
	types := func(at *seat, typed string) {
		t.Helper()
		if err := at.Type(ctx, []byte(typed)); err != nil {
			t.Fatal(err)
		}
	}
	entry := func(kind, want string) {
		t.Helper()
		s.eventually("the journal has "+want, func() error {
			var found []string
			for _, e := range s.journal(kind) {
				found = append(found, e.Actor+": "+e.Text+" because "+e.Because)
				if strings.Contains(found[len(found)-1], want) {
					return nil
				}
			}
			return fmt.Errorf("there is %q", found)
		})
	}

	at := s.sit("timetable-001", contract.NewShell{Reason: text("its disk fills"), Columns: new(int(77)), Rows: new(int(21))})
	types(at, "stty size; echo $TERM is $UNITAS_INSTANCE\n")
	s.eventually("the shell answers", func() error { return at.screen("21 77\r\nxterm-256color is timetable-001\r\ntimetable-001 $ ") })
	entry("instance.shell-opened", "admin: A shell is opened on timetable-001: sh because a person asked for it: its disk fills")
	if err := at.Resize(ctx, 100, 40); err != nil {
		t.Fatal(err)
	}
	types(at, "stty size\n")
	s.eventually("it has another size", func() error { return at.screen("40 100\r\n") })
	types(at, "exit 4\n")
	<-at.over
	if at.err != nil || at.how.Status != 4 || at.how.Why != nil {
		t.Errorf("%+v %v", at.how, at.err)
	}
	entry("instance.shell-closed", "it ended with status 4")

	// Its reader leaves, and what runs before the terminal ends.
	opened := s.opens("timetable-001", contract.NewShell{Command: &[]string{"sleep", "12345"}})
	term, err := s.api.Terminal(ctx, opened.Stream)
	if err != nil {
		t.Fatal(err)
	}
	leaving, leave := context.WithCancel(ctx)
	leave()
	_, _ = term.Show(leaving, at)
	entry("instance.shell-closed", "who sat before it left")
	if out, _ := exec.Command("pgrep", "-f", "sleep 12345").Output(); len(out) > 0 {
		t.Errorf("the command goes on: %s", out)
	}

	// Its stream is for one, and needs its name.
	for _, stream := range []string{opened.Stream, "/v1/shells/none"} {
		if _, err := s.api.Terminal(ctx, stream); err == nil || !client.Is(err, "not-found") {
			t.Errorf("%s: %v", stream, err)
		}
	}
	if _, _, err := client.Read[contract.Shell](s.api.OpenShell(ctx, "timetable-001", contract.NewShell{Command: &[]string{"no-such"}})); err == nil || !strings.Contains(err.Error(), "The shell was not opened on timetable-001: start no-such") {
		t.Errorf("a program that is not there: %v", err)
	}
	// A page of another site cannot come to one, whatever it knows.
	opened = s.opens("timetable-001", contract.NewShell{})
	req, _ := http.NewRequest(http.MethodGet, "http://"+s.listen+opened.Stream, nil)
	for name, value := range map[string]string{"Connection": "Upgrade", "Upgrade": "websocket", "Sec-WebSocket-Version": "13", "Sec-WebSocket-Key": "AAAAAAAAAAAAAAAAAAAAAA==", "Origin": "http://elsewhere.example"} {
		req.Header.Set(name, value)
	}
	if res, err := http.DefaultClient.Do(req); err != nil || res.StatusCode != http.StatusForbidden {
		t.Errorf("%v %v", res, err)
	}

	// As many as there may be, then one more; and all end with the service.
	var seats []*seat
	for range 16 {
		seats = append(seats, s.sit("timetable-002", contract.NewShell{Command: &[]string{"sh", "-c", "while read x; do :; done"}}))
	}
	if _, _, err := client.Read[contract.Shell](s.api.OpenShell(ctx, "timetable-002", contract.NewShell{})); err == nil || !client.Is(err, "busy") {
		t.Errorf("one too many: %v", err)
	}
	if took := s.stop(syscall.SIGTERM); took > 10*time.Second {
		t.Errorf("the service stopped after %s", took)
	}
	for _, at := range seats {
		<-at.over
		if at.how.Why == nil || *at.how.Why != "the service stops" {
			t.Errorf("%+v %v", at.how, at.err)
		}
	}

	// Nothing is typed.
	s.flags = []string{"--shell-idle", "1s"}
	s.up()
	at = s.sit("timetable-001", contract.NewShell{Command: &[]string{"sh", "-c", "echo begun; sleep 600"}})
	s.eventually("it begins", func() error { return at.screen("begun\r\n") })
	<-at.over
	if at.how.Status != -1 || at.how.Why == nil || *at.how.Why != "nothing was typed for 1 s" {
		t.Errorf("%+v %v", at.how, at.err)
	}
	entry("instance.shell-closed", "nothing was typed for 1 s")
	// A window that is pulled about is no key.
	at = s.sit("timetable-001", contract.NewShell{})
	pulls := time.NewTicker(50 * time.Millisecond)
	defer pulls.Stop()
	limit := time.After(20 * time.Second)
	for over := false; !over; {
		select {
		case <-at.over:
			over = true
		case <-pulls.C:
			_ = at.Resize(ctx, 100, 40)
		case <-limit:
			t.Fatal("a shell whose window is pulled about does not end")
		}
	}
	if at.how.Why == nil || *at.how.Why != "nothing was typed for 1 s" {
		t.Errorf("%+v %v", at.how, at.err)
	}

	// The service is killed while one is open: the next one tells its end.
	s.sit("timetable-001", contract.NewShell{})
	s.stop(syscall.SIGKILL)
	s.up()
	entry("instance.shell-closed", "the service was killed while it was open")
	if left, _ := filepath.Glob(filepath.Join(s.dir, "shells", "*")); len(left) != 0 {
		t.Errorf("marks of shells are left: %q", left)
	}
	s.stop(syscall.SIGTERM)

	// Where commands are switched off, there are neither.
	s.flags = []string{"--no-commands"}
	s.up()
	if n := len(s.journal("instance.shell-opened")); n != len(s.journal("instance.shell-closed")) {
		t.Errorf("%d were opened, and as many did not end", n)
	}
	_, _, err = client.Read[contract.Shell](s.api.OpenShell(ctx, "timetable-001", contract.NewShell{}))
	_, _, errRun := client.Read[contract.Run](s.api.RunOnInstance(ctx, "timetable-001", contract.NewRun{Command: []string{"true"}}))
	for _, err := range []error{err, errRun} {
		if !client.Is(err, "switched-off") || !strings.Contains(err.Error(), "--no-commands") {
			t.Errorf("switched off, and: %v", err)
		}
	}
}

// TestShellOfTheCommandLine sits before one in a terminal of its own.
func TestShellOfTheCommandLine(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	screen := &seat{}
	cmd := exec.Command(filepath.Join(bin, "unitas"), "instance", "shell", "timetable-003", "--reason", "to look")
	cmd.Env = append(os.Environ(), "UNITAS_SERVER=http://"+s.listen, "UNITAS_TOKEN="+s.token, "UNITAS_CONFIG="+filepath.Join(s.dir, "config.yaml"), "TERM=vt100")
	keys, err := pty.StartWithSize(cmd, &pty.Winsize{Cols: 66, Rows: 18})
	if err != nil {
		t.Fatal(err)
	}
	defer keys.Close()
	read := make(chan struct{})
	go func() {
		defer close(read)
		buffer := make([]byte, 4096)
		for {
			n, err := keys.Read(buffer)
			_, _ = screen.Write(buffer[:n])
			if err != nil {
				return
			}
		}
	}()
	s.eventually("the prompt says where one is", func() error {
		return screen.screen("unitas: a shell on timetable-003; exit or Ctrl-D ends it, and so do 15 m without a key\r\ntimetable-003 $ ")
	})
	fmt.Fprint(keys, "stty size; sh -c 'echo $TERM; exec sleep 500'\r") // what runs says that it does
	s.eventually("it has this size", func() error { return screen.screen("18 66\r\nvt100\r\n") })
	fmt.Fprint(keys, "\x03") // not to the command line itself
	s.eventually("the prompt is back", func() error { return screen.screen("timetable-003 $ ") })
	if err := pty.Setsize(keys, &pty.Winsize{Cols: 101, Rows: 33}); err != nil {
		t.Fatal(err)
	}
	s.eventually("it is as large as it became", func() error {
		fmt.Fprint(keys, "stty size\r")
		return screen.screen("33 101\r\n")
	})
	fmt.Fprint(keys, "exit 7\r")
	_ = cmd.Wait()
	<-read
	if cmd.ProcessState.ExitCode() != 7 {
		t.Errorf("it ended with %d", cmd.ProcessState.ExitCode())
	}
	if err := screen.screen("unitas: on timetable-003 it ended with status 7\r\n"); err != nil { // and lines begin at the left again
		t.Error(err)
	}
	raw, _ := json.Marshal(s.journal("instance.shell-closed"))
	if !strings.Contains(string(raw), "it ended with status 7") {
		t.Errorf("the journal has %s", raw)
	}
}
