package process

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/creack/pty"

	"unitas/internal/caught"
	"unitas/internal/machine"
)

// Shell opens a terminal on the machine.
func (d *Driver) Shell(id string, o machine.Opening) (machine.Terminal, error) {
	_, rec, err := d.live(id)
	if err != nil {
		return nil, err
	}
	cmd, err := d.prepared(rec, filepath.Join(d.dir(id), "root"), o.Command)
	if err != nil {
		return nil, fmt.Errorf("start %s: %w", o.Command[0], err)
	}
	for name, value := range o.Variables {
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	screen, end, err := pty.Open()
	if err != nil {
		return nil, fmt.Errorf("open a terminal: %w", err)
	}
	defer end.Close()
	t := &terminal{File: screen, cmd: cmd, begun: time.Now(), over: make(chan struct{})}
	if err := t.start(d, rec, end, o); err != nil {
		screen.Close()
		return nil, fmt.Errorf("start %s: %w", o.Command[0], err)
	}
	caught.Go("the end of a shell", t.await)
	return t, nil
}

func (t *terminal) start(d *Driver, rec record, end *os.File, o machine.Opening) error {
	if c := t.cmd.SysProcAttr.Credential; c != nil {
		if err := end.Chown(int(c.Uid), -1); err != nil {
			return err
		}
	}
	if err := t.Resize(o.Columns, o.Rows); err != nil {
		return err
	}
	t.cmd.Stdin, t.cmd.Stdout, t.cmd.Stderr = end, end, end
	t.cmd.SysProcAttr.Setctty = true // of its standard input, the 0 of Ctty
	return d.groups.start(t.cmd, rec.ID, rec.Processes)
}

// typingTime is how long a command may take to read what was typed before it is lost.
const typingTime = 5 * time.Second

// terminal is a command with a pseudo-terminal; the file is the side of who sits before it.
type terminal struct {
	*os.File
	cmd   *exec.Cmd
	begun time.Time
	over  chan struct{} // closed once how is known
	how   machine.Ran
	ended sync.Once
}

// Read tells the end of a terminal, which Linux calls an I/O error, as what it is.
func (t *terminal) Read(p []byte) (int, error) {
	n, err := t.File.Read(p)
	if errors.Is(err, syscall.EIO) || errors.Is(err, os.ErrClosed) {
		err = io.EOF
	}
	return n, err
}

// Write types, for as long as a command may take that does not read.
func (t *terminal) Write(p []byte) (int, error) {
	_ = t.File.SetWriteDeadline(time.Now().Add(typingTime))
	return t.File.Write(p)
}

// Resize tells the command the size of the screen.
func (t *terminal) Resize(columns, rows int) error {
	return pty.Setsize(t.File, &pty.Winsize{Cols: uint16(columns), Rows: uint16(rows)})
}

// End ends the command and its session.
func (t *terminal) End() {
	t.ended.Do(func() {
		select {
		case <-t.over: // what it left behind goes on, as it does for who leaves a terminal
		default:
			killSession(t.cmd.Process.Pid)
		}
		<-t.over
		t.File.Close()
	})
}

// Wait waits until the command has ended.
func (t *terminal) Wait() machine.Ran {
	<-t.over
	return t.how
}

func (t *terminal) await() {
	_ = t.cmd.Wait()
	t.how = machine.Ran{Status: t.cmd.ProcessState.ExitCode(), Took: time.Since(t.begun)}
	if t.how.Status < 0 {
		t.how.Why = strings.Replace(exitWords(t.cmd.ProcessState), "its process", "it", 1)
	}
	close(t.over)
}

// killSession kills all processes of a session: the jobs of a shell are groups of their own.
// Its leader stands still meanwhile and goes last, so that its number is no other's.
func killSession(leader int) {
	_ = syscall.Kill(leader, syscall.SIGSTOP)
	for range 10 { // as long as jobs begin others
		killed := false
		for _, pid := range inSession(leader) {
			killed = syscall.Kill(pid, syscall.SIGKILL) == nil || killed
		}
		if !killed {
			break
		}
	}
	_ = syscall.Kill(leader, syscall.SIGKILL)
}

// inSession are the processes of a session that live, without its leader.
func inSession(leader int) (pids []int) {
	dirs, _ := filepath.Glob("/proc/[0-9]*")
	for _, dir := range dirs {
		pid, _ := strconv.Atoi(filepath.Base(dir))
		// State, parent, group, session.
		if fields, err := statFields(pid); err == nil && pid != leader && fields[3] == strconv.Itoa(leader) && fields[0] != "Z" {
			pids = append(pids, pid)
		}
	}
	return pids
}
