package bake

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"

	landlock "github.com/landlock-lsm/go-landlock/landlock/syscall"
	"golang.org/x/sys/unix"

	"unitas/internal/caught"
)

// cell is what the helper is told: who to be, where to write, what to run.
type cell struct {
	Tree, Tmp string
	User      int
	Command   []string
}

// What commands may read besides their tree: the machine's own programs.
var readable = []string{"/usr", "/bin", "/sbin", "/lib", "/lib64", "/lib32", "/etc", "/opt", "/proc", "/sys/devices/system/cpu"}

// command runs one command of the recipe in the tree. Whatever it starts ends
// with it, and with the service.
func (s *steps) command(c Command) error {
	told, err := json.Marshal(cell{Tree: s.tree, Tmp: s.tmp, User: s.User, Command: c})
	if err != nil {
		return err
	}
	// A process is killed with the thread that started it, so the thread stays.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	cmd, err := s.start(told, true)
	if errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.ENOSPC) {
		cmd, err = s.start(told, false) // no namespaces here
		defer KillStragglers(s.tmp)
	}
	if err != nil {
		return fmt.Errorf("could not start: %w", err)
	}
	ended := context.AfterFunc(s.ctx, caught.Func("the end of a bake", func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }))
	defer ended()
	err = cmd.Wait()
	_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // what it left in its group
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		return err
	}
	status := exit.Sys().(syscall.WaitStatus)
	switch {
	case status.Signaled():
		return fmt.Errorf("it was killed by signal %d (%s)", status.Signal(), status.Signal())
	case status.ExitStatus() == cannotConfine:
		return errors.New("it was not run, because it could not be confined; the log says why")
	}
	return fmt.Errorf("it ended with status %d", status.ExitStatus())
}

func (s *steps) start(told []byte, namespaces bool) (*exec.Cmd, error) {
	cmd := exec.Command(s.Helper[0], s.Helper[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(told), s.Log, s.Log
	cmd.Dir = s.tree
	cmd.Env = []string{
		"PATH=/usr/local/bin:/usr/bin:/bin", "LANG=C.UTF-8", "TZ=UTC", "HOME=" + s.tree, "TMPDIR=" + s.tmp, "SOURCE_DATE_EPOCH=0",
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGKILL}
	if namespaces {
		// In a process namespace of its own, all that it starts ends with it; in a
		// network namespace of its own it reaches nobody.
		cmd.SysProcAttr.Cloneflags = syscall.CLONE_NEWPID | syscall.CLONE_NEWNET | syscall.CLONE_NEWIPC
		if os.Geteuid() != 0 {
			cmd.SysProcAttr.Cloneflags |= syscall.CLONE_NEWUSER
			cmd.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: os.Getuid(), HostID: os.Getuid(), Size: 1}}
			cmd.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: os.Getgid(), HostID: os.Getgid(), Size: 1}}
		}
	}
	return cmd, cmd.Start()
}

// KillStragglers kills whatever a command that ran below dir has left behind. It
// is known by where it was told to put temporary files.
func KillStragglers(dir string) {
	environments, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, file := range environments {
		raw, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		for variable := range bytes.SplitSeq(raw, []byte{0}) {
			place, ok := strings.CutPrefix(string(variable), "TMPDIR=")
			if !ok || (place != dir && !strings.HasPrefix(place, dir+"/")) {
				continue
			}
			if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file))); err == nil {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
	}
}

// mostProcesses is how many processes and threads commands may have at once.
const mostProcesses = 512

// cannotConfine is the status of a helper that did not run its command.
const cannotConfine = 125

// Confined is the helper: it gives up what a bake must not have and becomes
// the command. It does not return.
func Confined() {
	runtime.LockOSThread() // what is given up is given up by the thread that becomes the command
	if err := confine(os.Stdin); err != nil {
		fmt.Fprintln(os.Stderr, "the command is not run:", err)
	}
	os.Exit(cannotConfine)
}

