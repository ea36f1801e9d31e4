package process

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"unitas/internal/machine"
)

// clockTicks is how many a second has in what the kernel tells of processes.
const clockTicks = 100

// burnt is what one process has used.
type burnt struct {
	parent int
	ticks  int64 // of itself and of those that it waited for
	pages  int64 // of memory, now
}

// Usage is what every machine that runs has used. The processor's time is that of its control
// group where there is one, and else of its process and all below that.
func (d *Driver) Usage(ctx context.Context) (map[string]machine.Usage, error) {
	d.mu.Lock()
	roots := make(map[string]int, len(d.machines))
	launches := make(map[string]int, len(d.machines))
	for id, r := range d.machines {
		roots[id], launches[id] = r.id.PID, r.launch
	}
	d.mu.Unlock()
	if len(roots) == 0 {
		return nil, nil
	}
	all, below, err := processes(ctx)
	if err != nil {
		return nil, err
	}
	used := make(map[string]machine.Usage, len(roots))
	page := int64(os.Getpagesize())
	for id, pid := range roots {
		if _, alive := all[pid]; !alive {
			continue
		}
		u := machine.Usage{Launch: launches[id], Refused: d.groups.refused(id)}
		for line := []int{pid}; len(line) > 0; {
			p := line[0]
			line = append(line[1:], below[p]...)
			u.CPUSeconds += float64(all[p].ticks) / clockTicks
			u.MemoryBytes += all[p].pages * page
		}
		if seconds, known := d.groups.burnt(id); known {
			u.CPUSeconds = seconds
		}
		used[id] = u
	}
	return used, nil
}

// processes are all that there are, and which are below which.
func processes(ctx context.Context) (all map[int]burnt, below map[int][]int, err error) {
	dir, err := os.Open("/proc")
	if err != nil {
		return nil, nil, err
	}
	defer dir.Close()
	names, err := dir.Readdirnames(-1)
	if err != nil {
		return nil, nil, err
	}
	all, below = make(map[int]burnt, len(names)), make(map[int][]int, len(names))
	for _, name := range names {
		pid, err := strconv.Atoi(name)
		if err != nil {
			continue
		}
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		raw, err := os.ReadFile("/proc/" + name + "/stat")
		if err != nil {
			continue // it ended meanwhile
		}
		if b, ok := readStat(raw); ok {
			all[pid] = b
			below[b.parent] = append(below[b.parent], pid)
		}
	}
	return all, below, nil
}

// readStat reads what the kernel tells of a process (proc_pid_stat(5)).
func readStat(raw []byte) (b burnt, ok bool) {
	k := bytes.LastIndexByte(raw, ')') // its name may have spaces and brackets
	if k < 0 {
		return b, false
	}
	fields := strings.Fields(string(raw[k+1:]))
	if len(fields) < 22 {
		return b, false
	}
	b.parent, _ = strconv.Atoi(fields[1])
	for _, f := range fields[11:15] { // utime, stime, cutime, cstime
		n, _ := strconv.ParseInt(f, 10, 64)
		b.ticks += n
	}
	b.pages, _ = strconv.ParseInt(fields[21], 10, 64)
	return b, true
}

// burnt is the processor's time of a machine's control group.
func (g *groups) burnt(id string) (seconds float64, known bool) {
	if g == nil || g.dir == "" {
		return 0, false
	}
	raw, err := os.ReadFile(filepath.Join(g.of(id), "cpu.stat"))
	if err != nil {
		return 0, false
	}
	_, rest, ok := strings.Cut(string(raw), "usage_usec ")
	line, _, _ := strings.Cut(rest, "\n")
	n, err := strconv.ParseInt(strings.TrimSpace(line), 10, 64)
	return float64(n) / 1e6, ok && err == nil
}
