package process

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"unitas/internal/caught"
)

// groups are the control groups of the machines, one for each; nil where this process may make none.
type groups struct {
	// dir is where those of the second kind are made, which end a machine as a whole; "" where there
	// are none.
	dir string
	// bounds is where the number of processes is bounded: below dir, or in the hierarchy of the first
	// kind that does this alone; "" where neither can be had.
	bounds string
	// own is where this process is listed among those of the first kind, and where a thread goes back
	// to that started a machine; "" where bounds is of the second.
	own string
}

// findGroups finds where control groups can be made, for the machines below dir.
func findGroups(dir string) *groups {
	sum := sha256.Sum256([]byte(dir))
	name := "unitas-" + hex.EncodeToString(sum[:6])
	g := &groups{}
	for _, mount := range controlMounts() {
		place := filepath.Join(mount.dir, name)
		switch {
		case mount.second && g.dir == "" && made(place, "cgroup.kill"): // else a kernel that cannot end a whole group
			g.dir = place
			allow(mount.dir) // or it is so already
			if allow(place) {
				g.bounds, g.own = place, ""
			}
		case mount.pids && g.bounds == "" && made(place, "tasks"):
			if own := ownTasks(mount); joins(own) == nil {
				g.bounds, g.own = place, own
			}
		}
	}
	if g.dir == "" && g.bounds == "" {
		return nil
	}
	return g
}

// allow has the groups below a directory count processes, and reports whether they do.
func allow(dir string) bool {
	return os.WriteFile(filepath.Join(dir, "cgroup.subtree_control"), []byte("+pids"), 0o600) == nil
}

// made makes a group's directory and reports whether it has a file that the kernel then puts there.
func made(place, file string) bool {
	if err := os.Mkdir(place, 0o755); err != nil && !errors.Is(err, os.ErrExist) {
		return false
	}
	_, err := os.Stat(filepath.Join(place, file))
	if err != nil {
		os.Remove(place)
	}
	return err == nil
}

// ownTasks lists the threads of the group of the first kind in which this process is.
func ownTasks(m controlMount) string {
	raw, _ := os.ReadFile("/proc/self/cgroup")
	for line := range strings.Lines(string(raw)) {
		if parts := strings.SplitN(strings.TrimSpace(line), ":", 3); len(parts) == 3 && slices.Contains(strings.Split(parts[1], ","), "pids") {
			return filepath.Join(m.dir, strings.TrimPrefix(parts[2], m.root), "tasks")
		}
	}
	return ""
}

// joins has the thread that calls be of a group of the first kind.
func joins(tasks string) error {
	return os.WriteFile(tasks, []byte(strconv.Itoa(unix.Gettid())), 0o200)
}

// controlMount is where control groups are mounted.
type controlMount struct {
	dir, root    string // root is what of the hierarchy is mounted there
	second, pids bool   // of the second kind; of the first, which bounds processes
}

func controlMounts() (all []controlMount) {
	f, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return nil
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		before, after, _ := strings.Cut(lines.Text(), " - ")
		fields, rest := strings.Fields(before), strings.Fields(after)
		if len(fields) < 5 || len(rest) < 3 {
			continue
		}
		m := controlMount{dir: fields[4], root: strings.TrimSuffix(fields[3], "/"), second: rest[0] == "cgroup2", pids: rest[0] == "cgroup" && slices.Contains(strings.Split(rest[2], ","), "pids")}
		if m.second || m.pids {
			all = append(all, m)
		}
	}
	return all
}

func (g *groups) of(id string) string { return filepath.Join(g.dir, id) }

