package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"unitas/api/contract"
	"unitas/client"
)

// view is a picture of what a command draws in a terminal.
type view struct {
	name, command string
	// shown is what the picture says was typed; the command when it is "".
	shown string
	// before is done before the command begins, and ready waits, while it draws, for
	// what the picture is to show; without it the command is waited for.
	before, ready func() error
}

// terminal takes the pictures of a release in a terminal.
func (s *shots) terminal() error {
	if err := s.until("the group is whole", s.whole); err != nil {
		return err
	}
	return s.windows(
		view{name: "cli-group-show", command: "bin/unitas group show timetable"},
		view{name: "cli-rollout-watch", command: "bin/unitas rollout watch timetable", before: func() error { return s.release("the night sailings", false) }, ready: s.inWave(2)},
		view{name: "cli-rehearsal", command: "bin/unitas rollout rehearse timetable --to timetable-web@1 --fault zone=mid-pier@wave2", before: s.whole},
		view{name: "cli-journal", command: "bin/unitas journal --group timetable --limit 14"},
		view{name: "demo", command: "cat " + transcriptFile, shown: "make demo"},
	)
}

// metrics takes the picture of what was measured.
func (s *shots) metrics() error {
	return s.windows(view{name: "cli-metric-show", command: "bin/unitas metric list timetable; echo; bin/unitas metric show timetable cpu --since 4m; echo; bin/unitas rule list timetable"})
}

// windows takes pictures of a terminal window under Xvfb.
func (s *shots) windows(views ...view) error {
	display := ":97"
	_ = os.Remove("/tmp/.X11-unix/X97") // of one that was killed
	x := exec.Command("Xvfb", display, "-screen", "0", fmt.Sprintf("%dx%dx24", width, height), "-nolisten", "tcp")
	x.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := x.Start(); err != nil {
		return fmt.Errorf("start Xvfb: %w", err)
	}
	defer func() {
		_ = x.Process.Kill()
		_ = x.Wait()
		_ = os.Remove("/tmp/.X11-unix/X97")
	}()
	if err := s.until("the display", func() error { _, err := os.Stat("/tmp/.X11-unix/X97"); return err }); err != nil {
		return err
	}
	for _, v := range views {
		if v.before != nil {
			if err := s.until("before "+v.name, v.before); err != nil {
				return err
			}
		}
		if err := s.window(display, v); err != nil {
			return fmt.Errorf("take %s: %w", v.name, err)
		}
	}
	return nil
}

// until tries until it goes well, for two minutes.
func (s *shots) until(what string, try func() error) error {
	limit := time.After(2 * time.Minute)
	for {
		err := try()
		if err == nil {
			return nil
		}
		select {
		case <-limit:
			return fmt.Errorf("%s: %w", what, err)
		case <-s.ctx.Done():
			return s.ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// whole reports whether all of the group serve and nothing is under way.
func (s *shots) whole() error {
	g, _, err := client.Read[contract.Group](s.api.GetGroup(s.ctx, "timetable"))
	if err == nil && (g.Rollout != nil || g.Summary.Serving != g.Size || g.Summary.ComingUp+g.Summary.GoingOut > 0) {
		err = errors.New(g.Summary.Sentence)
	}
	return err
}

// inWave reports whether the rollout replaces instances in a wave, and some come up.
func (s *shots) inWave(n int) func() error {
	return func() error {
		g, _, err := client.Read[contract.Group](s.api.GetGroup(s.ctx, "timetable"))
		if err != nil {
			return err
		}
		if g.Summary.ComingUp == 0 || !strings.HasPrefix(g.Summary.Sentence, fmt.Sprintf("Wave %d ", n)) {
			return errors.New(g.Summary.Sentence)
		}
		return nil
	}
}

// window runs the command in a terminal and takes its picture once it shows what it
// should.
func (s *shots) window(display string, v view) error {
	shown := v.command
	if v.shown != "" {
		shown = v.shown
	}
	dir, err := os.MkdirTemp("", "unitas-shot-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	drawn := filepath.Join(dir, "drawn")
	script := fmt.Sprintf("PS1=; echo '$ %s'; %s; touch %s; sleep 60", strings.ReplaceAll(strings.ReplaceAll(shown, "bin/", ""), "'", ""), v.command, drawn)
	term := exec.Command("xterm", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", "158x47+0+0", "-bg", "#fbfaf8", "-fg", "#1b1a18", "-b", "12", "+sb", "-bw", "0",
		"-xrm", "xterm*color1: #b93a10", "-xrm", "xterm*color3: #8a5a00", "-xrm", "xterm*color6: #16618c", "-e", "bash", "-c", script)
	term.Env = append(os.Environ(), "DISPLAY="+display, "UNITAS_SERVER="+s.url, "UNITAS_TOKEN_FILE="+s.tokenFile, "TERM=xterm-256color")
	term.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := term.Start(); err != nil {
		return err
	}
	defer func() {
		_ = term.Process.Kill()
		_ = term.Wait()
	}()
	ready := v.ready
	if ready == nil {
		ready = func() error { _, err := os.Stat(drawn); return err }
	}
	if err := s.until("what it shows", ready); err != nil {
		return err
	}
	return s.keep(v.name, func(file string) ([]byte, error) {
		if raw, err := exec.Command("import", "-display", display, "-window", "root", file).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%w: %s", err, raw)
		}
		return os.ReadFile(file)
	})
}
