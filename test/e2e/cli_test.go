package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"unitas/api/contract"
	"unitas/internal/pgserver/pgtest"
)

// TestCommandLine plays testdata/*.txt against the real service. A line that
// begins with $ is a command; the lines after it say what comes of it:
//
//	stdout PATTERN   standard output matches (a regular expression)
//	until PATTERN    the same, once the command was given often enough
//	absent PATTERN   standard output does not match
//	stderr PATTERN   standard error matches
//	exit N           the status, 0 when not said
func TestCommandLine(t *testing.T) {
	scripts, err := filepath.Glob("testdata/*.txt")
	if err != nil || len(scripts) == 0 {
		t.Fatalf("no scripts: %v", err)
	}
	for _, script := range scripts {
		t.Run(filepath.Base(script), func(t *testing.T) {
			t.Parallel() // they mostly wait
			s := startOn(t, pgtest.Database(t), func(s *service) { s.flags = []string{"--measure-every", "1s"} })
			if err := os.WriteFile(filepath.Join(s.dir, "timetable-1.tar.gz"), archive(t, "timetable-1"), 0o600); err != nil {
				t.Fatal(err)
			}
			for name, content := range samples {
				if err := os.WriteFile(filepath.Join(s.dir, name), []byte(content), 0o755); err != nil {
					t.Fatal(err)
				}
			}
			raw, err := os.ReadFile(script)
			if err != nil {
				t.Fatal(err)
			}
			s.play(strings.Split(string(raw), "\n"))
		})
	}
}

// samples are the files that the scripts find in DIR.
var samples = map[string]string{
	"timetable": "#!/bin/sh\necho sailings of $UNITAS_INSTANCE, $SEASON\ntrap 'exit 0' TERM\nwhile :; do sleep 0.1; done\n",
	"good.yaml": "parent: plain@1\nfiles: [{from: timetable, to: timetable}]\ncommands: ['echo 06:40 > sailings']\nstart: [./timetable]\nlabels: {service: timetable}\n",
	"bad.yaml":  "parent: plain@1\ncommands: ['echo before', 'echo no sailings; exit 4']\n",
	"slow.yaml": "parent: plain@1\ncommands: ['sleep 600']\ntime_limit: 10m\n",
	"odd.yaml":  "parent: plain@1\nfile: [x]\n",
	"first.sh":  "#!/bin/sh\necho first boot of $UNITAS_INSTANCE\n",
	"fails.sh":  "#!/bin/sh\necho cannot\nexit 9\n",
	"sailings.ics": "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Saltmere Line//Sailings//EN\r\nBEGIN:VEVENT\r\nUID:1\r\nSUMMARY:Morning boats\r\nDTSTART;TZID=Europe/Paris:20260105T060000\r\n" +
		"DTEND;TZID=Europe/Paris:20260105T093000\r\nRRULE:FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR\r\nX-UNITAS-MIN:2\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
}

// TestJournalIsFollowed reads what the command prints while things happen, and
// ends it as Ctrl-C does.
func TestJournalIsFollowed(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	cmd := exec.Command(filepath.Join(bin, "unitas"), "journal", "--follow", "-o", "json")
	cmd.Env = append(os.Environ(), "TZ=UTC", "UNITAS_SERVER=http://"+s.listen, "UNITAS_TOKEN="+s.token, "UNITAS_CONFIG="+filepath.Join(s.dir, "config.yaml"))
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	lines := json.NewDecoder(out)
	seen := map[int64]bool{}
	until := func(kind string) {
		t.Helper()
		for {
			var e contract.JournalEntry
			if err := lines.Decode(&e); err != nil {
				t.Fatalf("the journal ended before %s: %v", kind, err)
			}
			if seen[e.Number] {
				t.Errorf("entry %d came twice", e.Number)
			}
			seen[e.Number] = true
			if e.Kind == kind {
				return
			}
		}
	}
	until("pool.created") // the past
	s.group(20)
	until("group.created")
	until("instance.serving")
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("it ended badly: %v", err)
	}
}

type outcome struct {
	command        string
	stdout, stderr string
	exit           int
	exitExpected   bool
}

func (s *service) play(lines []string) {
	s.t.Helper()
	var o *outcome
	end := func() {
		if o != nil && !o.exitExpected && o.exit != 0 {
			s.t.Errorf("$ %s\nended with %d: %s%s", o.command, o.exit, o.stdout, o.stderr)
		}
	}
	for _, line := range lines {
		what, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
		switch what {
		case "", "#":
		case "$":
			end()
			o = s.command(rest)
		case "stdout", "stderr":
			text := o.stdout
			if what == "stderr" {
				text = o.stderr
			}
			rest = s.places().Replace(rest)
			if ok, err := regexp.MatchString(rest, text); err != nil || !ok {
				s.t.Errorf("$ %s\n%s does not match %q: %v\n%s", o.command, what, rest, err, text)
			}
		case "absent":
			if ok, err := regexp.MatchString(s.places().Replace(rest), o.stdout); ok || err != nil {
				s.t.Errorf("$ %s\nstdout matches %q: %v\n%s", o.command, rest, err, o.stdout)
			}
		case "until":
			s.eventually("$ "+o.command, func() error {
				if ok, err := regexp.MatchString(rest, o.stdout); ok || err != nil {
					return err
				}
				o = s.command(o.command)
				return fmt.Errorf("it does not match %q:\n%s", rest, o.stdout)
			})
		case "exit":
			o.exitExpected = true
			if got := []string{"0", "1", "2", "3"}[min(max(o.exit, 0), 3)]; got != rest {
				s.t.Errorf("$ %s\nended with %s, want %s: %s%s", o.command, got, rest, o.stdout, o.stderr)
			}
		default:
			s.t.Fatalf("no such line: %s", line)
		}
	}
	end()
}

// places puts the addresses and the directory of the service in the place of their words.
func (s *service) places() *strings.Replacer {
	return strings.NewReplacer("FRONT", s.front, "BACK", s.back, "DIR", s.dir)
}

// commandLimit is how long a command of a script may take.
const commandLimit = 40 * time.Second

func (s *service) command(line string) *outcome {
	s.t.Helper()
	line = s.places().Replace(line)
	var args []string
	for _, m := range regexp.MustCompile(`"([^"]*)"|(\S+)`).FindAllStringSubmatch(line, -1) {
		args = append(args, m[1]+m[2])
	}
	ctx, cancel := context.WithTimeout(s.t.Context(), commandLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, filepath.Join(bin, args[0]), args[1:]...)
	cmd.Env = append(os.Environ(), "TZ=UTC", "UNITAS_SERVER=http://"+s.listen, "UNITAS_TOKEN="+s.token, "UNITAS_CONFIG="+filepath.Join(s.dir, "config.yaml"))
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	err := cmd.Run()
	if ctx.Err() != nil {
		s.t.Errorf("$ %s\ndid not end within %s: %s%s", line, commandLimit, stdout.String(), stderr.String())
	}
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		s.t.Fatal(err)
	}
	if strings.Contains(stdout.String(), "\x1b[") {
		s.t.Errorf("$ %s\nwrites colour to what is no terminal", line)
	}
	return &outcome{command: line, stdout: stdout.String(), stderr: stderr.String(), exit: cmd.ProcessState.ExitCode()}
}