func confine(in *os.File) error {
	var c cell
	if err := json.NewDecoder(in).Decode(&c); err != nil {
		return fmt.Errorf("read what to run: %w", err)
	}
	null, err := os.Open(os.DevNull)
	if err != nil {
		return err
	}
	if err := unix.Dup2(int(null.Fd()), 0); err != nil {
		return err
	}
	unix.Umask(0o022)
	if err := errors.Join(
		unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{}),
		unix.Setrlimit(unix.RLIMIT_FSIZE, &unix.Rlimit{Cur: 8 << 30, Max: 8 << 30})); err != nil {
		return fmt.Errorf("set its limits: %w", err)
	}
	if c.User >= 0 { // which it has for itself; else those of who runs the service would count
		if err := unix.Setrlimit(unix.RLIMIT_NPROC, &unix.Rlimit{Cur: mostProcesses, Max: mostProcesses}); err != nil {
			return fmt.Errorf("set its limits: %w", err)
		}
	}
	if err := become(c.User); err != nil {
		return fmt.Errorf("become an unprivileged user: %w", err)
	}
	// Another user's process no longer dies with its parent unless it asks again.
	if err := unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(syscall.SIGKILL), 0, 0, 0); err != nil {
		return err
	}
	if err := shutIn(c.Tree, c.Tmp); err != nil {
		return fmt.Errorf("confine it to its tree (this needs Landlock, Linux 5.19 or later): %w", err)
	}
	program := c.Command[0]
	if !strings.Contains(program, "/") {
		if program, err = exec.LookPath(program); err != nil {
			return err
		}
	} else if !filepath.IsAbs(program) {
		program = filepath.Join(c.Tree, program)
	}
	return fmt.Errorf("%s: %w", c.Command[0], syscall.Exec(program, c.Command, os.Environ()))
}

// become changes the user of this thread, which is the one that goes on.
func become(user int) error {
	if user < 0 {
		return nil
	}
	for _, call := range [][2]uintptr{{unix.SYS_SETGROUPS, 0}, {unix.SYS_SETGID, uintptr(user)}, {unix.SYS_SETUID, uintptr(user)}} {
		if _, _, errno := unix.RawSyscall(call[0], call[1], 0, 0); errno != 0 {
			return errno
		}
	}
	return nil
}

// Rights of Landlock that a bake has, by place; see landlock(7).
const (
	toRead  = landlock.AccessFSExecute | landlock.AccessFSReadFile | landlock.AccessFSReadDir
	toFiles = landlock.AccessFSReadFile | landlock.AccessFSWriteFile | landlock.AccessFSTruncate
)

// shutIn lets this thread write below the given directories only, read besides
// them only the machine's own programs, and reach nobody.
func shutIn(writable ...string) error {
	abi, err := landlock.LandlockGetABIVersion()
	if err != nil {
		return err
	}
	if abi < 2 {
		return fmt.Errorf("the kernel has version %d of it and 2 is needed", abi)
	}
	all := uint64(landlock.AccessFSRefer<<1 - 1)
	attr := landlock.RulesetAttr{HandledAccessFS: all}
	if abi >= 3 {
		attr.HandledAccessFS |= landlock.AccessFSTruncate
	}
	if abi >= 4 {
		attr.HandledAccessNet = landlock.AccessNetBindTCP | landlock.AccessNetConnectTCP
	}
	if abi >= 6 {
		attr.Scoped = landlock.ScopeAbstractUnixSocket | landlock.ScopeSignal
	}
	rules, err := landlock.LandlockCreateRuleset(&attr, 0)
	if err != nil {
		return err
	}
	allow := func(rights uint64, must bool, places ...string) error {
		for _, place := range places {
			fd, err := unix.Open(place, unix.O_PATH|unix.O_CLOEXEC, 0)
			if err != nil && must {
				return fmt.Errorf("%s: %w", place, err)
			}
			if err != nil {
				continue
			}
			err = landlock.LandlockAddPathBeneathRule(rules, &landlock.PathBeneathAttr{AllowedAccess: rights & attr.HandledAccessFS, ParentFd: fd}, 0)
			if err := errors.Join(err, unix.Close(fd)); err != nil {
				return fmt.Errorf("%s: %w", place, err)
			}
		}
		return nil
	}
	if err := errors.Join(allow(attr.HandledAccessFS, true, writable...), allow(toRead, false, readable...),
		allow(toFiles, false, "/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom")); err != nil {
		return err
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return err
	}
	return landlock.LandlockRestrictSelf(rules, 0)
}
