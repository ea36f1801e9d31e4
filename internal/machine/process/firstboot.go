package process

import (
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"unitas/internal/machine"
	"unitas/internal/userdata"
	"unitas/internal/wary"
)

// starter runs a machine that has user data: once at its first boot what the
// user data says, under a heading of its own in the boot log, and then, in the
// same process, the workload. It survives the service, so a user data that runs
// when the service is killed runs to its end, and once.
const starter = `
run=$1; shift
if [ ! -s "$run/first-boot" ]; then
	echo "── user data"
	began=$(date +%s%3N)
	"$run/commands"
	status=$?
	took=$(($(date +%s%3N) - began))
	echo "── user data ended with status $status after $took ms"
	echo $status > "$run/first-boot"
fi
status=$(cat "$run/first-boot")
if [ "$status" != 0 ]; then
	echo "── the workload is not started, because the user data failed with status $status"
	exit 1
fi
echo "── workload: $*"
exec "$@"
`

// firstBoot lays out what the user data asks for.
func (d *Driver) firstBoot(spec machine.Spec, user int) error {
	plan, err := userdata.Parse(spec.UserData)
	if err != nil {
		return fmt.Errorf("the user data is not understood: %w", err)
	}
	if plan.Empty() {
		return nil
	}
	run := filepath.Join(d.dir(spec.ID), "run")
	script := plan.Script
	if script == "" {
		script = userdata.Shell(plan.Commands)
	}
	if err := errors.Join(os.WriteFile(filepath.Join(run, "commands"), []byte(script), 0o755), os.WriteFile(filepath.Join(run, "first-boot"), nil, 0o600)); err != nil {
		return err
	}
	if user >= 0 {
		if err := os.Chown(filepath.Join(run, "first-boot"), user, user); err != nil {
			return err
		}
	}
	if len(plan.Files) == 0 {
		return nil
	}
	log, err := d.openLog(record{Spec: spec, User: max(0, user)})
	if err != nil {
		return err
	}
	defer log.Close()
	fmt.Fprintln(log, "── user data: files")
	root, err := os.OpenRoot(filepath.Join(d.dir(spec.ID), "root"))
	if err != nil {
		return err
	}
	defer root.Close()
	for _, f := range plan.Files {
		if err := writeFile(root, f, user); err != nil {
			return fmt.Errorf("user data: write /%s: %w", f.Path, err)
		}
		fmt.Fprintf(log, "/%s, %d bytes, mode %04o\n", f.Path, len(f.Content), f.Mode)
	}
	return nil
}

// writeFile writes one file below the machine's root, which no link leads out of.
func writeFile(root *os.Root, f userdata.File, user int) error {
	own := func(name string) error {
		if user < 0 {
			return nil
		}
		return root.Lchown(name, user, user)
	}
	made := "."
	for _, part := range strings.Split(path.Dir(f.Path), "/") {
		made = path.Join(made, part)
		if _, err := root.Lstat(made); err == nil {
			continue
		}
		if err := errors.Join(root.Mkdir(made, 0o755), own(made)); err != nil {
			return err
		}
	}
	flags := os.O_CREATE | os.O_WRONLY | os.O_TRUNC
	if f.Append {
		flags = os.O_CREATE | os.O_WRONLY | os.O_APPEND
	}
	file, err := root.OpenFile(f.Path, flags, f.Mode|0o600)
	if err != nil {
		return err
	}
	_, err = file.Write(f.Content)
	return errors.Join(err, file.Chmod(f.Mode|0o600), file.Close(), own(f.Path))
}

// command is what a machine starts.
func (d *Driver) command(spec machine.Spec) []string {
	run := filepath.Join(d.dir(spec.ID), "run")
	if _, err := os.Lstat(filepath.Join(run, "first-boot")); err != nil {
		return spec.Start
	}
	return append([]string{"/bin/sh", "-c", starter, "first-boot", run}, spec.Start...)
}

// failedFirstBoot reports how the user data of a machine failed.
func (d *Driver) failedFirstBoot(id string) (status int, failed bool) {
	raw, err := wary.Read(filepath.Join(d.dir(id), "run", "first-boot"), 16) // its user may have made anything of it
	if err != nil {
		return 0, false
	}
	status, err = strconv.Atoi(strings.TrimSpace(string(raw)))
	return status, err == nil && status != 0
}

// keptLogs is how many boot logs of machines that are gone are kept.
const keptLogs = 500

func (d *Driver) keptLog(id string) string {
	return filepath.Join(filepath.Dir(d.Dir), "boot-logs", id+".log")
}

// keepLog moves the boot log of a machine aside before its directory goes, and
// forgets the oldest. That it fails costs a log and no machine.
func (d *Driver) keepLog(id string) {
	dir := filepath.Dir(d.keptLog(id))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return
	}
	_ = cutLog(d.bootLog(id), logAfter, logAfter)
	if os.Rename(d.bootLog(id), d.keptLog(id)) != nil {
		return
	}
	forgetOldest(dir, keptLogs, logsAfter)
}

// forgetOldest removes the oldest files of a directory until there are so many, and so
// many bytes, at most.
func forgetOldest(dir string, most int, bytes int64) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	var files []os.FileInfo
	for _, e := range entries {
		if info, err := e.Info(); err == nil {
			files = append(files, info)
		}
	}
	slices.SortFunc(files, func(a, b os.FileInfo) int { return b.ModTime().Compare(a.ModTime()) })
	for i, l := range files {
		if bytes -= l.Size(); i >= most || bytes < 0 {
			_ = os.Remove(filepath.Join(dir, l.Name()))
		}
	}
}
