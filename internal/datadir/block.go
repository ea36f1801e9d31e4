package datadir

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Blocks is how many blocks of loopback addresses and user ids there are on a host, and
// BlockSize how many machines each is good for.
const (
	Blocks    = 32
	BlockSize = 8 * 254
)

// blocksDir is where all services of a host see which blocks are taken, by file.
var blocksDir = "/var/tmp/unitas-blocks"

// blocksWait is how long one that notes its own waits for others that do.
const blocksWait = 30 * time.Second

// Block is the part of the host's loopback addresses and user ids that a data directory
// owns: machines of two services on one host have neither in common.
type Block int

// FirstUser is the first of the users that machines have.
const FirstUser = 200_000

const (
	usersEach = 4096
	firstBake = 199_900 // who runs the commands of recipes
)

// Address is the address of the number (modulo BlockSize) in the network 127.net.0.0/16.
func (b Block) Address(net int, number int64) string {
	n := number % BlockSize
	return fmt.Sprintf("127.%d.%d.%d", net, int64(b)*8+n/254, n%254+1)
}

// User is the user id of a machine, by the number of its address.
func (b Block) User(number int64) int { return FirstUser + int(b)*usersEach + int(number%BlockSize) }

// HasUser reports whether a user id is one of the block's machines.
func (b Block) HasUser(user int) bool {
	first := FirstUser + int(b)*usersEach
	return user >= first && user < first+usersEach
}

// BakeUser is the user id of whoever runs the commands of recipes.
func (b Block) BakeUser() int { return firstBake + int(b) }

// OwnBlock returns the block that the data directory owns, and has it own one when it
// has none yet: one that no other directory owns and nothing on the host uses. A
// directory that is gone owns nothing.
func OwnBlock(dir string) (Block, error) {
	if err := os.MkdirAll(blocksDir, 0o777); err != nil {
		return 0, fmt.Errorf("make the place where services note their addresses: %w", err)
	}
	_ = os.Chmod(blocksDir, 0o777|fs.ModeSticky) // its owner did; others may not
	ctx, cancel := context.WithTimeout(context.Background(), blocksWait)
	defer cancel()
	lock, err := Lock(ctx, filepath.Join(blocksDir, "lock"), syscall.LOCK_EX)
	if err != nil {
		return 0, fmt.Errorf("lock the place where services note their addresses: %w", err)
	}
	defer lock.Close()
	_ = os.Chmod(lock.Name(), 0o666)
	if raw, err := os.ReadFile(filepath.Join(dir, "block")); err == nil {
		n, err := strconv.Atoi(strings.TrimSpace(string(raw)))
		if err == nil && n >= 0 && n < Blocks && ownerOf(n) == dir {
			return Block(n), nil
		}
	}
	used := inUse()
	var owners []string
	for n := range Blocks {
		if owner := ownerOf(n); owner != "" && owner != dir {
			owners = append(owners, owner)
			continue
		}
		if used[n] != "" {
			owners = append(owners, used[n])
			continue
		}
		name := filepath.Join(blocksDir, strconv.Itoa(n))
		if err := os.Remove(name); err != nil && !errors.Is(err, os.ErrNotExist) {
			owners = append(owners, name+", which cannot be removed")
			continue
		}
		if err := WriteFile(name, []byte(dir+"\n"), 0o644); err != nil {
			return 0, err
		}
		return Block(n), WriteFile(filepath.Join(dir, "block"), fmt.Appendf(nil, "%d\n", n), 0o644)
	}
	return 0, fmt.Errorf("all %d blocks of addresses for machines on this host are taken, by %s; remove data directories that are not needed any more", Blocks, strings.Join(owners, ", "))
}

// ownerOf is the directory that owns a block, "" when none does: it has to say so
// itself.
func ownerOf(n int) string {
	raw, err := os.ReadFile(filepath.Join(blocksDir, strconv.Itoa(n)))
	if err != nil {
		return ""
	}
	dir := strings.TrimSpace(string(raw))
	own, err := os.ReadFile(filepath.Join(dir, "block"))
	if err != nil || strings.TrimSpace(string(own)) != strconv.Itoa(n) {
		return ""
	}
	return dir
}

// inUse tells of every block that something on the host uses what it is: processes of
// its users, or sockets that listen on its addresses.
func inUse() map[int]string {
	used := map[int]string{}
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		info, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
		if err != nil {
			continue
		}
		stat, ok := info.Sys().(*syscall.Stat_t)
		if !ok || stat.Uid < FirstUser || stat.Uid >= FirstUser+Blocks*usersEach {
			continue
		}
		used[int(stat.Uid-FirstUser)/usersEach] = fmt.Sprintf("process %d of user %d", pid, stat.Uid)
	}
	f, err := os.Open("/proc/net/tcp")
	if err != nil {
		return used
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		fields := strings.Fields(lines.Text())
		if len(fields) < 4 || fields[3] != "0A" { // only those that listen
			continue
		}
		hex, _, _ := strings.Cut(fields[1], ":")
		ip, err := strconv.ParseUint(hex, 16, 32)
		if err != nil || ip&0xff != 127 || ip>>8&0xff < 64 {
			continue
		}
		address := fmt.Sprintf("%d.%d.%d.%d", ip&0xff, ip>>8&0xff, ip>>16&0xff, ip>>24)
		used[int(ip>>16&0xff)/8] = "whoever listens on " + address
	}
	return used
}
