package process

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"unitas/internal/wary"
)

// Files has do look at the machine's files.
func (d *Driver) Files(id string, do func(dir string) error) error {
	if filepath.Base(id) != id {
		return os.ErrNotExist
	}
	return do(filepath.Join(d.dir(id), "root"))
}

// Memory is the peak of the resident set of the machine's first process, from
// VmHWM of /proc/PID/status.
func (d *Driver) Memory(id string) (int64, bool) {
	d.mu.Lock()
	r := d.machines[id]
	d.mu.Unlock()
	if r == nil {
		return 0, false
	}
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", r.id.PID))
	if err != nil {
		return 0, false
	}
	_, rest, ok := strings.Cut(string(raw), "VmHWM:")
	var kib int64
	if n, err := fmt.Sscanf(rest, "%d kB", &kib); !ok || n != 1 || err != nil {
		return 0, false
	}
	return kib << 10, true
}

// BootLog reads the end of what the machine wrote.
func (d *Driver) BootLog(id string, max int64) ([]byte, error) {
	if filepath.Base(id) != id {
		return nil, os.ErrNotExist
	}
	f, err := wary.Open(d.bootLog(id)) // without users of their own machines may write there
	if errors.Is(err, os.ErrNotExist) {
		f, err = wary.Open(d.keptLog(id))
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.Size() > max {
		if _, err := f.Seek(-max, io.SeekEnd); err != nil {
			return nil, err
		}
	}
	return io.ReadAll(io.LimitReader(f, max))
}
