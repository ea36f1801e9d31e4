package process

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"unitas/internal/datadir"
)

// How all of a machine is ended: what carries its mark, what is in its control group,
// and what runs as its user. A process can lose the mark and leave the session; it
// can leave neither the group nor the user.

// groups are control groups of the second kind, one below another for each machine;
// nil where this process may not make them.
type groups struct{ dir string }

// findGroups finds where control groups can be made, for the machines below dir.
func findGroups(dir string) *groups {
	f, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return nil
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		before, after, _ := strings.Cut(lines.Text(), " - ")
		fields := strings.Fields(before)
		if !strings.HasPrefix(after, "cgroup2 ") || len(fields) < 5 {
			continue
		}
		sum := sha256.Sum256([]byte(dir))
		g := &groups{filepath.Join(fields[4], "unitas-"+hex.EncodeToString(sum[:6]))}
		if err := os.Mkdir(g.dir, 0o755); err != nil && !errors.Is(err, os.ErrExist) {
			continue
		}
		if _, err := os.Stat(filepath.Join(g.dir, "cgroup.kill")); err != nil {
			os.Remove(g.dir)
			continue // a kernel that cannot end a whole group
		}
		return g
	}
	return nil
}

func (g *groups) of(id string) string { return filepath.Join(g.dir, id) }

// join has a program start in the group of the machine; close is called once it did.
func (g *groups) join(cmd *exec.Cmd, id string) (close func()) {
	nothing := func() {}
	if g == nil {
		return nothing
	}
	if err := os.MkdirAll(g.of(id), 0o755); err != nil { // another service may have removed the place of all
		return nothing
	}
	dir, err := os.Open(g.of(id))
	if err != nil {
		return nothing
	}
	cmd.SysProcAttr.UseCgroupFD, cmd.SysProcAttr.CgroupFD = true, int(dir.Fd())
	return func() { dir.Close() }
}

// end kills all that is in the group of the machine and removes it.
func (g *groups) end(id string) {
	if g == nil {
		return
	}
	if err := os.WriteFile(filepath.Join(g.of(id), "cgroup.kill"), []byte("1"), 0o600); err != nil {
		return // there is none
	}
	for range 100 { // the dead have to be counted out first
		if err := os.Remove(g.of(id)); err == nil || errors.Is(err, os.ErrNotExist) {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// close removes the place of all groups, once it is empty.
func (g *groups) close() {
	if g != nil {
		os.Remove(g.dir)
	}
}

// endUser kills all that runs as a machine's user. The signal goes to all of them at
// once, so none escapes by forking.
func endUser(user int) {
	if user < datadir.FirstUser {
		return
	}
	kill := exec.Command("/bin/sh", "-c", "kill -KILL -1")
	kill.Env = []string{}
	kill.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(user), Gid: uint32(user)}}
	_ = kill.Run()
}

// endAll kills whatever is left of a machine.
func (d *Driver) endAll(id string) {
	killMarked(d.dir(id))
	d.groups.end(id)
	if user := d.userOf(id); d.unprivileged && d.Block.HasUser(user) { // not those of the directory that this one was copied from
		endUser(user)
	}
}

// userOf is the user of a machine by the group that its directory was given, so that
// it is known without a record; -1 when there is none.
func (d *Driver) userOf(id string) int {
	info, err := os.Stat(d.dir(id))
	if err != nil {
		return -1
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok || stat.Gid < datadir.FirstUser {
		return -1
	}
	return int(stat.Gid)
}

// program is the file that a name stands for on a machine: relative to its root, or
// found by the PATH that its processes are told, never by the service's own.
func program(root, name string, environment []string) (string, error) {
	if strings.Contains(name, "/") {
		if !filepath.IsAbs(name) {
			name = filepath.Join(root, name)
		}
		return name, nil
	}
	path := ""
	for _, e := range environment { // the last one counts, as for the process
		if p, ok := strings.CutPrefix(e, "PATH="); ok {
			path = p
		}
	}
	for _, dir := range filepath.SplitList(path) {
		if !filepath.IsAbs(dir) {
			dir = filepath.Join(root, dir)
		}
		file := filepath.Join(dir, name)
		if info, err := os.Stat(file); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			return file, nil
		}
	}
	return "", &exec.Error{Name: name, Err: exec.ErrNotFound}
}
