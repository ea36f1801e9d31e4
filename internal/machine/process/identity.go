package process

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// mark names the variable that ties a process to its machine's directory.
const mark = "UNITAS_MACHINE="

// owner names the variable that ties a process to the data directory of its service, by its identity.
const owner = "UNITAS_DIRECTORY="

// runs reports whether a recorded process is there and is this machine's, and not that of a machine of
// the directory from which ours was copied. What carries neither variable any more is taken by its
// record.
func (d *Driver) runs(id string, p identity) bool {
	if !p.alive() {
		return false
	}
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", p.PID))
	if err != nil {
		return true // it is another user's, and we are not root
	}
	dir := ""
	for variable := range bytes.SplitSeq(raw, []byte{0}) {
		if by, ok := bytes.CutPrefix(variable, []byte(owner)); ok && len(by) > 0 {
			return string(by) == d.Directory
		}
		if m, ok := bytes.CutPrefix(variable, []byte(mark)); ok {
			dir = string(m)
		}
	}
	if dir == "" || dir == d.dir(id) { // of a service that had no identity yet
		return true
	}
	_, err = os.Stat(dir)
	return err != nil // where it was is no more: the directory was renamed
}

// Names are the machines that have a directory below a driver's.
func Names(dir string) []string {
	entries, _ := os.ReadDir(dir)
	var all []string
	for _, e := range entries {
		if e.IsDir() && !strings.HasPrefix(e.Name(), ".") {
			all = append(all, e.Name())
		}
	}
	return all
}

// identity is a process that no other can be taken for.
type identity struct {
	PID int `json:"pid"`
	// Started is the process's start time in clock ticks since boot (field 22
	// of /proc/PID/stat), and Boot the boot that it counts from.
	Started uint64 `json:"started"`
	Boot    string `json:"boot"`
}

func identify(pid int) (identity, error) {
	_, started, err := stat(pid)
	return identity{PID: pid, Started: started, Boot: bootID()}, err
}

func bootID() string {
	raw, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(raw))
}

// stat reads the state and the start time of a process.
func stat(pid int) (state byte, started uint64, err error) {
	fields, err := statFields(pid)
	if err != nil {
		return 0, 0, err
	}
	started, err = strconv.ParseUint(fields[19], 10, 64)
	return fields[0][0], started, err
}

// statFields are those of /proc/PID/stat from the state (field 3) on, at least 20.
func statFields(pid int) ([]string, error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return nil, err
	}
	// The name in parentheses may hold anything, so fields count from its end.
	fields := strings.Fields(string(raw[bytes.LastIndexByte(raw, ')')+1:]))
	if len(fields) < 20 {
		return nil, fmt.Errorf("/proc/%d/stat is too short", pid)
	}
	return fields, nil
}

// alive reports whether this very process is there and not a zombie.
func (p identity) alive() bool {
	state, started, err := stat(p.PID)
	return err == nil && started == p.Started && state != 'Z' && state != 'X' && p.Boot == bootID()
}

// watch returns a function that waits until the process is dead, whoever its
// parent is.
func (p identity) watch() (wait func(), err error) {
	fd, err := unix.PidfdOpen(p.PID, unix.PIDFD_NONBLOCK)
	if err == unix.ESRCH {
		return func() {}, nil
	}
	if err != nil {
		return nil, err
	}
	f := os.NewFile(uintptr(fd), "pidfd")
	if !p.alive() { // it died before it was opened; the descriptor may be another's
		f.Close()
		return func() {}, nil
	}
	conn, err := f.SyscallConn()
	if err != nil {
		f.Close()
		return nil, err
	}
	return func() {
		defer f.Close()
		dead := false
		_ = conn.Read(func(fd uintptr) bool {
			n, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, 0)
			dead = n > 0 || (err != nil && err != unix.EINTR)
			return dead
		})
	}, nil
}

// awaitExit waits until a child has ended and leaves it to be waited for.
func awaitExit(pid int) {
	for {
		err := unix.Waitid(unix.P_PID, pid, nil, unix.WEXITED|unix.WNOWAIT, nil)
		if err != unix.EINTR {
			return
		}
	}
}

func exitWords(state *os.ProcessState) string {
	status, ok := state.Sys().(syscall.WaitStatus)
	switch {
	case ok && status.Signaled():
		return fmt.Sprintf("its process was killed by signal %d (%s)", status.Signal(), status.Signal())
	case ok:
		return fmt.Sprintf("its process ended with status %d", status.ExitStatus())
	}
	return "its process ended"
}

// marked returns the live processes that carry the mark of a directory.
func marked(dir string) []identity {
	return carrying(func(machine string) bool { return machine == dir })
}

// carrying returns the live processes whose mark names a directory that is
// wanted.
func carrying(wanted func(dir string) bool) []identity {
	environments, _ := filepath.Glob("/proc/[0-9]*/environ")
	var found []identity
	for _, file := range environments {
		raw, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		for variable := range bytes.SplitSeq(raw, []byte{0}) {
			dir, ok := bytes.CutPrefix(variable, []byte(mark))
			if !ok || !wanted(string(dir)) {
				continue
			}
			pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
			if id, err := identify(pid); err == nil && id.alive() {
				found = append(found, id)
			}
		}
	}
	return found
}

// Pids returns the processes of all machines below a driver's directory, as
// they are found without its records.
func Pids(dir string) []int {
	var pids []int
	for _, id := range carrying(func(machine string) bool { return filepath.Dir(machine) == dir }) {
		pids = append(pids, id.PID)
	}
	return pids
}

// EndAll ends all machines below a driver's directory, without its records, and
// removes their control groups: for whoever throws the directory away.
func EndAll(dir string) {
	for _, pid := range Pids(dir) {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	groups := findGroups(dir)
	if groups == nil {
		return
	}
	for _, place := range []string{groups.dir, groups.bounds} {
		entries, _ := os.ReadDir(place) // "" has none
		for _, e := range entries {
			if e.IsDir() {
				groups.end(e.Name())
				groups.remove(e.Name())
			}
		}
	}
	groups.close()
}

// oldestMarked is the process that the others of a machine stem from.
func oldestMarked(dir string) *identity {
	var oldest *identity
	for _, id := range marked(dir) {
		if oldest == nil || id.Started < oldest.Started || (id.Started == oldest.Started && id.PID < oldest.PID) {
			oldest = &id
		}
	}
	return oldest
}

// killMarked kills whatever is left of a machine.
func killMarked(dir string) {
	for _, id := range marked(dir) {
		if id.alive() {
			_ = syscall.Kill(id.PID, syscall.SIGKILL)
		}
	}
}
