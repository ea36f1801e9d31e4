package process

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"

	"unitas/internal/datadir"
)

// How all of a machine is ended: what is in its control group, or, where it has none, what carries its
// mark and what runs as its user. A process can lose the mark and leave the session; it can leave
// neither the group nor the user.

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

// endAll kills whatever is left of a machine. All processes of the host are looked through only for one
// that has no control group: one of a service that could make none.
func (d *Driver) endAll(id string) {
	if d.groups.end(id) {
		return
	}
	killMarked(d.dir(id))
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