// start starts a program in the groups of the machine, of which it is before it runs, so that nothing
// that it begins is outside. most is how many processes and threads the machine may have at once.
func (g *groups) start(cmd *exec.Cmd, id string, most int) error {
	if g == nil {
		return cmd.Start()
	}
	if g.dir != "" {
		os.Remove(g.of(id))                                  // where all were killed: the kernel would kill who comes, too
		if err := os.MkdirAll(g.of(id), 0o755); err == nil { // another service may have removed the place of all
			if dir, err := os.Open(g.of(id)); err == nil {
				defer dir.Close()
				cmd.SysProcAttr.UseCgroupFD, cmd.SysProcAttr.CgroupFD = true, int(dir.Fd())
			}
		}
	}
	tasks := g.bound(id, most)
	if tasks == "" {
		return cmd.Start()
	}
	started := make(chan error, 1)
	caught.Go("the start of a program", func() {
		err := errors.New("it was not started")
		defer func() { started <- err }() // whatever fails before
		runtime.LockOSThread()
		if err = joins(tasks); err == nil {
			err = cmd.Start() // a child is in the group of the thread that made it
		}
		if joins(g.own) == nil {
			runtime.UnlockOSThread() // else the thread ends with this
		}
	})
	return <-started
}

// bound sets how many processes a machine may have; it returns where a thread joins a group of the
// first kind, "" when there is none.
func (g *groups) bound(id string, most int) (tasks string) {
	if g.bounds == "" || most <= 0 {
		return ""
	}
	place := filepath.Join(g.bounds, id)
	if err := os.MkdirAll(place, 0o755); err != nil {
		return ""
	}
	if err := os.WriteFile(filepath.Join(place, "pids.max"), []byte(strconv.Itoa(most)), 0o600); err != nil || g.own == "" {
		return ""
	}
	return filepath.Join(place, "tasks")
}

// refused is how often a machine was refused another process for its bound.
func (g *groups) refused(id string) (n int64) {
	if g == nil || g.bounds == "" {
		return 0
	}
	raw, err := os.ReadFile(filepath.Join(g.bounds, id, "pids.events"))
	if err != nil {
		return 0
	}
	for line := range bytes.Lines(raw) {
		if count, ok := bytes.CutPrefix(line, []byte("max ")); ok {
			n, _ = strconv.ParseInt(string(bytes.TrimSpace(count)), 10, 64)
		}
	}
	return n
}

// end kills all that is in the group of the machine. It reports whether there is one that ends as a
// whole, and is empty now. The group stays for as long as the machine has files: so that it is known
// that there was one.
func (g *groups) end(id string) (whole bool) {
	if g == nil {
		return false
	}
	if g.dir != "" && os.WriteFile(filepath.Join(g.of(id), "cgroup.kill"), []byte("1"), 0o600) == nil {
		whole = soon(func() bool {
			raw, err := os.ReadFile(filepath.Join(g.of(id), "cgroup.events"))
			return err != nil || bytes.Contains(raw, []byte("populated 0"))
		})
	}
	if g.own != "" && !whole {
		g.killListed(id)
	}
	return whole
}

// remove removes the groups of a machine that was ended.
func (g *groups) remove(id string) {
	if g == nil {
		return
	}
	for _, place := range []string{g.dir, g.bounds} {
		if place != "" {
			soon(func() bool {
				err := os.Remove(filepath.Join(place, id))
				return err == nil || errors.Is(err, os.ErrNotExist)
			})
		}
	}
}

// soon asks for half a second whether something is done: the dead have to be counted out first.
func soon(done func() bool) bool {
	for range 100 {
		if done() {
			return true
		}
		time.Sleep(5 * time.Millisecond)
	}
	return false
}

// killListed kills what a group of the first kind lists, for as long as more comes. A service of which
// a thread is there in this moment, to start something, is none of the machine's.
func (g *groups) killListed(id string) {
	service, _ := os.Executable()
	soon(func() bool {
		raw, _ := os.ReadFile(filepath.Join(g.bounds, id, "cgroup.procs"))
		left := false
		for _, text := range strings.Fields(string(raw)) {
			pid, err := strconv.Atoi(text)
			if program, _ := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid)); err != nil || pid <= 1 || program == service {
				continue
			}
			left = true
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		return !left
	})
}

// close removes the places of all groups, once they are empty.
func (g *groups) close() {
	if g == nil {
		return
	}
	for _, place := range []string{g.dir, g.bounds} {
		if place != "" {
			os.Remove(place)
		}
	}
}
